//! HTML: the content of a page without what surrounds it.
//!
//! The content is the page's `main` or `article` element where it has one that says enough, else its body. Navigation,
//! banners, footers, forms and scripts are left out by their elements and roles. Pages are read as browsers read them,
//! however broken they are.

use std::collections::HashMap;

use ego_tree::NodeRef;
use logothete_core::document::{
    BlockKind, Budget, Document, DocumentBuilder, InlineLink, Input, Made, Parser, Span, TableCell, TableRow, Value,
    is_list_of_links, points_inside,
};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use scraper::{ElementRef, Html, Node, Selector};

use crate::plain;

/// Reads pages of the web.
#[derive(Clone, Copy, Debug, Default)]
pub struct HtmlParser;

impl Parser for HtmlParser {
    fn media_types(&self) -> &[&str] {
        &["text/html", "application/xhtml+xml"]
    }

    fn endings(&self) -> &[&str] {
        &["html", "htm", "xhtml"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        is_html(bytes)
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["html 4"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "text/html", input.budget);
        decoded.note(&mut builder);
        write(decoded.text(), input.budget, &mut builder)?;
        if builder.is_empty() {
            return Err(Error::new(
                ErrorKind::Unreadable,
                "the page holds no text; if a script writes it, save the page from a browser",
            ));
        }
        Ok(builder.finish())
    }
}

/// Returns `true` if text begins as a page does. Markdown may hold elements too, but does not begin with these.
fn is_html(bytes: &[u8]) -> bool {
    let text = String::from_utf8_lossy(&bytes[..bytes.len().min(1024)])
        .trim_start_matches('\u{feff}')
        .trim_start()
        .to_lowercase();
    let text =
        if text.starts_with("<?xml") { text.split_once("?>").map_or("", |(_, rest)| rest).trim_start() } else { &text };
    ["<!doctype html", "<html", "<head", "<body"].iter().any(|beginning| text.starts_with(beginning))
}

/// Elements nested deeper than this are read as plain text.
const MAX_DEPTH: usize = 200;
/// A `main` or `article` with fewer characters than this is not the content.
const MIN_CONTENT: usize = 40;
/// A table cell spans no more rows or columns than this, whatever it says.
const MAX_SPANNED: usize = 100;

/// Elements that hold no content of the page.
const LEFT_OUT: &[&str] = &[
    "script", "style", "noscript", "template", "nav", "aside", "form", "button", "select", "input", "svg", "iframe",
    "object", "dialog", "head",
];
/// Elements around the content, unless they are inside it.
const SURROUNDING: &[&str] = &["header", "footer"];
/// Roles of what surrounds the content.
const LEFT_OUT_ROLES: &[&str] = &["navigation", "banner", "contentinfo", "search", "complementary", "menu"];
/// Elements that begin and end a block.
const BLOCKS: &[&str] = &[
    "address",
    "article",
    "blockquote",
    "body",
    "dd",
    "details",
    "div",
    "dl",
    "dt",
    "fieldset",
    "figure",
    "footer",
    "header",
    "hr",
    "html",
    "legend",
    "main",
    "ol",
    "p",
    "section",
    "summary",
    "ul",
];

/// The highest number of open elements; building the tree takes time by its square.
const MAX_OPEN: usize = 2_000;
/// The highest number of attributes of an element; comparing them takes time by its square.
const MAX_ATTRIBUTES: usize = 1_000;
/// Elements that need no end, and so do not count as open.
const WITHOUT_END: &[&str] = &[
    "area", "base", "br", "col", "dd", "dt", "embed", "hr", "img", "input", "li", "link", "meta", "option", "p",
    "source", "tbody", "td", "tfoot", "th", "thead", "tr", "track", "wbr",
];

/// Writes the content of a page.
///
/// # Errors
/// If its elements lie too deep inside one another, or the time is over.
pub(crate) fn write(text: &str, budget: &Budget, builder: &mut DocumentBuilder) -> Result<()> {
    if is_too_deep(text) {
        let message =
            format!("the page has more than {MAX_OPEN} elements inside one another, and was not read; repair it first");
        return Err(Error::new(ErrorKind::Limit, message));
    }
    if has_too_many_attributes(text) {
        let message = format!("an element of the page has more than {MAX_ATTRIBUTES} attributes; repair it first");
        return Err(Error::new(ErrorKind::Limit, message));
    }
    let page = Html::parse_document(text);
    budget.check()?;
    metadata(&page, builder);
    let content = content(&page);
    let inside = !matches!(content.value().name(), "body" | "html");
    let mut reader = Reader { builder, text: String::new(), links: Vec::new(), kinds: Vec::new(), in_heading: false };
    reader.children(*content, 0, inside);
    reader.flush();
    Ok(())
}

/// Returns `true` if more elements are open at a time than is allowed, by their start and end tags.
fn is_too_deep(text: &str) -> bool {
    let mut open: Vec<String> = Vec::new();
    for tag in text.split('<').skip(1) {
        let (ends, tag) = tag.strip_prefix('/').map_or((false, tag), |tag| (true, tag));
        let name = tag.split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default().to_ascii_lowercase();
        if !name.starts_with(|c: char| c.is_ascii_alphabetic()) || WITHOUT_END.contains(&name.as_str()) {
            continue;
        }
        if !ends {
            open.push(name);
        } else if let Some(at) = open.iter().rposition(|other| *other == name) {
            // Unclosed elements inside stay open: browsers open such elements again after this end.
            open.remove(at);
        }
        if open.len() > MAX_OPEN {
            return true;
        }
    }
    false
}

/// Returns `true` if a tag has more attributes than is allowed. What stands between quotation marks is a value.
fn has_too_many_attributes(text: &str) -> bool {
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some(found) = bytes[at..].iter().position(|byte| *byte == b'<') {
        at += found + 1;
        if !bytes.get(at).is_some_and(u8::is_ascii_alphabetic) {
            continue;
        }
        let (mut quoted, mut blank, mut count) = (None, false, 0);
        while let Some(byte) = bytes.get(at) {
            at += 1;
            match (quoted, *byte) {
                (Some(quote), byte) if byte == quote => quoted = None,
                (Some(_), _) => {}
                (None, b'>') => break,
                (None, mark @ (b'"' | b'\'')) => quoted = Some(mark),
                (None, byte) => {
                    count += usize::from(blank && !byte.is_ascii_whitespace());
                    blank = byte.is_ascii_whitespace();
                }
            }
            if count > MAX_ATTRIBUTES {
                return true;
            }
        }
    }
    false
}

fn first<'a>(page: &'a Html, selector: &str) -> Option<ElementRef<'a>> {
    page.select(&Selector::parse(selector).ok()?).next()
}

