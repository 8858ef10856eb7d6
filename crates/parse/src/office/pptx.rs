//! Slides: title first, then the body in its order, tables, and the speaker's notes. A slide counts as a page.

use logothete_core::document::{
    BlockKind, Document, DocumentBuilder, Input, PageArea, Parser, Piece, PieceLine, Span, TableCell, TableRow,
};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::{properties, relations};
use crate::archive::Archive;
use crate::xml::{self, Element};

const DECK: &str = "ppt/presentation.xml";
const MEDIA_TYPE: &str = "application/vnd.openxmlformats-officedocument.presentationml.presentation";
/// English Metric Units in a point.
const UNITS: f32 = 12_700.0;

/// Reads slides (`.pptx`).
#[derive(Clone, Copy, Debug, Default)]
pub struct PptxParser;

impl Parser for PptxParser {
    fn media_types(&self) -> &[&str] {
        &[MEDIA_TYPE]
    }

    fn endings(&self) -> &[&str] {
        &["pptx", "pptm"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        Archive::has(bytes, DECK)
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        bytes.starts_with(b"PK")
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["pptx 1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let mut archive = Archive::open(input.bytes, input.budget)?;
        let mut builder = DocumentBuilder::within(input.name, MEDIA_TYPE, input.budget);
        properties(&mut archive, input.budget, &mut builder)?;
        let deck = xml::tree(&archive.needed(DECK)?, input.budget)?;
        let targets = relations(&mut archive, DECK, input.budget)?;
        let slides: Vec<String> = deck
            .descendants("sldId")
            .into_iter()
            // The list of slides has an id of its own and that of the relation; the relation's begins with a letter.
            .filter_map(|slide| {
                Some(targets.get(slide.attribute_all("id").find(|id| targets.contains_key(*id))?)?.target.clone())
            })
            .collect();
        let mut read = 0;
        for (number, path) in (1u32..).zip(&slides) {
            input.budget.check()?;
            if !input.budget.wants(number) {
                continue;
            }
            if read >= input.budget.max_pages {
                builder.warn(format!("only {read} of its {} slides were read; that is the limit", slides.len()));
                break;
            }
            read += 1;
            let Some(bytes) = archive.part(path)? else {
                builder.warn(format!("slide {number} is missing from the file"));
                continue;
            };
            let slide = xml::tree(&bytes, input.budget)?;
            builder.page(number);
            write_slide(&slide, number, &mut builder);
            let notes = relations(&mut archive, path, input.budget)?.into_values().find(|one| one.kind == "notesSlide");
            if let Some(notes) = notes
                && let Some(bytes) = archive.part(&notes.target)?
            {
                write_notes(&xml::tree(&bytes, input.budget)?, &mut builder);
            }
        }
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the slides hold no text"));
        }
        Ok(builder.finish())
    }
}

/// Returns the kind of placeholder that a shape fills.
fn placeholder(shape: &Element) -> Option<&str> {
    let place = shape.elements().find(|element| element.name == "nvSpPr")?.at(&["nvPr", "ph"])?;
    Some(place.attribute("type").unwrap_or("body"))
}

fn write_slide(slide: &Element, number: u32, builder: &mut DocumentBuilder) {
    let Some(tree) = slide.at(&["cSld", "spTree"]) else { return };
    let mut shapes = Vec::new();
    collect(tree, &mut shapes, 0);
    // The title comes first, wherever it is in the file. If no shape is marked as title, the highest short text is it.
    let said = shapes.iter().position(|shape| matches!(placeholder(shape), Some("title" | "ctrTitle")));
    let title = said.or_else(|| highest_line(&shapes, number));
    if let Some(index) = title {
        let title = shapes.remove(index);
        shapes.insert(0, title);
    }
    for (index, shape) in shapes.into_iter().enumerate() {
        match placeholder(shape) {
            _ if index == 0 && title.is_some() => {
                let text: Vec<String> = paragraphs(shape).into_iter().map(|(text, _)| text).collect();
                let text = text.join(" ");
                let lines = area(shape, number).map(|place| PieceLine {
                    span: Span::new(0, text.len()),
                    page: place.page,
                    area: place.area,
                });
                builder.pieces(
                    BlockKind::Heading,
                    1,
                    &[Piece { lines: lines.into_iter().collect(), ..text.as_str().into() }],
                );
            }
            Some("sldNum" | "ftr" | "dt") => {
                let text: Vec<String> = paragraphs(shape).into_iter().map(|(text, _)| text).collect();
                builder.furniture(number, area(shape, number).map(|place| place.area), &text.join(" "));
            }
            kind => write_shape(shape, kind, number, builder),
        }
    }
}

/// Returns the highest shape of a slide, if it has one short line and other shapes are below it.
fn highest_line(shapes: &[&Element], page: u32) -> Option<usize> {
    let top = |shape: &Element| area(shape, page).map_or(f32::INFINITY, |place| place.area.top);
    let (index, shape) = shapes.iter().enumerate().min_by(|a, b| top(a.1).total_cmp(&top(b.1)))?;
    let said = paragraphs(shape);
    let short = said.len() == 1 && (1..=100).contains(&said[0].0.trim().chars().count());
    (shapes.len() > 1 && short && placeholder(shape).is_none()).then_some(index)
}

fn write_shape(shape: &Element, kind: Option<&str>, number: u32, builder: &mut DocumentBuilder) {
    if shape.name == "graphicFrame" {
        for table in shape.descendants("tbl") {
            write_table(table, builder);
        }
        return;
    }
    let place = area(shape, number);
    if shape.name == "pic" {
        let words = shape.descendants("cNvPr").first().and_then(|names| names.attribute("descr")).unwrap_or_default();
        builder.figure(place, words);
        return;
    }
    let all = paragraphs(shape);
    let many = all.iter().filter(|(text, _)| !text.trim().is_empty()).count() > 1;
    for (text, bulleted) in all {
        let block = match bulleted {
            Some(true) => BlockKind::ListItem,
            // The body of a slide is a list unless it says otherwise.
            None if kind == Some("body") && many => BlockKind::ListItem,
            _ => BlockKind::Paragraph,
        };
        let lines = place.map(|place| PieceLine { span: Span::new(0, text.len()), page: place.page, area: place.area });
        builder.pieces(block, 0, &[Piece { lines: lines.into_iter().collect(), ..text.as_str().into() }]);
    }
}

/// The shapes of a slide in order, those of groups included.
fn collect<'a>(tree: &'a Element, shapes: &mut Vec<&'a Element>, depth: usize) {
    for element in tree.elements() {
        match element.name.as_str() {
            "sp" | "graphicFrame" | "pic" => shapes.push(element),
            "grpSp" if depth < 20 => collect(element, shapes, depth + 1),
            _ => {}
        }
    }
}

