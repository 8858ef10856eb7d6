//! Documents: the text of an input with its structure, its pages and what was learnt about it.
//!
//! A [`Document`] has one normalised text. Everything else points into that text with [`Span`]s: blocks, table cells,
//! pages. Parsers write documents through [`DocumentBuilder`], which keeps the spans right by construction.

mod builder;
mod metadata;
mod span;
mod table;

pub use builder::DocumentBuilder;
pub use metadata::{Metadata, Value};
pub use span::{Pages, Span};
pub use table::{Row, Table};

use serde::{Deserialize, Serialize};

/// One parsed input.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Document {
    /// Its name within its source: a relative path with `/` between the parts, or the caller's own name.
    pub name: String,
    /// Its title, from its metadata or its first heading.
    pub title: Option<String>,
    /// Its media type, such as `application/pdf`.
    pub media_type: String,
    /// The normalised text: Unicode NFC, `\n` line ends, a blank line between blocks, no furniture.
    pub text: String,
    /// Its blocks in reading order. Spans ascend and never overlap.
    pub blocks: Vec<Block>,
    /// Where each page begins in the text; empty for documents without pages.
    pub page_starts: Vec<PageStart>,
    /// What is known about it.
    pub metadata: Metadata,
    /// What could not be read, in words for a person.
    pub warnings: Vec<String>,
}

/// Where a page begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PageStart {
    /// The page, counted from 1.
    pub page: u32,
    /// The first byte of the text on it.
    pub start: usize,
}

/// What a block is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum BlockKind {
    /// A heading; its level is in the block.
    Heading,
    /// Running text.
    Paragraph,
    /// One item of a list.
    ListItem,
    /// A table; its rows and cells are in the block.
    Table,
    /// Code, kept as it was set.
    Code,
    /// A quotation set apart.
    Quotation,
    /// A running header, footer or page number: kept beside the text, not in it.
    Furniture,
}

impl BlockKind {
    /// The word for it, as it is written in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Heading => "heading",
            Self::Paragraph => "paragraph",
            Self::ListItem => "list_item",
            Self::Table => "table",
            Self::Code => "code",
            Self::Quotation => "quotation",
            Self::Furniture => "furniture",
        }
    }
}

/// A unit of structure.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Block {
    /// What it is.
    pub kind: BlockKind,
    /// Where it is in the text. Empty for furniture, at the place where it was met.
    pub span: Span,
    /// For a heading its level, 1 the outermost; else 0.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub level: u8,
    /// For a table its rows and cells.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<Table>,
    /// For furniture its text, since that is not in the document's, and its page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub furniture: Option<Furniture>,
}

/// The text of a running header, footer or page number.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Furniture {
    /// What it says.
    pub text: String,
    /// The page it is on, counted from 1.
    pub page: u32,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
fn is_zero(level: &u8) -> bool {
    *level == 0
}

impl Document {
    /// The text of a block: a slice of the document's, or its own for furniture.
    pub fn block_text<'a>(&'a self, block: &'a Block) -> &'a str {
        match &block.furniture {
            Some(furniture) => &furniture.text,
            None => self.slice(block.span),
        }
    }

    /// The text at a span; empty when the span does not lie on character boundaries inside the text.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or_default()
    }

    /// The pages a span touches, or nothing for a document without pages.
    pub fn pages(&self, span: Span) -> Option<Pages> {
        let page_at = |byte: usize| {
            let after = self.page_starts.partition_point(|start| start.start <= byte);
            self.page_starts.get(after.checked_sub(1)?).map(|start| start.page)
        };
        let first = page_at(span.start).or_else(|| self.page_starts.first().map(|start| start.page))?;
        let last = page_at(span.end.saturating_sub(1).max(span.start)).unwrap_or(first);
        Some(Pages { first, last: last.max(first) })
    }

    /// How many pages it has; 0 for a document without pages.
    pub fn page_count(&self) -> u32 {
        self.page_starts.last().map_or(0, |start| start.page)
    }

    /// The pages of a block.
    pub fn block_pages(&self, block: &Block) -> Option<Pages> {
        match &block.furniture {
            Some(furniture) => Some(Pages { first: furniture.page, last: furniture.page }),
            None => self.pages(block.span),
        }
    }

    /// The headings above each block, outermost first: one path per block, as indexes into `blocks`.
    ///
    /// A heading's own path ends with itself. Costs one pass over the blocks.
    pub fn heading_paths(&self) -> Vec<Vec<usize>> {
        let mut open: Vec<usize> = Vec::new();
        self.blocks
            .iter()
            .enumerate()
            .map(|(index, block)| {
                if block.kind == BlockKind::Heading {
                    open.retain(|&heading| self.blocks[heading].level < block.level);
                    open.push(index);
                }
                open.clone()
            })
            .collect()
    }
}
