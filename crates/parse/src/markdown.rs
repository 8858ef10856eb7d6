//! Markdown (CommonMark, with tables), and front matter as metadata.

use logothete_core::document::{BlockKind, Document, DocumentBuilder, Value};
use logothete_core::{Error, ErrorKind, Result};
use pulldown_cmark::{Event, HeadingLevel, MetadataBlockKind, Options, Parser, Tag, TagEnd};

use crate::plain::Decoded;

/// Reads the events of the parser and writes blocks. Inline marks are left out; what they mark stays.
pub(crate) fn parse(name: &str, decoded: &Decoded<'_>) -> Result<Document> {
    let mut builder = DocumentBuilder::new(name, "text/markdown");
    decoded.note(&mut builder);
    let options = Options::ENABLE_TABLES | Options::ENABLE_YAML_STYLE_METADATA_BLOCKS | Options::ENABLE_STRIKETHROUGH;
    let mut reader = Reader { builder, text: String::new(), open: Vec::new(), table: None, metadata: false };
    for event in Parser::new_ext(decoded.text(), options) {
        reader.event(event);
    }
    if reader.builder.is_empty() {
        return Err(Error::new(ErrorKind::Unreadable, "the file holds no text"));
    }
    Ok(reader.builder.finish())
}

struct Reader {
    builder: DocumentBuilder,
    /// The text of the block that is open.
    text: String,
    /// What a paragraph means here: list items and quotations hold paragraphs.
    open: Vec<BlockKind>,
    table: Option<Vec<Vec<String>>>,
    metadata: bool,
}

impl Reader {
    fn event(&mut self, event: Event<'_>) {
        match event {
            Event::Start(tag) => self.start(&tag),
            Event::End(tag) => self.end(tag),
            Event::Text(text) | Event::Code(text) => self.text.push_str(&text),
            Event::SoftBreak => self.text.push(' '),
            Event::HardBreak => self.text.push('\n'),
            _ => {}
        }
    }

    fn start(&mut self, tag: &Tag<'_>) {
        match tag {
            // A list inside an item: what the item said so far is its own block.
            Tag::List(_) => self.flush(),
            Tag::Item => self.open.push(BlockKind::ListItem),
            Tag::BlockQuote(_) => self.open.push(BlockKind::Quotation),
            Tag::CodeBlock(_) => self.open.push(BlockKind::Code),
            Tag::Table(_) => self.table = Some(Vec::new()),
            Tag::TableHead | Tag::TableRow => {
                if let Some(rows) = &mut self.table {
                    rows.push(Vec::new());
                }
            }
            Tag::MetadataBlock(MetadataBlockKind::YamlStyle) => self.metadata = true,
            _ => {}
        }
    }

    fn end(&mut self, tag: TagEnd) {
        match tag {
            TagEnd::Paragraph => self.flush(),
            TagEnd::Heading(level) => {
                let text = std::mem::take(&mut self.text);
                self.builder.heading(level_number(level), &text);
            }
            TagEnd::Item | TagEnd::BlockQuote(_) | TagEnd::CodeBlock => {
                self.flush();
                self.open.pop();
            }
            TagEnd::TableCell => {
                let cell = std::mem::take(&mut self.text);
                if let Some(row) = self.table.as_mut().and_then(|rows| rows.last_mut()) {
                    row.push(cell);
                }
            }
            TagEnd::Table => {
                if let Some(rows) = self.table.take() {
                    self.builder.table(1, &rows);
                }
            }
            TagEnd::MetadataBlock(_) => {
                self.metadata = false;
                let text = std::mem::take(&mut self.text);
                front_matter(&text, &mut self.builder);
            }
            _ => {}
        }
    }

    fn flush(&mut self) {
        let text = std::mem::take(&mut self.text);
        self.builder.block(self.open.last().copied().unwrap_or(BlockKind::Paragraph), &text);
    }
}

fn level_number(level: HeadingLevel) -> u8 {
    match level {
        HeadingLevel::H1 => 1,
        HeadingLevel::H2 => 2,
        HeadingLevel::H3 => 3,
        HeadingLevel::H4 => 4,
        HeadingLevel::H5 => 5,
        HeadingLevel::H6 => 6,
    }
}

/// The `key: value` lines of front matter. Nested values are named in a warning and left out.
fn front_matter(text: &str, builder: &mut DocumentBuilder) {
    let mut nested = Vec::new();
    let mut last = String::new();
    for line in text.lines().filter(|line| !line.trim().is_empty() && !line.trim_start().starts_with('#')) {
        let inside = line.starts_with([' ', '\t', '-']);
        match line.split_once(':') {
            Some((key, value)) if !inside => {
                last = key.trim().to_owned();
                if !value.trim().is_empty() {
                    builder.metadata(last.clone(), Value::from_written(value));
                }
            }
            _ => {
                if !nested.contains(&last) {
                    nested.push(last.clone());
                }
            }
        }
    }
    for key in nested {
        builder.warn(format!("the front matter's {key:?} has more than one value and was left out"));
    }
}
