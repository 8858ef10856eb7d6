//! Word documents: headings by their styles, lists with their numbers, tables with spanning cells, footnotes, links.

use std::collections::HashMap;
use std::rc::Rc;

use logothete_core::document::{
    BlockKind, Document, DocumentBuilder, InlineLink, Input, Made, Parser, Piece, Span, TableCell, TableRow,
};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::{Relation, properties, relations};
use crate::archive::Archive;
use crate::xml::{self, Element, Node};

const BODY: &str = "word/document.xml";
const MEDIA_TYPE: &str = "application/vnd.openxmlformats-officedocument.wordprocessingml.document";
/// Markers of lists that are longer than this, in bytes, are left out.
const MAX_MARKER: usize = 100;
/// A cell spans no more columns than this, whatever it says.
const MAX_SPANNED: usize = 100;

/// Reads Word documents (`.docx`).
#[derive(Clone, Copy, Debug, Default)]
pub struct DocxParser {
    comments: bool,
}

impl DocxParser {
    /// Sets whether comments in the margin are read; by default they are not.
    #[must_use]
    pub fn comments(mut self, comments: bool) -> Self {
        self.comments = comments;
        self
    }
}

impl Parser for DocxParser {
    fn media_types(&self) -> &[&str] {
        &[MEDIA_TYPE]
    }

    fn endings(&self) -> &[&str] {
        &["docx", "docm"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        Archive::has(bytes, BODY)
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        bytes.starts_with(b"PK")
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["docx 3".to_owned(), self.comments.to_string()])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let mut archive = Archive::open(input.bytes, input.budget)?;
        let mut builder = DocumentBuilder::within(input.name, MEDIA_TYPE, input.budget);
        properties(&mut archive, input.budget, &mut builder)?;
        let tree = xml::tree(&archive.needed(BODY)?, input.budget)?;
        let mut part = |name: &str| -> Result<Option<Element>> {
            archive.part(name)?.map(|bytes| xml::tree(&bytes, input.budget)).transpose()
        };
        let styles = part("word/styles.xml")?.map(|tree| styles(&tree)).unwrap_or_default();
        let lists = part("word/numbering.xml")?.map(|tree| Lists::of(&tree)).unwrap_or_default();
        let footnotes = part("word/footnotes.xml")?.map(|tree| notes(&tree, "footnote")).unwrap_or_default();
        let endnotes = part("word/endnotes.xml")?.map(|tree| notes(&tree, "endnote")).unwrap_or_default();
        let comments = part("word/comments.xml")?.filter(|_| self.comments);
        let relations = relations(&mut archive, BODY, input.budget)?;
        let mut reader = Reader {
            builder: &mut builder,
            styles,
            lists,
            footnotes,
            endnotes,
            relations,
            pending: Vec::new(),
            noted: 0,
            numbers: HashMap::new(),
        };
        if let Some(body) = tree.child("body") {
            reader.blocks(body, 0);
        }
        for comment in comments.iter().flat_map(|tree| tree.all("comment")) {
            let author = comment.attribute("author").unwrap_or("somebody");
            let text = comment.descendants("t").iter().map(|t| t.text()).collect::<String>();
            reader.builder.block(BlockKind::Footnote, &format!("Comment by {author}: {text}"));
        }
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the document holds no text"));
        }
        Ok(builder.finish())
    }
}

/// The effect of a style on its paragraphs.
#[derive(Clone, Debug, Default)]
struct Style {
    heading: Option<u8>,
    quotation: bool,
    caption: bool,
    code: bool,
    list: Option<(String, usize)>,
}

