//! Documents: the text of an input with its structure, its pages and its metadata.
//!
//! A [`Document`] has one normalised text. Everything else points into that text with [`Span`]s: blocks, table cells,
//! pages. Parsers write documents through [`DocumentBuilder`], which keeps the spans right by construction.

mod area;
mod budget;
mod builder;
mod contents;
mod location;
mod markdown;
mod metadata;
mod parser;
mod recogniser;
mod span;
mod table;

pub use area::{Area, LineBox, PageArea};
pub use budget::{Budget, Made};
pub use builder::{DocumentBuilder, InlineLink, Piece, PieceLine, TableCell, TableRow, points_inside};
pub use contents::{is_list_of_links, leads_to_page};
pub use location::Location;
pub(crate) use metadata::compare_decimals;
pub use metadata::{Date, Metadata, Value, check_metadata};
pub use parser::{Input, Parser};
pub use recogniser::{PageRecogniser, Picture, SeenWord};
pub use span::{Pages, Span};
pub use table::{Row, Table};

use serde::{Deserialize, Serialize};

/// One parsed input.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Document {
    /// The name within its source: a relative path with `/` between the parts, or the caller's own name.
    pub name: String,
    /// The title, from the metadata or the first heading.
    pub title: Option<String>,
    /// The media type, such as `application/pdf`.
    pub media_type: String,
    /// The normalised text: Unicode NFC, `\n` line ends, a blank line between blocks, no furniture.
    pub text: String,
    /// The blocks in reading order. Spans ascend and never overlap.
    pub blocks: Vec<Block>,
    /// The start of each page in the text; empty for documents without pages.
    pub page_starts: Vec<PageStart>,
    /// The places of text lines on their pages, ascending by span; empty if nothing was drawn.
    #[serde(default)]
    pub boxes: Vec<LineBox>,
    /// The times of a recording with their starts in the text, ascending; empty for documents without times.
    #[serde(default)]
    pub moments: Vec<Moment>,
    /// The links in the text.
    #[serde(default)]
    pub links: Vec<Link>,
    /// The words that were recognised from pictures of pages.
    #[serde(default)]
    pub recognised: Vec<RecognisedWord>,
    /// The metadata.
    pub metadata: Metadata,
    /// What could not be read, in words for people.
    pub warnings: Vec<String>,
}

/// The start of a page.
///
/// The text of a footnote follows the paragraph that continues on the next page, so pages may go back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PageStart {
    /// The page, counted from 1.
    pub page: u32,
    /// The first byte of the text on it.
    pub start: usize,
    /// The document's own label, if it differs from the number: `iv`, `A-3`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
}

/// The start of a time in a recording.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Moment {
    /// Seconds from the beginning of the recording.
    pub seconds: f64,
    /// The first byte of the text that is spoken then.
    pub start: usize,
}

/// Formats seconds as a clock shows them: `12:31`, `1:02:03`.
pub fn clock(seconds: f64) -> String {
    let whole = seconds.max(0.0) as u64;
    let (hours, minutes, seconds) = (whole / 3600, whole / 60 % 60, whole % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{seconds:02}") } else { format!("{minutes}:{seconds:02}") }
}

/// A piece of text with a link.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// The text.
    pub span: Span,
    /// The target, as the document has it.
    pub target: String,
}

/// A word that was recognised from the picture of a page.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct RecognisedWord {
    /// The word.
    pub span: Span,
    /// The confidence of the recognition, from 0 to 1.
    pub confidence: f32,
}

/// The kind of a block.
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
    /// Code, with its white space.
    Code,
    /// A block quotation.
    Quotation,
    /// A picture, a plot or a drawing; its text is the text inside it.
    Figure,
    /// The caption of a figure or a table.
    Caption,
    /// A note at the foot of a page or the end of a document.
    Footnote,
    /// Entries of a list of contents, a list of questions or an index, which point to a place and say nothing of it.
    Contents,
    /// A running header, footer or page number, which is kept outside the text.
    Furniture,
}