/// Title, language, and what the page says of itself.
fn metadata(page: &Html, builder: &mut DocumentBuilder) {
    if let Some(title) =
        first(page, "title").map(|title| one_line(&title.text().collect::<String>())).filter(|title| !title.is_empty())
    {
        builder.metadata("title", Value::Text(title));
    }
    if let Some(language) = first(page, "html").and_then(|html| html.attr("lang")) {
        builder.metadata("language", Value::Text(language.to_owned()));
    }
    for key in ["author", "description", "date"] {
        let content = first(page, &format!("meta[name={key}]")).and_then(|meta| meta.attr("content"));
        if let Some(content) = content.map(one_line).filter(|content| !content.is_empty()) {
            builder.metadata(key, Value::date_or_text(&content));
        }
    }
}

/// Returns the element that holds the content.
fn content(page: &Html) -> ElementRef<'_> {
    for selector in ["main", "[role=main]", "article"] {
        let Ok(parsed) = Selector::parse(selector) else { continue };
        let mut found = page.select(&parsed);
        // Several articles are a list of them: then the content is what holds them all.
        if let (Some(element), None) = (found.next(), found.next())
            && element.text().map(|text| text.trim().len()).sum::<usize>() >= MIN_CONTENT
        {
            return element;
        }
    }
    first(page, "body").unwrap_or_else(|| page.root_element())
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn is_left_out(element: &ElementRef<'_>, inside: bool) -> bool {
    let name = element.value().name();
    LEFT_OUT.contains(&name)
        || (!inside && SURROUNDING.contains(&name))
        || element.attr("hidden").is_some()
        || element.attr("aria-hidden") == Some("true")
        || element.attr("role").is_some_and(|role| LEFT_OUT_ROLES.contains(&role))
}

/// Returns `true` for the text of a link from a heading to itself, such as `¶` or `#`. Outside of headings only `¶` is certain.
fn is_permalink_sign(text: &str, in_heading: bool) -> bool {
    let sign = text.trim();
    sign == "¶" || (in_heading && !sign.contains(char::is_alphanumeric))
}

