//! `logothete parse`

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use logothete::document::{Block, BlockKind, Document, Pages};
use logothete::{Drawing, Error, ErrorKind, Result};
use serde_json::{Value, json};

use super::output::write_file;
use super::{Parsed, code_of, configuration, failures, parsed};
use crate::args::{CorpusArguments, Format, ParseArguments};
use crate::view::{Style, bytes, grid, indented, visible, width, wrap};
use crate::{DONE, Output};

/// How wide the column of kinds is.
const KIND: usize = 12;
/// Pixels to a point in pictures of pages and figures.
const PAGE_SCALE: f32 = 1.5;
const FIGURE_SCALE: f32 = 3.0;

pub fn run(at: &CorpusArguments, arguments: &ParseArguments) -> Result<Output> {
    let (mut config, _) = configuration(at)?;
    if let Some(pages) = &arguments.pages {
        config.parse.pages = Some(pages.parse().map_err(|error: Error| error.at("--pages"))?);
    }
    if let Some(page) = arguments.picture.filter(|_| arguments.pages.is_none()) {
        config.parse.pages = Some(Pages { first: page, last: page });
    }
    let parsed = parsed(&config, &arguments.files)?;
    let write_to = WriteTo { parsed: &parsed, force: arguments.force };
    if let Some(page) = arguments.picture {
        return picture_of(&write_to, page, arguments.output.as_deref());
    }
    if let Some(folder) = &arguments.figures {
        return figures(&write_to, folder);
    }
    let style = if arguments.output.is_some() { Style::plain() } else { Style::of_stdout() };
    let views: Vec<String> = parsed
        .documents
        .iter()
        .map(|read| match arguments.format {
            None => render(&read.document, style),
            Some(Format::Markdown) => read.document.to_markdown(),
            Some(Format::Text) => plain_text(&read.document, arguments.furniture),
            Some(Format::Json) => String::new(),
        })
        .collect();
    let documents: Vec<Value> = parsed.documents.iter().map(|read| as_json(&read.document)).collect();
    let json = json!({ "documents": documents, "failed": parsed.failed });
    let mut text = match arguments.format {
        Some(Format::Json) => crate::json_text(json.clone()),
        _ => views.join("\n"),
    };
    let code = code_of(parsed.documents.len(), &parsed.failed);
    let failed = failures(&parsed.failed, style);
    if let Some(file) = &arguments.output {
        text = match parsed.documents.is_empty() {
            true => String::new(),
            false => {
                write_to.write(file, text.as_bytes())?;
                format!("Wrote {} ({}).\n", file.display(), bytes(text.len() as u64))
            }
        };
    }
    match arguments.format {
        // Output for programs and messages for people are not mixed.
        Some(_) => eprint!("{}", visible(&failed, style.is_on())),
        None => text.push_str(&failed),
    }
    Ok(Output { text, json, code })
}

/// Writes files, but never over one that was parsed.
struct WriteTo<'a> {
    parsed: &'a Parsed,
    force: bool,
}

impl WriteTo<'_> {
    fn write(&self, file: &Path, content: &[u8]) -> Result<()> {
        let is_same =
            |read: &super::Read| matches!((read.file.canonicalize(), file.canonicalize()), (Ok(a), Ok(b)) if a == b);
        if self.parsed.documents.iter().any(is_same) {
            let message = "this is one of the files that were parsed; name another file";
            return Err(Error::new(ErrorKind::Refused, message).at(file.display()));
        }
        write_file(file, content, self.force)
    }
}

/// Draws a page with its blocks outlined.
fn picture_of(write_to: &WriteTo<'_>, page: u32, output: Option<&Path>) -> Result<Output> {
    let parsed = write_to.parsed;
    let [read] = &parsed.documents[..] else {
        let message = match parsed.failed.first() {
            Some(failure) => failure.reason.clone(),
            None => "a picture is drawn of one file; name one".to_owned(),
        };
        return Err(Error::new(ErrorKind::InvalidRequest, message));
    };
    if read.document.media_type != "application/pdf" {
        let message = format!("only pages of PDF files are drawn, and this is {}", read.document.media_type);
        return Err(Error::new(ErrorKind::Unsupported, message).at(&read.document.name));
    }
    let content =
        fs::read(&read.file).map_err(|error| Error::new(ErrorKind::System, "it could not be read").because(error))?;
    let drawing = Drawing::Outlined { page, document: Box::new(read.document.clone()) };
    let picture = parsed.pipeline.draw(content, drawing, PAGE_SCALE).map_err(|error| error.at(&read.document.name))?;
    let stem = Path::new(&read.document.name).file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let file = output.map_or_else(|| PathBuf::from(format!("{stem}-page-{page}.png")), Path::to_path_buf);
    write_to.write(&file, &picture.png)?;
    let mut kinds: Vec<BlockKind> = Vec::new();
    let mut count = 0u64;
    for block in &read.document.blocks {
        if read.document.block_areas(block).iter().any(|place| place.page == page) {
            count += 1;
            if !kinds.contains(&block.kind) {
                kinds.push(block.kind);
            }
        }
    }
    let names: Vec<String> =
        kinds.iter().map(|kind| format!("{} ({})", kind.name().replace('_', " "), colour(*kind))).collect();
    let blocks = crate::view::count(count, "block", "blocks");
    let text = format!("Wrote {}: {blocks} in reading order.\n{}\n", file.display(), names.join(", "));
    let json =
        json!({ "picture": file, "page": page, "blocks": count, "width": picture.width, "height": picture.height });
    Ok(Output { text, json, code: DONE })
}

