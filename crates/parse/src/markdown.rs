//! Markdown (CommonMark, with tables), and front matter as metadata.

use std::borrow::Cow;

use logothete_core::chunk::LinePattern;
use logothete_core::document::{BlockKind, Document, DocumentBuilder, InlineLink, Input, Made, Parser, Span, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use pulldown_cmark::{Event, HeadingLevel, MetadataBlockKind, Options, Parser as Events, Tag, TagEnd};

use crate::plain;

/// Reads Markdown. Inline marks are left out; what they mark stays.
#[derive(Clone, Debug, Default)]
pub struct MarkdownParser {
    boundary: Option<LinePattern>,
}

impl MarkdownParser {
    /// Makes each line that fits a pattern a paragraph of its own, wherever it is outside of code. Otherwise it would become a part
    /// of the paragraph around it, or a rule, or the underline of a heading.
    #[must_use]
    pub fn boundary(mut self, pattern: Option<LinePattern>) -> Self {
        self.boundary = pattern;
        self
    }

    /// Returns Markdown in which the lines that fit the boundary stand alone.
    fn parted<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let Some(boundary) = &self.boundary else { return Cow::Borrowed(text) };
        let mut parted = String::with_capacity(text.len() + 64);
        let mut fence: Option<&str> = None;
        for line in text.split_inclusive('\n') {
            let bare = line.trim();
            let marks = ["```", "~~~"].into_iter().find(|marks| bare.starts_with(marks));
            match (fence, marks) {
                (Some(open), Some(marks)) if open == marks => fence = None,
                (None, Some(marks)) => fence = Some(marks),
                _ => {}
            }
            if fence.is_none() && boundary.is_met(bare) {
                // A backslash takes the meaning of each sign.
                parted.push_str("\n\n");
                for sign in bare.chars() {
                    parted.extend(sign.is_ascii_punctuation().then_some('\\'));
                    parted.push(sign);
                }
                parted.push_str("\n\n");
            } else {
                parted.push_str(line);
            }
        }
        Cow::Owned(parted)
    }
}

impl Parser for MarkdownParser {
    fn media_types(&self) -> &[&str] {
        &["text/markdown"]
    }

    fn endings(&self) -> &[&str] {
        &["md", "markdown", "mdown"]
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        let boundary = self.boundary.as_ref().map(LinePattern::to_string);
        Fingerprint::of(["markdown 3".to_owned()].into_iter().chain(boundary))
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "text/markdown", input.budget);
        decoded.note(&mut builder);
        let options =
            Options::ENABLE_TABLES | Options::ENABLE_YAML_STYLE_METADATA_BLOCKS | Options::ENABLE_STRIKETHROUGH;
        let mut reader = Reader { builder, ..Reader::default() };
        let text = self.parted(decoded.text());
        for (count, event) in Events::new_ext(&text, options).enumerate() {
            if count % 1_000 == 0 {
                input.budget.check()?;
            }
            reader.event(event);
        }
        if reader.builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the file holds no text"));
        }
        Ok(reader.builder.finish())
    }
}

#[derive(Default)]
struct Reader {
    builder: DocumentBuilder,
    /// The text of the block that is open.
    text: String,
    links: Vec<InlineLink>,
    /// Links whose end has not come.
    pointing: Vec<(usize, String)>,
    /// The role of a paragraph here: list items and quotations contain paragraphs.
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
            Tag::Link { dest_url, .. } => self.pointing.push((self.text.len(), dest_url.to_string())),
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
                let (text, links) = (std::mem::take(&mut self.text), std::mem::take(&mut self.links));
                self.builder.linked_block(BlockKind::Heading, level_number(level), &text, links);
            }
            TagEnd::Link => {
                if let Some((start, target)) = self.pointing.pop()
                    && start < self.text.len()
                {
                    self.links.push(InlineLink { span: Span::new(start, self.text.len()), target });
                }
            }
            TagEnd::Item | TagEnd::BlockQuote(_) | TagEnd::CodeBlock => {
                self.flush();
                self.open.pop();
            }
            // Rows are filled up to the breadth of the first one, however short they are.
            TagEnd::TableCell if !self.builder.may_make(Made::Cells, 1) => self.text.clear(),
            TagEnd::TableCell => {
                let cell = std::mem::take(&mut self.text);
                self.links.clear();
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
        let (text, links) = (std::mem::take(&mut self.text), std::mem::take(&mut self.links));
        self.builder.linked_block(self.open.last().copied().unwrap_or(BlockKind::Paragraph), 0, &text, links);
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

/// The `key: value` lines of front matter. A list becomes its items with commas between; values nested deeper are named in a
/// warning and left out.
fn front_matter(text: &str, builder: &mut DocumentBuilder) {
    let mut nested = Vec::new();
    let mut last = String::new();
    let mut list: Vec<String> = Vec::new();
    let keep = |key: &str, list: &mut Vec<String>, builder: &mut DocumentBuilder| {
        if !list.is_empty() {
            builder.metadata(key, Value::Text(std::mem::take(list).join(", ")));
        }
    };
    for line in text.lines().filter(|line| !line.trim().is_empty() && !line.trim_start().starts_with('#')) {
        let item = line.trim_start().strip_prefix("- ").map(str::trim).filter(|item| !item.contains(": "));
        let inside = line.starts_with([' ', '\t', '-']);
        match (item, line.split_once(':')) {
            (Some(item), _) if inside && !last.is_empty() => list.push(item.trim_matches(['"', '\'']).to_owned()),
            (_, Some((key, value))) if !inside => {
                keep(&last, &mut list, builder);
                last = key.trim().to_owned();
                let flow = value.trim().strip_prefix('[').and_then(|value| value.strip_suffix(']'));
                if let Some(items) = flow {
                    list = items.split(',').map(|item| item.trim().trim_matches(['"', '\'']).to_owned()).collect();
                    list.retain(|item| !item.is_empty());
                } else if !value.trim().is_empty() {
                    builder.metadata(last.clone(), Value::from_written(value));
                }
            }
            _ => {
                if nested.last() != Some(&last) {
                    nested.push(last.clone());
                }
            }
        }
    }
    keep(&last, &mut list, builder);
    for key in nested {
        builder.warn(format!("the front matter's {key:?} holds more than a value or a list and was left out"));
    }
}
