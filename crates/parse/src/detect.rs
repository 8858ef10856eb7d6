//! What an input is: by its content first, by its name second.

use logothete_core::{Error, ErrorKind, Result};

/// A format that is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Portable Document Format.
    Pdf,
    /// A page of the web.
    Html,
    /// A table in text, its fields parted by commas, semicolons, tabs or bars.
    Delimited,
    /// Markdown, with or without front matter.
    Markdown,
    /// Plain text in any encoding.
    Plain,
}

/// How many bytes from the start are looked at.
const LOOK: usize = 8192;

/// Signatures of formats that are met often and not read, with the word for each.
const NOT_READ: &[(&[u8], &str)] = &[
    (b"PK\x03\x04", "a ZIP archive, or an office document made of one"),
    (b"\xD0\xCF\x11\xE0", "an old office document"),
    (b"\x89PNG\r\n\x1a\n", "a PNG picture"),
    (b"\xFF\xD8\xFF", "a JPEG picture"),
    (b"GIF8", "a GIF picture"),
    (b"\x1F\x8B", "a gzip archive"),
    (b"\x7FELF", "a program"),
    (b"SQLite format 3\0", "an SQLite database"),
];

/// Finds the format.
///
/// # Errors
/// When the content is binary and not of a format that is read.
pub(crate) fn detect(name: &str, bytes: &[u8]) -> Result<Format> {
    let start = &bytes[..bytes.len().min(LOOK)];
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_ascii_lowercase()).unwrap_or_default();
    // The standard lets up to a kilobyte of other bytes stand before a PDF's header.
    if start[..start.len().min(1024)].windows(5).any(|window| window == b"%PDF-") {
        return Ok(Format::Pdf);
    }
    if let Some((_, what)) = NOT_READ.iter().find(|(signature, _)| start.starts_with(signature)) {
        return Err(not_read(&format!("this is {what}"), &ending));
    }
    if is_binary(start) {
        return Err(not_read("this is binary data, not text", &ending));
    }
    if is_html(start) {
        return Ok(Format::Html);
    }
    Ok(match ending.as_str() {
        "html" | "htm" | "xhtml" => Format::Html,
        "csv" | "tsv" | "tab" | "psv" => Format::Delimited,
        "md" | "markdown" | "mdown" => Format::Markdown,
        _ => Format::Plain,
    })
}

/// Whether text begins as a page does. Markdown may hold elements too, but does not begin with these.
fn is_html(start: &[u8]) -> bool {
    let text = String::from_utf8_lossy(&start[..start.len().min(1024)])
        .trim_start_matches('\u{feff}')
        .trim_start()
        .to_lowercase();
    let text =
        if text.starts_with("<?xml") { text.split_once("?>").map_or("", |(_, rest)| rest).trim_start() } else { &text };
    ["<!doctype html", "<html", "<head", "<body"].iter().any(|beginning| text.starts_with(beginning))
}

/// A warning when the name of a file says that it is something else.
pub(crate) fn misnamed(name: &str, format: Format) -> Option<String> {
    let named_pdf = name.rsplit_once('.').is_some_and(|(_, ending)| ending.eq_ignore_ascii_case("pdf"));
    match (named_pdf, format) {
        (true, Format::Pdf) => None,
        (true, _) => Some("its name ends in .pdf, and it is text; it was read as text".to_owned()),
        (false, Format::Pdf) => Some("it is a PDF, whatever its name says; it was read as one".to_owned()),
        (false, _) => None,
    }
}

fn not_read(what: &str, ending: &str) -> Error {
    let named = if ending == "pdf" { ", though its name ends in .pdf" } else { "" };
    Error::new(ErrorKind::Unsupported, format!("{what}{named}; PDF, HTML, Markdown, CSV and plain text are read"))
}

/// Whether bytes are not text in any usual encoding: a NUL where the text is not UTF-16, or many control bytes.
fn is_binary(start: &[u8]) -> bool {
    if start.starts_with(b"\xFF\xFE") || start.starts_with(b"\xFE\xFF") {
        return false;
    }
    let control = start.iter().filter(|&&b| b < 9 || (14..32).contains(&b) && b != 27).count();
    start.contains(&0) || control * 20 > start.len()
}