struct Reader<'b> {
    builder: &'b mut DocumentBuilder,
    /// The text of the block that is open, and where it points.
    text: String,
    links: Vec<InlineLink>,
    /// The role of a block here.
    kinds: Vec<BlockKind>,
    in_heading: bool,
}

impl Reader<'_> {
    fn children(&mut self, node: NodeRef<'_, Node>, depth: usize, inside: bool) {
        for child in node.children() {
            if self.builder.is_full() {
                return;
            }
            match child.value() {
                Node::Text(text) => self.text.push_str(text),
                Node::Element(_) => {
                    if let Some(element) = ElementRef::wrap(child) {
                        self.element(element, depth + 1, inside);
                    }
                }
                _ => {}
            }
        }
    }

    fn element(&mut self, element: ElementRef<'_>, depth: usize, inside: bool) {
        if is_left_out(&element, inside) {
            return;
        }
        if depth > MAX_DEPTH {
            self.text.push_str(&shallow_text(element));
            return;
        }
        let name = element.value().name();
        match name {
            "br" => self.text.push('\n'),
            "h1" | "h2" | "h3" | "h4" | "h5" | "h6" => {
                self.flush();
                self.in_heading = true;
                self.children(*element, depth, inside);
                self.in_heading = false;
                let (text, links) = self.take_line();
                self.builder.linked_block(BlockKind::Heading, name.as_bytes()[1] - b'0', &text, links);
            }
            "a" => {
                let start = self.text.len();
                self.children(*element, depth, inside);
                let is_permalink = element.attr("href").is_some_and(|target| target.starts_with('#'))
                    && is_permalink_sign(&self.text[start.min(self.text.len())..], self.in_heading);
                if is_permalink {
                    self.text.truncate(start);
                }
                if let Some(target) = element.attr("href").filter(|_| !is_permalink) {
                    let span = Span::new(start.min(self.text.len()), self.text.len());
                    self.links.push(InlineLink { span, target: target.to_owned() });
                }
            }
            "img" => {
                let words = element.attr("alt").map(one_line).unwrap_or_default();
                // Pictures for the looks have no words, or the name of a file.
                if words.contains(' ') {
                    self.flush();
                    self.builder.figure(None, &words);
                }
            }
            "figcaption" => self.block(BlockKind::Caption, element, depth, inside),
            "pre" => {
                self.flush();
                let code: String = element.text().collect();
                self.builder.block(BlockKind::Code, code.trim_matches('\n'));
            }
            "li" => self.block(BlockKind::ListItem, element, depth, inside),
            "blockquote" => self.block(BlockKind::Quotation, element, depth, inside),
            "table" => self.table(element, depth, inside),
            name if BLOCKS.contains(&name) => {
                self.flush();
                let inside = inside || matches!(name, "article" | "main" | "section");
                self.children(*element, depth, inside);
                self.flush();
            }
            // Cells of a table that is only there for the layout.
            "td" | "th" | "tr" => {
                self.flush();
                self.children(*element, depth, inside);
                self.flush();
            }
            _ => self.children(*element, depth, inside),
        }
    }

    fn block(&mut self, kind: BlockKind, element: ElementRef<'_>, depth: usize, inside: bool) {
        self.flush();
        self.kinds.push(kind);
        self.children(*element, depth, inside);
        self.flush();
        self.kinds.pop();
    }

    fn flush(&mut self) {
        let (text, links) = self.take_line();
        let kind = self.kinds.last().copied().unwrap_or(BlockKind::Paragraph);
        self.builder.linked_block(kind, 0, &text, links);
    }

    /// Returns the open text with single blanks, and its links where they now are.
    fn take_line(&mut self) -> (String, Vec<InlineLink>) {
        let (raw, mut links) = (std::mem::take(&mut self.text), std::mem::take(&mut self.links));
        // Texts with links are squeezed piece by piece, so that the places of the links are known.
        let mut cuts: Vec<usize> = links.iter().flat_map(|link| [link.span.start, link.span.end]).collect();
        cuts.retain(|&cut| raw.is_char_boundary(cut));
        cuts.push(raw.len());
        cuts.sort_unstable();
        cuts.dedup();
        let mut text = String::with_capacity(raw.len());
        let mut places = vec![(0, 0)];
        let mut from = 0;
        let mut blank = false;
        for cut in cuts {
            for c in raw[from..cut].chars() {
                if c.is_whitespace() {
                    blank = !text.is_empty();
                } else {
                    if std::mem::take(&mut blank) {
                        text.push(' ');
                    }
                    text.push(c);
                }
            }
            places.push((cut, text.len()));
            from = cut;
        }
        let at = |raw: usize| places[places.partition_point(|(cut, _)| *cut <= raw).saturating_sub(1)].1;
        for link in &mut links {
            let (start, end) = (at(link.span.start), at(link.span.end));
            let blanks = text[start..end].len() - text[start..end].trim_start().len();
            link.span = Span::new(start + blanks, end);
        }
        (text, links)
    }

    /// A table of two columns and two rows or more; one that holds another, or is smaller, is there for the layout.
    fn table(&mut self, table: ElementRef<'_>, depth: usize, inside: bool) {
        self.flush();
        let select =
            |selector: &str| Selector::parse(selector).map(|selector| table.select(&selector).collect::<Vec<_>>());
        let (Ok(inner), Ok(rows)) = (select("table"), select("tr")) else { return };
        let grid = grid(&rows, self.builder);
        let broad = grid.iter().filter(|row| row.cells.len() >= 2).count();
        if !inner.is_empty() || broad < 2 {
            self.children(*table, depth, inside);
            self.flush();
            return;
        }
        if let Ok(captions) = select("caption") {
            let caption: String = captions.iter().flat_map(ElementRef::text).collect();
            self.builder.block(BlockKind::Caption, &one_line(&caption));
        }
        let heads = |row: &ElementRef<'_>| {
            let in_head =
                row.parent().and_then(ElementRef::wrap).is_some_and(|parent| parent.value().name() == "thead");
            let mut cells = row.children().filter_map(ElementRef::wrap).peekable();
            in_head || (cells.peek().is_some() && cells.all(|cell| cell.value().name() == "th"))
        };
        let header_rows = rows.iter().take_while(|row| heads(row)).count();
        self.builder.table_rows(header_rows.min(grid.len().saturating_sub(1)), &grid);
        if is_index(table) {
            self.builder.mark_contents();
        }
    }
}