/// Returns the styles by their ids; what a style does not say, the one that it is based on does.
fn styles(tree: &Element) -> HashMap<String, Style> {
    let all: HashMap<&str, &Element> =
        tree.all("style").filter_map(|style| Some((style.attribute("styleId")?, style))).collect();
    let of = |id: &str| -> Style {
        let mut found = Style::default();
        let mut next = all.get(id).copied();
        // No style is based on others this many steps deep, unless in circles.
        for _ in 0..12 {
            let Some(style) = next else { break };
            let name = style.child("name").and_then(|name| name.attribute("val")).unwrap_or_default().to_lowercase();
            let level = style.at(&["pPr", "outlineLvl"]).and_then(|level| level.attribute("val"));
            let by_name = name.strip_prefix("heading ").and_then(|level| level.parse().ok());
            let by_level =
                level.and_then(|level| level.parse::<u8>().ok()).filter(|&level| level < 9).map(|level| level + 1);
            found.heading = found.heading.or(by_name).or(by_level).or((name == "title").then_some(1));
            found.quotation |= name.contains("quote");
            found.caption |= name == "caption";
            found.code |= name.contains("code") || name.contains("preformatted") || name.contains("macro");
            found.list = found.list.or_else(|| list_of(style.child("pPr")?));
            next = style.child("basedOn").and_then(|based| all.get(based.attribute("val")?).copied());
        }
        found
    };
    all.keys().map(|id| ((*id).to_owned(), of(id))).collect()
}

/// Returns the list that properties put a paragraph in, and how deep.
fn list_of(properties: &Element) -> Option<(String, usize)> {
    let numbering = properties.child("numPr")?;
    let id = numbering.child("numId")?.attribute("val")?.to_owned();
    let level = numbering.child("ilvl").and_then(|level| level.attribute("val")?.parse().ok()).unwrap_or(0);
    Some((id, level))
}

/// The format, the pattern and the first number of a level of a list.
type Level = (String, String, u32);

/// The lists of a document and where their counting is.
#[derive(Debug, Default)]
struct Lists {
    /// The levels of each list. Many lists may share them.
    levels: HashMap<String, Rc<Vec<Level>>>,
    counts: HashMap<String, Vec<u32>>,
}

impl Lists {
    fn of(tree: &Element) -> Self {
        let value = |element: &Element, name: &str| {
            element.child(name).and_then(|child| child.attribute("val")).unwrap_or_default().to_owned()
        };
        let patterns: HashMap<&str, Rc<Vec<Level>>> = tree
            .all("abstractNum")
            .filter_map(|list| {
                let levels = list.all("lvl").map(|level| {
                    (value(level, "numFmt"), value(level, "lvlText"), value(level, "start").parse().unwrap_or(1))
                });
                Some((list.attribute("abstractNumId")?, Rc::new(levels.collect())))
            })
            .collect();
        let levels = tree.all("num").filter_map(|list| {
            let pattern = list.child("abstractNumId")?.attribute("val")?;
            Some((list.attribute("numId")?.to_owned(), patterns.get(pattern)?.clone()))
        });
        Self { levels: levels.collect(), counts: HashMap::new() }
    }

    /// Returns the marker of the next item of a list, such as `3.` or `(b)`; `None` for a bullet.
    fn next(&mut self, list: &str, level: usize) -> Option<String> {
        let levels = self.levels.get(list)?;
        let level = level.min(levels.len().checked_sub(1)?);
        let starts: Vec<u32> = levels.iter().map(|(_, _, start)| *start).collect();
        let counts = self
            .counts
            .entry(list.to_owned())
            .or_insert_with(|| starts.iter().map(|start| start.saturating_sub(1)).collect());
        counts[level] = counts[level].saturating_add(1);
        for deeper in level + 1..counts.len() {
            counts[deeper] = starts[deeper].saturating_sub(1);
        }
        let (format, pattern, _) = &levels[level];
        if format == "bullet" || format == "none" {
            return None;
        }
        let mut marker = pattern.clone();
        for (index, (format, _, _)) in levels.iter().enumerate().take(level + 1) {
            marker = marker.replace(&format!("%{}", index + 1), &counted(counts[index].max(1), format));
        }
        Some(marker)
    }
}

fn counted(number: u32, format: &str) -> String {
    let letter = |first: u8| char::from(first + ((number - 1) % 26) as u8).to_string();
    match format {
        "lowerLetter" => letter(b'a'),
        "upperLetter" => letter(b'A'),
        "lowerRoman" => crate::roman(number).to_lowercase(),
        "upperRoman" => crate::roman(number),
        _ => number.to_string(),
    }
}