impl BlockKind {
    /// Returns its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Heading => "heading",
            Self::Paragraph => "paragraph",
            Self::ListItem => "list_item",
            Self::Table => "table",
            Self::Code => "code",
            Self::Quotation => "quotation",
            Self::Figure => "figure",
            Self::Caption => "caption",
            Self::Footnote => "footnote",
            Self::Contents => "contents",
            Self::Furniture => "furniture",
        }
    }
}

/// A unit of structure.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Block {
    /// The kind.
    pub kind: BlockKind,
    /// The span in the text. For furniture it is empty, at the place where the furniture was met.
    pub span: Span,
    /// The level of a heading, 1 the outermost; else 0.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub level: u8,
    /// The rows and cells of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<Table>,
    /// The text of furniture, which the document's text does not have, and its page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub furniture: Option<Furniture>,
    /// The place of a figure on its page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub figure: Option<PageArea>,
}

/// The text of a running header, footer or page number.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Furniture {
    /// The text.
    pub text: String,
    /// The page it is on, counted from 1.
    pub page: u32,
    /// Its rectangle on the page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub area: Option<Area>,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
fn is_zero(level: &u8) -> bool {
    *level == 0
}

impl Document {
    /// Returns the text of a block: a slice of the document's text, or its own for furniture.
    pub fn block_text<'a>(&'a self, block: &'a Block) -> &'a str {
        match &block.furniture {
            Some(furniture) => &furniture.text,
            None => self.slice(block.span),
        }
    }

    /// Returns the text at a span; empty if the span does not lie on character boundaries inside the text.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or_default()
    }

    /// Returns the pages that a span touches; `None` for a document without pages.
    pub fn pages(&self, span: Span) -> Option<Pages> {
        let after = self.page_starts.partition_point(|start| start.start <= span.start);
        let begins = self.page_starts.get(after.saturating_sub(1))?.page;
        let inside =
            self.page_starts[after..].iter().take_while(|start| start.start < span.end).map(|start| start.page);
        let (first, last) = inside.fold((begins, begins), |(first, last), page| (first.min(page), last.max(page)));
        Some(Pages { first, last })
    }

    /// Returns the number of pages; 0 for a document without pages.
    pub fn page_count(&self) -> u32 {
        self.page_starts.iter().map(|start| start.page).max().unwrap_or(0)
    }

    /// Returns the document's own label of a page, if it differs from the number.
    pub fn page_label(&self, page: u32) -> Option<&str> {
        self.page_starts.iter().find(|start| start.page == page)?.label.as_deref()
    }

    /// Returns the time at which a span begins to be spoken, in seconds from the start of the recording.
    pub fn seconds(&self, span: Span) -> Option<f64> {
        let after = self.moments.partition_point(|moment| moment.start <= span.start);
        self.moments.get(after.saturating_sub(1)).map(|moment| moment.seconds)
    }

    /// Returns the places of a span on its pages: a rectangle for each run of consecutive lines.
    ///
    /// Costs a binary search and a step for each line of the span.
    pub fn areas(&self, span: Span) -> Vec<PageArea> {
        let first = self.boxes.partition_point(|line| line.span.end <= span.start);
        let lines = self.boxes[first..].iter().take_while(|line| line.span.start < span.end);
        area::join(lines.filter(|line| line.span.overlaps(span)))
    }

    /// Returns the places of a block on its pages.
    pub fn block_areas(&self, block: &Block) -> Vec<PageArea> {
        if let Some(figure) = &block.figure {
            return vec![*figure];
        }
        match &block.furniture {
            Some(part) => part.area.iter().map(|&area| PageArea { page: part.page, area }).collect(),
            None => self.areas(block.span),
        }
    }

    /// Returns the pages of a block.
    pub fn block_pages(&self, block: &Block) -> Option<Pages> {
        let own = block.furniture.as_ref().map(|part| part.page).or(block.figure.map(|figure| figure.page));
        own.map(|page| Pages { first: page, last: page }).or_else(|| self.pages(block.span))
    }

    /// Returns the headings above each block, outermost first: one path per block, as indexes into `blocks`.
    ///
    /// The path of a heading ends with itself. Costs one pass over the blocks.
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