/// Returns the word for the colour of a kind.
fn colour(kind: BlockKind) -> &'static str {
    match kind {
        BlockKind::Heading => "red",
        BlockKind::Paragraph => "blue",
        BlockKind::ListItem => "teal",
        BlockKind::Table => "green",
        BlockKind::Code => "olive",
        BlockKind::Quotation => "brown",
        BlockKind::Figure => "purple",
        BlockKind::Caption => "pink",
        BlockKind::Footnote => "orange",
        BlockKind::Contents => "navy",
        _ => "grey",
    }
}

/// Writes every figure of the PDF files as a picture.
fn figures(write_to: &WriteTo<'_>, folder: &Path) -> Result<Output> {
    let parsed = write_to.parsed;
    let failed = failures(&parsed.failed, Style::of_stdout());
    let code = code_of(parsed.documents.len(), &parsed.failed);
    if parsed.documents.is_empty() {
        return Ok(Output { text: failed, json: json!({ "figures": [], "failed": parsed.failed }), code });
    }
    let mut stems = HashSet::new();
    fs::create_dir_all(folder).map_err(|error| {
        Error::new(ErrorKind::System, format!("the folder could not be made: {error}")).at(folder.display())
    })?;
    let mut written = Vec::new();
    for read in parsed.documents.iter().filter(|read| read.document.media_type == "application/pdf") {
        let content = fs::read(&read.file)
            .map_err(|error| Error::new(ErrorKind::System, "it could not be read").because(error))?;
        let stem = free_stem(&read.document.name, &mut stems);
        let figures = read.document.blocks.iter().filter_map(|block| block.figure);
        for (number, place) in (1..).zip(figures) {
            let drawing = Drawing::Area { page: place.page, area: place.area };
            let picture = parsed.pipeline.draw(content.clone(), drawing, FIGURE_SCALE)?;
            let file = folder.join(format!("{stem}-figure-{number}.png"));
            write_to.write(&file, &picture.png)?;
            written
                .push(json!({ "document": read.document.name, "page": place.page, "area": place.area, "file": file }));
        }
    }
    let count = crate::view::count(written.len() as u64, "figure", "figures");
    let text = format!("Wrote {count} to {}.\n{failed}", folder.display());
    Ok(Output { text, json: json!({ "figures": written, "failed": parsed.failed }), code })
}

/// Returns the beginning of the names of a document's figures. Documents of different folders may have one name.
fn free_stem(document: &str, taken: &mut HashSet<String>) -> String {
    let name = document.replace('/', "-");
    let mut stem = name.clone();
    let mut number = 2;
    while !taken.insert(stem.clone()) {
        stem = format!("{name}-{number}");
        number += 1;
    }
    stem
}

/// Returns the text alone, with its furniture in place if that is wanted.
fn plain_text(document: &Document, furniture: bool) -> String {
    if !furniture {
        return format!("{}\n", document.text);
    }
    let parts: Vec<&str> =
        document.blocks.iter().map(|block| document.block_text(block)).filter(|text| !text.is_empty()).collect();
    format!("{}\n", parts.join("\n\n"))
}