/// Returns the texts of notes by their ids.
fn notes(tree: &Element, name: &str) -> HashMap<String, String> {
    let written = tree.all(name).filter(|note| note.attribute("type").is_none());
    written
        .filter_map(|note| {
            let text: Vec<String> = note.descendants("p").iter().map(|p| paragraph_text(p)).collect();
            Some((note.attribute("id")?.to_owned(), text.join(" ").trim().to_owned()))
        })
        .collect()
}

/// Returns the text of a paragraph without its links and notes.
fn paragraph_text(paragraph: &Element) -> String {
    paragraph.descendants("t").iter().map(|t| t.text()).collect()
}

struct Reader<'b> {
    builder: &'b mut DocumentBuilder,
    styles: HashMap<String, Style>,
    lists: Lists,
    footnotes: HashMap<String, String>,
    endnotes: HashMap<String, String>,
    relations: HashMap<String, Relation>,
    /// Notes that were referred to and wait for their paragraph to end.
    pending: Vec<String>,
    noted: usize,
    /// The numbers of the notes that were written, by the kind and the id of their references. One that is referred to again is not written again.
    numbers: HashMap<(String, String), usize>,
}

/// The text of a paragraph as it grows.
#[derive(Default)]
struct Text {
    text: String,
    links: Vec<InlineLink>,
}

