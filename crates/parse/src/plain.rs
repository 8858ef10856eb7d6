//! Plain text: decoding, and the structure that its lines show.

use std::borrow::Cow;

use chardetng::EncodingDetector;
use encoding_rs::Encoding;
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Value};
use logothete_core::text::list_marker;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

/// Text with the encoding that it was in.
pub(crate) struct Decoded<'a> {
    text: Cow<'a, str>,
    encoding: &'static Encoding,
    replaced: bool,
}

/// Decodes bytes by their byte order mark, as UTF-8 if they are valid UTF-8, or else as the detector guesses.
pub(crate) fn decode(bytes: &[u8]) -> Decoded<'_> {
    if Encoding::for_bom(bytes).is_none()
        && let Ok(text) = std::str::from_utf8(bytes)
    {
        return Decoded { text: Cow::Borrowed(text), encoding: encoding_rs::UTF_8, replaced: false };
    }
    let mut detector = EncodingDetector::new(chardetng::Iso2022JpDetection::Deny);
    detector.feed(bytes, true);
    let guess = detector.guess(None, chardetng::Utf8Detection::Allow);
    let (text, encoding, replaced) = guess.decode(bytes);
    Decoded { text, encoding, replaced }
}

impl Decoded<'_> {
    /// Returns the text.
    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// Notes an encoding other than UTF-8, and characters that were lost.
    pub(crate) fn note(&self, builder: &mut DocumentBuilder) {
        if self.encoding != encoding_rs::UTF_8 {
            builder.metadata("encoding", Value::Text(self.encoding.name().to_owned()));
        }
        if self.replaced {
            builder.warn(format!("some bytes are not valid {} and were replaced by \u{fffd}", self.encoding.name()));
        }
    }
}

/// Reads plain text: paragraphs parted by blank lines; lines that look like headings; lists, and lines that all begin alike,
/// one item each.
#[derive(Clone, Copy, Debug, Default)]
pub struct TextParser;

impl Parser for TextParser {
    fn media_types(&self) -> &[&str] {
        &["text/plain"]
    }

    fn endings(&self) -> &[&str] {
        &["txt", "text", "log"]
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["plain 3"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "text/plain", input.budget);
        decoded.note(&mut builder);
        write(decoded.text(), &mut builder);
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the file holds white space only"));
        }
        Ok(builder.finish())
    }
}

/// Writes text paragraph by paragraph.
pub(crate) fn write(text: &str, builder: &mut DocumentBuilder) {
    let text = text.replace("\r\n", "\n").replace(['\r', '\u{c}'], "\n");
    let mut lines: Vec<&str> = Vec::new();
    for line in text.lines().chain([""]) {
        if !line.trim().is_empty() {
            lines.push(line.trim_end());
        } else if !lines.is_empty() {
            paragraph(&lines, builder);
            lines.clear();
        }
    }
}

/// Adds the text between two blank lines.
fn paragraph(lines: &[&str], builder: &mut DocumentBuilder) {
    if lines.iter().all(|line| is_heading(line)) {
        // The first heading of a text is its title; later ones are below it.
        let level = if builder.is_empty() { 1 } else { 2 };
        builder.heading(level, &lines.join("\n"));
        return;
    }
    let shape = |line: &str| line_shape(line.trim_start());
    let first = shape(lines[0]);
    let alike = lines.iter().filter(|line| first.is_some() && shape(line) == first).count();
    let items = list_marker(lines[0].trim_start()).is_some() || (lines.len() > 1 && alike * 2 > lines.len());
    if !items {
        builder.block(BlockKind::Paragraph, &lines.join("\n"));
        return;
    }
    let mut item: Vec<&str> = Vec::new();
    for line in lines {
        let begins = list_marker(line.trim_start()).is_some() || (first.is_some() && shape(line) == first);
        if begins && !item.is_empty() {
            builder.block(BlockKind::ListItem, &item.join("\n"));
            item.clear();
        }
        item.push(line);
    }
    builder.block(BlockKind::ListItem, &item.join("\n"));
}

/// Capitals throughout, short, and no full stop: a heading by the custom of plain text, in scripts that have capitals.
fn is_heading(line: &str) -> bool {
    let capitals = line.chars().filter(|c| c.is_uppercase()).count();
    let letters = line.chars().filter(|c| c.is_alphabetic()).count();
    capitals >= 3
        && capitals * 2 > letters
        && line.len() <= 80
        && !line.ends_with('.')
        && !line.chars().any(char::is_lowercase)
}

/// Returns the shape of the figures that a line begins with, such as `00:00` or `0000-00-00`; `None` if there are none.
fn line_shape(line: &str) -> Option<String> {
    let head = line.split_whitespace().next()?;
    let figures = head.chars().filter(char::is_ascii_digit).count();
    (figures >= 2 && head.chars().all(|c| c.is_ascii_digit() || "-/.:,TZ[]+".contains(c)))
        .then(|| head.chars().map(|c| if c.is_ascii_digit() { '0' } else { c }).collect())
}
