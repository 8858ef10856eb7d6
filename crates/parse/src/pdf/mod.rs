//! PDF: from drawing events to blocks.
//!
//! Each step is a module: [`page`] collects what is drawn on a page, [`lines`] joins glyphs into words, [`tables`] finds
//! ruled tables, [`columns`] puts lines into reading order, [`furniture`] sets running headers and footers apart,
//! [`headings`] tells their levels, [`blocks`] joins lines into headings, paragraphs and items and writes them down.

mod blocks;
mod columns;
mod furniture;
mod headings;
mod lines;
mod outline;
mod page;
mod sheet;
mod tables;

pub use outline::OutlineEntry;

use hayro_interpret::InterpreterCache;
use hayro_interpret::hayro_syntax::{LoadPdfError, Pdf};
use logothete_core::document::{Document, DocumentBuilder, Value};
use logothete_core::{Error, ErrorKind, Result};

/// The outline of a PDF, in order; empty when it has none.
///
/// # Errors
/// When the file is protected or damaged.
pub fn outline(bytes: &[u8]) -> Result<Vec<OutlineEntry>> {
    Ok(outline::read(&open(bytes)?))
}

fn open(bytes: &[u8]) -> Result<Pdf> {
    Pdf::new(bytes.to_vec()).map_err(|error| match error {
        LoadPdfError::Decryption(_) => Error::new(
            ErrorKind::Unreadable,
            "this PDF is protected by a password; save a copy without one and build again",
        ),
        LoadPdfError::Invalid => Error::new(
            ErrorKind::Unreadable,
            "this PDF is damaged or cut short, and no page of it could be found; fetch it again",
        ),
    })
}

/// Reads a PDF.
pub(crate) fn parse(name: &str, bytes: &[u8]) -> Result<Document> {
    let pdf = open(bytes)?;
    let mut builder = DocumentBuilder::new(name, "application/pdf");
    information(&pdf, &mut builder);

    let cache = InterpreterCache::new();
    let mut pages = Vec::new();
    let mut without_text = Vec::new();
    for (index, page) in pdf.pages().iter().enumerate() {
        let number = index as u32 + 1;
        let drawn = page::draw(page, &cache);
        if drawn.is_blank_of_text() {
            without_text.push(number);
        }
        let mut words = lines::words(&drawn);
        let tables = tables::take(&drawn.rules, &mut words);
        let lines = columns::in_order(words);
        pages.push(sheet::PageLines { number, height: drawn.height, lines, tables, furniture: Vec::new() });
    }
    if pages.is_empty() {
        return Err(Error::new(ErrorKind::Unreadable, "this PDF has no pages"));
    }
    if without_text.len() == pages.len() {
        return Err(Error::new(
            ErrorKind::Unreadable,
            match pages.len() {
                1 => "its only page has no text; it is a picture of a page, and needs character recognition first"
                    .to_owned(),
                many => {
                    format!(
                        "none of its {many} pages has text; they are pictures of pages, and need character recognition first"
                    )
                }
            },
        ));
    }
    if !without_text.is_empty() {
        builder.warn(format!("no text on {}: pictures of pages, or blank", numbers(&without_text)));
    }
    furniture::mark(&mut pages);
    blocks::write(&pages, &mut builder);
    Ok(builder.finish())
}

/// Title, author and date from the document information dictionary.
fn information(pdf: &Pdf, builder: &mut DocumentBuilder) {
    let metadata = pdf.metadata();
    for (key, bytes) in [("title", &metadata.title), ("author", &metadata.author), ("subject", &metadata.subject)] {
        if let Some(text) = bytes.as_deref().map(text_string).filter(|text| !text.trim().is_empty()) {
            builder.metadata(key, Value::Text(text.trim().to_owned()));
        }
    }
    if let Some(date) = metadata.creation_date {
        builder.metadata("date", Value::Text(format!("{:04}-{:02}-{:02}", date.year, date.month, date.day)));
    }
}

/// A text string of the PDF standard: UTF-16 or UTF-8 with its mark, else close enough to Latin-1.
fn text_string(bytes: &[u8]) -> String {
    match bytes {
        [0xFE, 0xFF, ..] | [0xFF, 0xFE, ..] | [0xEF, 0xBB, 0xBF, ..] => encoding_rs::UTF_8.decode(bytes).0.into_owned(),
        _ => bytes.iter().map(|&byte| char::from(byte)).collect(),
    }
}

/// `page 3`, `pages 3, 5 and 7–9`.
fn numbers(pages: &[u32]) -> String {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for &page in pages {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == page => *last = page,
            _ => runs.push((page, page)),
        }
    }
    let named: Vec<String> = runs
        .iter()
        .map(|(first, last)| if first == last { first.to_string() } else { format!("{first}–{last}") })
        .collect();
    let word = if pages.len() == 1 { "page" } else { "pages" };
    match named.split_last() {
        Some((last, rest)) if !rest.is_empty() => format!("{word} {} and {last}", rest.join(", ")),
        _ => format!("{word} {}", named.concat()),
    }
}