fn render(document: &Document, style: Style) -> String {
    let mut out = format!("{}\n", style.strong(&document.name));
    let mut fact =
        |name: &str, value: &str| out.push_str(&format!("{} {value}\n", style.faint(&format!("{name:<KIND$}"))));
    if let Some(title) = &document.title {
        fact("title", title);
    }
    fact("type", &document.media_type);
    if document.page_count() > 0 {
        fact("pages", &document.page_count().to_string());
    }
    for (key, value) in document.metadata.iter().filter(|(key, _)| *key != "title") {
        fact(key, &value.to_string());
    }
    for warning in &document.warnings {
        out.push_str(&style.warning(indented(&format!("warning: {warning}"), 0).trim_end()));
        out.push('\n');
    }
    let mut place = String::new();
    for block in &document.blocks {
        let here = where_is(document, block);
        if here != place || out.ends_with(|c| c != '\n') {
            out.push_str(&if here.is_empty() {
                "\n".to_owned()
            } else {
                format!("\n{}\n", style.place(&format!("— {here} —")))
            });
            place = here;
        } else if place.is_empty() && block.span.start == 0 {
            out.push('\n');
        }
        out.push_str(&render_block(document, block, style));
    }
    out
}

/// Returns the page of a block, or its minute in a recording.
fn where_is(document: &Document, block: &Block) -> String {
    let page = document.block_pages(block).map(|pages| pages.first);
    let label = page.and_then(|page| document.page_label(page));
    match (page, label, document.seconds(block.span)) {
        (Some(page), Some(label), _) => format!("page {page}, called {label}"),
        (Some(page), None, _) => format!("page {page}"),
        (None, _, Some(seconds)) => logothete::document::clock(seconds),
        (None, _, None) => String::new(),
    }
}

fn render_block(document: &Document, block: &Block, style: Style) -> String {
    let kind = match block.kind {
        BlockKind::Heading => format!("heading {}", block.level),
        kind => kind.name().replace('_', " "),
    };
    let label = style.faint(&format!("{kind:<KIND$}"));
    if let Some(of) = &block.table {
        let rows: Vec<Vec<String>> =
            of.rows.iter().map(|row| row.cells.iter().map(|cell| document.slice(*cell).to_owned()).collect()).collect();
        let drawn = grid(&rows, of.header_rows, KIND + 1, style);
        return format!("{label} {}", drawn.trim_start());
    }
    let text = document.block_text(block);
    let lines: Vec<String> = match block.kind {
        BlockKind::Code => text.lines().map(str::to_owned).collect(),
        BlockKind::Figure if text.is_empty() => vec!["(no words in it)".to_owned()],
        _ => wrap(text, width().saturating_sub(KIND + 1)),
    };
    let mut out = String::new();
    for (index, line) in lines.iter().enumerate() {
        let line = match block.kind {
            BlockKind::Heading => style.strong(line),
            BlockKind::Furniture => style.faint(line),
            _ => line.clone(),
        };
        if index == 0 {
            out.push_str(&format!("{label} {line}\n"));
        } else {
            out.push_str(&format!("{:KIND$} {line}\n", ""));
        }
    }
    if lines.is_empty() { indented(&label, 0) } else { out }
}

fn as_json(document: &Document) -> Value {
    let blocks: Vec<Value> = document
        .blocks
        .iter()
        .map(|block| {
            let mut value = json!({
                "kind": block.kind,
                "text": document.block_text(block),
                "span": block.span,
                "pages": document.block_pages(block),
            });
            if block.level > 0 {
                value["level"] = json!(block.level);
            }
            let areas = document.block_areas(block);
            if !areas.is_empty() {
                value["areas"] = json!(areas);
            }
            if let Some(seconds) = document.seconds(block.span) {
                value["seconds"] = json!(seconds);
            }
            if let Some(table) = &block.table {
                let cells = |row: &logothete::document::Row| {
                    row.cells.iter().map(|cell| document.slice(*cell)).collect::<Vec<_>>()
                };
                value["rows"] = json!(table.rows.iter().map(cells).collect::<Vec<_>>());
                value["header_rows"] = json!(table.header_rows);
            }
            value
        })
        .collect();
    let mut value = json!({
        "document": document.name,
        "title": document.title,
        "media_type": document.media_type,
        "pages": document.page_count(),
        "metadata": document.metadata,
        "blocks": blocks,
        "warnings": document.warnings,
    });
    if !document.links.is_empty() {
        let link = |link: &logothete::document::Link| json!({ "text": document.slice(link.span), "span": link.span, "target": link.target });
        value["links"] = json!(document.links.iter().map(link).collect::<Vec<_>>());
    }
    if !document.recognised.is_empty() {
        value["recognised"] = json!(document.recognised);
    }
    value
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_of_two_documents_have_two_names() {
        let mut taken = HashSet::new();
        let stems = ["a.pdf", "x/a.pdf", "x-a.pdf", "a.pdf", "a.pdf"].map(|name| free_stem(name, &mut taken));
        assert_eq!(stems, ["a.pdf", "x-a.pdf", "x-a.pdf-2", "a.pdf-2", "a.pdf-3"]);
    }
}