/// Returns the paragraphs of a shape, and whether each says that it has a bullet.
fn paragraphs(shape: &Element) -> Vec<(String, Option<bool>)> {
    let Some(body) = shape.child("txBody") else { return Vec::new() };
    body.all("p")
        .map(|paragraph| {
            let properties = paragraph.child("pPr");
            let none = properties.is_some_and(|properties| properties.child("buNone").is_some());
            let some = properties.is_some_and(|properties| {
                properties.child("buChar").is_some() || properties.child("buAutoNum").is_some()
            });
            (text(paragraph), if none { Some(false) } else { some.then_some(true) })
        })
        .collect()
}

fn text(paragraph: &Element) -> String {
    let mut text = String::new();
    for element in paragraph.elements() {
        match element.name.as_str() {
            "r" | "fld" => text.extend(element.all("t").map(Element::text)),
            "br" => text.push('\n'),
            _ => {}
        }
    }
    text
}

fn area(shape: &Element, page: u32) -> Option<PageArea> {
    let frame = shape.at(&["spPr", "xfrm"]).or_else(|| shape.child("xfrm"))?;
    let number = |element: &str, name: &str| {
        frame.child(element)?.attribute(name)?.parse::<f32>().ok().map(|value| value / UNITS)
    };
    let (left, top) = (number("off", "x")?, number("off", "y")?);
    let area = logothete_core::document::Area {
        left,
        top,
        right: left + number("ext", "cx")?,
        bottom: top + number("ext", "cy")?,
    };
    Some(PageArea { page, area })
}

fn write_table(table: &Element, builder: &mut DocumentBuilder) {
    let said = |element: &Element, name: &str| matches!(element.attribute(name), Some("1" | "true"));
    let header = table.child("tblPr").is_some_and(|properties| said(properties, "firstRow"));
    let rows: Vec<TableRow> = table
        .all("tr")
        .map(|row| {
            let cells = row.all("tc").map(|cell| {
                if said(cell, "hMerge") {
                    return TableCell::Left;
                }
                if said(cell, "vMerge") {
                    return TableCell::Above;
                }
                let lines: Vec<String> = cell.descendants("p").iter().map(|paragraph| text(paragraph)).collect();
                TableCell::Text(lines.join(" "))
            });
            TableRow { cells: cells.collect(), ..TableRow::default() }
        })
        .collect();
    builder.table_rows(usize::from(rows.len() > 1 && (header || names_columns(&rows))), &rows);
}

/// Returns `true` if the first row holds names, all different, and no figures.
fn names_columns(rows: &[TableRow]) -> bool {
    let texts = rows[0].cells.iter().map(|cell| match cell {
        TableCell::Text(text) => text.as_str(),
        _ => "",
    });
    let mut names: Vec<&str> = texts.collect();
    let named = names.iter().all(|name| !name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit()));
    names.sort_unstable();
    names.dedup();
    named && names.len() == rows[0].cells.len()
}

/// The speaker notes of a slide.
fn write_notes(notes: &Element, builder: &mut DocumentBuilder) {
    let mut shapes = Vec::new();
    if let Some(tree) = notes.at(&["cSld", "spTree"]) {
        collect(tree, &mut shapes, 0);
    }
    let aside = ["sldNum", "ftr", "dt", "hdr", "sldImg"];
    let bodies = shapes.into_iter().filter(|shape| !placeholder(shape).is_some_and(|kind| aside.contains(&kind)));
    let said: Vec<String> =
        bodies.flat_map(paragraphs).map(|(text, _)| text).filter(|text| !text.trim().is_empty()).collect();
    if !said.is_empty() {
        builder.heading(2, "Speaker's notes");
        for text in said {
            builder.block(BlockKind::Paragraph, &text);
        }
    }
}
