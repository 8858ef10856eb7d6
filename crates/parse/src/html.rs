//! HTML: the content of a page without what surrounds it.
//!
//! The content is the page's `main` or `article` element where it has one that says enough, else its body. Navigation,
//! banners, footers, forms and scripts are left out by their elements and roles. Pages are read as browsers read them,
//! however broken they are.

use ego_tree::NodeRef;
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Value};
use logothete_core::{Error, ErrorKind, Result};
use scraper::{ElementRef, Html, Node, Selector};

use crate::plain::Decoded;

/// Elements nested deeper than this are read as plain text.
const DEEPEST: usize = 200;
/// A `main` or `article` with fewer characters than this is not the content.
const LEAST_CONTENT: usize = 40;
/// A table cell spans no more rows or columns than this, whatever it says.
const MOST_SPANNED: usize = 100;

/// Elements that hold no content of the page.
const LEFT_OUT: &[&str] = &[
    "script", "style", "noscript", "template", "nav", "aside", "form", "button", "select", "input", "svg", "iframe",
    "object", "dialog", "head",
];
/// Elements that surround the content, unless they stand inside it.
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
    "figcaption",
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

/// A page with more elements open at once than this is refused: building its tree takes time by the square of it.
const MOST_OPEN: usize = 2_000;
/// Elements that need no end, and so do not count as open.
const WITHOUT_END: &[&str] = &[
    "area", "base", "br", "col", "dd", "dt", "embed", "hr", "img", "input", "li", "link", "meta", "option", "p",
    "source", "tbody", "td", "tfoot", "th", "thead", "tr", "track", "wbr",
];

/// Reads a page.
pub(crate) fn parse(name: &str, decoded: &Decoded<'_>) -> Result<Document> {
    if is_too_deep(decoded.text()) {
        let message = format!(
            "the page has more than {MOST_OPEN} elements inside one another, and was not read; repair it first"
        );
        return Err(Error::new(ErrorKind::Limit, message));
    }
    let page = Html::parse_document(decoded.text());
    let mut builder = DocumentBuilder::new(name, "text/html");
    decoded.note(&mut builder);
    metadata(&page, &mut builder);
    let content = content(&page);
    let inside = !matches!(content.value().name(), "body" | "html");
    let mut reader = Reader { builder, text: String::new(), kinds: Vec::new() };
    reader.children(*content, 0, inside);
    reader.flush();
    if reader.builder.is_empty() {
        return Err(Error::new(
            ErrorKind::Unreadable,
            "the page holds no text; if a script writes it, save the page from a browser",
        ));
    }
    Ok(reader.builder.finish())
}

/// Whether more elements are open at once than is allowed, by their beginnings and ends as they are written.
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
            // What was opened inside and not ended stays: browsers open such elements again behind this end.
            open.remove(at);
        }
        if open.len() > MOST_OPEN {
            return true;
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
            builder.metadata(key, Value::Text(content));
        }
    }
}

/// The element that holds the content.
fn content(page: &Html) -> ElementRef<'_> {
    for selector in ["main", "[role=main]", "article"] {
        let Ok(parsed) = Selector::parse(selector) else { continue };
        let mut found = page.select(&parsed);
        // Several articles are a list of them: then the content is what holds them all.
        if let (Some(element), None) = (found.next(), found.next())
            && element.text().map(|text| text.trim().len()).sum::<usize>() >= LEAST_CONTENT
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

struct Reader {
    builder: DocumentBuilder,
    /// The text of the block that is open.
    text: String,
    /// What a block means here.
    kinds: Vec<BlockKind>,
}

impl Reader {
    fn children(&mut self, node: NodeRef<'_, Node>, depth: usize, inside: bool) {
        for child in node.children() {
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
        if depth > DEEPEST {
            self.text.push_str(&shallow_text(element));
            return;
        }
        let name = element.value().name();
        match name {
            "br" => self.text.push('\n'),
            "h1" | "h2" | "h3" | "h4" | "h5" | "h6" => {
                self.flush();
                self.children(*element, depth, inside);
                let text = one_line(&std::mem::take(&mut self.text));
                self.builder.heading(name.as_bytes()[1] - b'0', &text);
            }
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
        let text = std::mem::take(&mut self.text);
        let lines: Vec<String> = text.split('\n').map(one_line).filter(|line| !line.is_empty()).collect();
        self.builder.block(self.kinds.last().copied().unwrap_or(BlockKind::Paragraph), &lines.join(" "));
    }

    /// A table of two columns and two rows or more; one that holds another, or is smaller, is there for the layout.
    fn table(&mut self, table: ElementRef<'_>, depth: usize, inside: bool) {
        self.flush();
        let select =
            |selector: &str| Selector::parse(selector).map(|selector| table.select(&selector).collect::<Vec<_>>());
        let (Ok(inner), Ok(rows)) = (select("table"), select("tr")) else { return };
        let grid = grid(&rows);
        let broad = grid.iter().filter(|row| row.len() >= 2).count();
        if !inner.is_empty() || broad < 2 {
            self.children(*table, depth, inside);
            self.flush();
            return;
        }
        if let Ok(captions) = select("caption") {
            let caption: String = captions.iter().flat_map(ElementRef::text).collect();
            self.builder.block(BlockKind::Paragraph, &one_line(&caption));
        }
        let heads = |row: &ElementRef<'_>| {
            let in_head =
                row.parent().and_then(ElementRef::wrap).is_some_and(|parent| parent.value().name() == "thead");
            let mut cells = row.children().filter_map(ElementRef::wrap).peekable();
            in_head || (cells.peek().is_some() && cells.all(|cell| cell.value().name() == "th"))
        };
        let header_rows = rows.iter().take_while(|row| heads(row)).count();
        self.builder.table(header_rows.min(grid.len().saturating_sub(1)), &grid);
    }
}

/// The cells of a table. A cell over several columns fills the first; one over several rows fills them all, so that each
/// row can be read alone.
fn grid(rows: &[ElementRef<'_>]) -> Vec<Vec<String>> {
    let mut grid: Vec<Vec<String>> = Vec::new();
    // What a cell above still fills: column, text, how many more rows.
    let mut hanging: Vec<(usize, String, usize)> = Vec::new();
    for row in rows {
        let mut cells: Vec<String> = Vec::new();
        let fill = |cells: &mut Vec<String>, hanging: &mut Vec<(usize, String, usize)>| {
            while let Some(found) = hanging.iter_mut().find(|(column, _, left)| *column == cells.len() && *left > 0) {
                found.2 -= 1;
                cells.push(found.1.clone());
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
                    .clamp(1, MOST_SPANNED)
            };
            let text = one_line(&cell.text().collect::<String>());
            if spanned("rowspan") > 1 {
                hanging.push((cells.len(), text.clone(), spanned("rowspan") - 1));
            }
            cells.push(text);
            cells.extend((1..spanned("colspan")).map(|_| String::new()));
        }
        fill(&mut cells, &mut hanging);
        hanging.retain(|(_, _, left)| *left > 0);
        if !cells.is_empty() {
            grid.push(cells);
        }
    }
    grid
}

/// The text below an element that is nested too deep to be followed.
fn shallow_text(element: ElementRef<'_>) -> String {
    element.text().collect::<Vec<_>>().join(" ")
}