impl Reader<'_> {
    fn blocks(&mut self, container: &Element, depth: usize) {
        for element in container.elements() {
            if self.builder.is_full() {
                return;
            }
            match element.name.as_str() {
                "p" => self.paragraph(element),
                "tbl" => self.table(element),
                // Content controls, and what was added under review.
                "sdt" | "sdtContent" | "ins" | "smartTag" | "customXml" if depth < 50 => {
                    self.blocks(element, depth + 1);
                }
                _ => {}
            }
        }
    }

    fn paragraph(&mut self, paragraph: &Element) {
        let properties = paragraph.child("pPr");
        let style = properties
            .and_then(|properties| properties.child("pStyle")?.attribute("val"))
            .and_then(|id| self.styles.get(id).cloned())
            .unwrap_or_default();
        let own_level = properties
            .and_then(|properties| properties.child("outlineLvl")?.attribute("val")?.parse::<u8>().ok())
            .filter(|&level| level < 9);
        let list = properties.and_then(list_of).or(style.list.clone()).filter(|(id, _)| id != "0");
        let mut text = Text::default();
        self.runs(paragraph, &mut text);
        let marker = list.and_then(|(id, level)| {
            Some((self.lists.next(&id, level), level)).filter(|_| self.lists.levels.contains_key(&id))
        });
        let heading = style.heading.or(own_level.map(|level| level + 1));
        let kind = match heading {
            Some(_) => BlockKind::Heading,
            None if marker.is_some() => BlockKind::ListItem,
            None if style.caption => BlockKind::Caption,
            None if style.quotation => BlockKind::Quotation,
            None if style.code => BlockKind::Code,
            None => BlockKind::Paragraph,
        };
        if let Some((Some(marker), _)) = marker
            && marker.len() <= MAX_MARKER
            && !text.text.trim().is_empty()
        {
            let added = marker.len() + 1;
            text.text = format!("{marker} {}", text.text);
            for link in &mut text.links {
                link.span = Span::new(link.span.start + added, link.span.end + added);
            }
        }
        let piece = Piece { text: text.text, links: text.links, ..Piece::default() };
        self.builder.pieces(kind, heading.unwrap_or(0), &[piece]);
        self.write_notes();
        // Text boxes are read at their anchors.
        for content in text_boxes(paragraph) {
            self.blocks(content, 1);
        }
    }

    fn write_notes(&mut self) {
        for note in std::mem::take(&mut self.pending) {
            self.builder.block(BlockKind::Footnote, &note);
        }
    }

    /// Adds the text of runs; what was deleted under review is left out.
    fn runs(&mut self, container: &Element, to: &mut Text) {
        for node in &container.children {
            let Node::Element(element) = node else { continue };
            match element.name.as_str() {
                "t" => to.text.push_str(&element.text()),
                "tab" | "ptab" => to.text.push('\t'),
                "br" | "cr" if element.attribute("type") != Some("page") => to.text.push('\n'),
                "noBreakHyphen" => to.text.push('-'),
                "footnoteReference" | "endnoteReference" => {
                    let known = if element.name == "endnoteReference" { &self.endnotes } else { &self.footnotes };
                    if let Some((id, note)) = element.attribute("id").and_then(|id| Some((id, known.get(id)?))) {
                        let key = (element.name.clone(), id.to_owned());
                        let number = *self.numbers.entry(key).or_insert_with(|| {
                            self.noted += 1;
                            self.pending.push(format!("{} {note}", raised(self.noted)));
                            self.noted
                        });
                        to.text.push_str(&raised(number));
                    }
                }
                "hyperlink" => {
                    let start = to.text.len();
                    self.runs(element, to);
                    let target = element.attribute("id").and_then(|id| self.relations.get(id));
                    // Many links may share one target.
                    if let Some(relation) = target.filter(|one| self.builder.may_make(Made::Text, one.target.len())) {
                        let span = Span::new(start, to.text.len());
                        to.links.push(InlineLink { span, target: relation.target.clone() });
                    }
                }
                // Formulas: their letters in order.
                "oMath" | "oMathPara" => to.text.push_str(&paragraph_text(element)),
                "del" | "moveFrom" | "pPr" | "rPr" | "instrText" | "drawing" | "pict" | "AlternateContent"
                | "delText" => {}
                _ => self.runs(element, to),
            }
        }
    }

    fn table(&mut self, table: &Element) {
        let mut rows: Vec<TableRow> = Vec::new();
        let mut header_rows = 0;
        for row in table.all("tr") {
            let is_header = row.at(&["trPr", "tblHeader"]).is_some_and(|header| header.attribute("val") != Some("0"));
            if is_header && header_rows == rows.len() {
                header_rows += 1;
            }
            let skipped =
                row.at(&["trPr", "gridBefore"]).and_then(|skipped| skipped.attribute("val")?.parse().ok()).unwrap_or(0);
            let mut cells: Vec<TableCell> = vec![TableCell::Text(String::new()); usize::min(skipped, MAX_SPANNED)];
            for cell in row.elements().filter(|element| element.name == "tc") {
                let properties = cell.child("tcPr");
                let span = properties
                    .and_then(|properties| properties.child("gridSpan")?.attribute("val")?.parse::<usize>().ok())
                    .unwrap_or(1)
                    .clamp(1, MAX_SPANNED);
                let merged = properties.and_then(|properties| properties.child("vMerge"));
                if merged.is_some_and(|merged| merged.attribute("val") != Some("restart")) {
                    cells.extend((0..span).map(|_| TableCell::Above));
                    continue;
                }
                let mut text = Text::default();
                for paragraph in cell.descendants("p") {
                    if !text.text.is_empty() {
                        text.text.push(' ');
                    }
                    self.runs(paragraph, &mut text);
                }
                cells.push(TableCell::Text(text.text));
                cells.extend((1..span).map(|_| TableCell::Left));
            }
            if !self.builder.may_make(Made::Cells, cells.len()) {
                return;
            }
            rows.push(TableRow { cells, ..TableRow::default() });
        }
        // Tables of one column or one row are there for the looks.
        let columns = rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
        if columns < 2 || rows.len() < 2 {
            for cell in table.outermost("tc") {
                self.blocks(cell, 1);
            }
            return;
        }
        self.builder.table_rows(header_rows.max(1).min(rows.len() - 1), &rows);
        self.write_notes();
    }
}

/// Returns the contents of text boxes anchored in a paragraph, each once. A box inside another is anchored in a paragraph of that.
fn text_boxes(paragraph: &Element) -> Vec<&Element> {
    // The same box is written twice, the second time for older programs.
    let choices = paragraph.outermost("Choice");
    let modern: Vec<&Element> = choices.iter().flat_map(|choice| choice.outermost("txbxContent")).collect();
    if modern.is_empty() { paragraph.outermost("txbxContent") } else { modern }
}

/// Returns the mark of a note.
fn raised(number: usize) -> String {
    let digits = number.to_string();
    digits.bytes().filter_map(|digit| "⁰¹²³⁴⁵⁶⁷⁸⁹".chars().nth(usize::from(digit - b'0'))).collect()
}