/// Returns `true` for a table of links to other places of the documents.
fn is_index(table: ElementRef<'_>) -> bool {
    let letters = |text: String| text.chars().filter(|c| c.is_alphabetic()).count();
    let links = || {
        let elements = table.descendants().filter_map(ElementRef::wrap);
        elements.filter(|element| element.attr("href").is_some_and(points_inside))
    };
    let linked: usize = links().map(|link| letters(link.text().collect())).sum();
    is_list_of_links(links().count(), linked, letters(table.text().collect()))
}

/// Returns the cells of a table, with those that span rows and columns.
fn grid(rows: &[ElementRef<'_>], builder: &DocumentBuilder) -> Vec<TableRow> {
    let mut grid: Vec<TableRow> = Vec::new();
    // The cells above that still cover a place: by the column, the number of further rows.
    let mut hanging: HashMap<usize, usize> = HashMap::new();
    for row in rows {
        let mut cells: Vec<TableCell> = Vec::new();
        let mut covering: Vec<(usize, usize)> = Vec::new();
        let fill = |cells: &mut Vec<TableCell>, hanging: &mut HashMap<usize, usize>| {
            while let Some(left) = hanging.get_mut(&cells.len()).filter(|left| **left > 0) {
                *left -= 1;
                cells.push(TableCell::Above);
            }
        };
        for cell in
            row.children().filter_map(ElementRef::wrap).filter(|cell| matches!(cell.value().name(), "td" | "th"))
        {
            fill(&mut cells, &mut hanging);
            let spanned = |name: &str| {
                cell.attr(name)
                    .and_then(|number| number.trim().parse::<usize>().ok())
                    .unwrap_or(1)
                    .clamp(1, MAX_SPANNED)
            };
            let columns = cells.len()..cells.len() + spanned("colspan");
            cells.push(TableCell::Text(one_line(&cell.text().collect::<String>())));
            cells.extend((1..columns.len()).map(|_| TableCell::Left));
            covering.extend(columns.map(|column| (column, spanned("rowspan") - 1)).filter(|(_, left)| *left > 0));
        }
        fill(&mut cells, &mut hanging);
        hanging.retain(|_, left| *left > 0);
        hanging.extend(covering);
        if !builder.may_make(Made::Cells, cells.len()) {
            break;
        }
        if !cells.is_empty() {
            grid.push(TableRow { cells, ..TableRow::default() });
        }
    }
    grid
}

/// Returns the text below an element that is nested too deep to be followed.
fn shallow_text(element: ElementRef<'_>) -> String {
    element.text().collect::<Vec<_>>().join(" ")
}
