//! Sentences, list items, table rows and code lines: the smallest units that can be quoted.

use serde::{Deserialize, Serialize};

use crate::document::{BlockKind, Document, Pages, Span};
use crate::text;

/// A sentence of running text, a short list item, a row of a table, a heading, or a line of code.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Sentence {
    /// Its span in the document's text.
    pub span: Span,
    /// The block of the sentence.
    pub kind: BlockKind,
    /// The pages it touches.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pages: Option<Pages>,
    /// For a table row, the text that can be read alone; see [`Table::row_alone`](crate::document::Table::row_alone).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub row: Option<String>,
}

/// Shorter list items, in words, are quoted whole, because their parts say little alone.
const WHOLE_ITEM: usize = 60;

/// Returns everything in a document that can be quoted, in order. Spans never cross a block and never overlap.
pub fn sentences(document: &Document) -> Vec<Sentence> {
    let mut found = Vec::new();
    for block in &document.blocks {
        let body = document.slice(block.span);
        let mut push = |span: Span, row: Option<String>| {
            found.push(Sentence { span, kind: block.kind, pages: document.pages(span), row });
        };
        match (block.kind, &block.table) {
            (BlockKind::Furniture, _) => {}
            (_, Some(table)) => {
                for (index, row) in table.rows.iter().enumerate().filter(|(_, row)| !row.span.is_empty()) {
                    push(row.span, table.row_alone(&document.text, index));
                }
            }
            (BlockKind::Heading, _) => push(block.span, None),
            (BlockKind::ListItem | BlockKind::Contents, _) if text::count_words(body) <= WHOLE_ITEM => {
                push(block.span, None);
            }
            (BlockKind::Code, _) => {
                let mut start = block.span.start;
                for line in body.split_inclusive('\n') {
                    let kept = line.trim_end();
                    if !kept.is_empty() {
                        push(Span::new(start, start + kept.len()), None);
                    }
                    start += line.len();
                }
            }
            _ => {
                for span in text::sentences(body) {
                    push(Span::new(block.span.start + span.start, block.span.start + span.end), None);
                }
            }
        }
    }
    found
}

/// Returns the sentences inside a span, and whether one extends beyond its ends.
///
/// If the span has no whole sentence, the part inside it can be quoted.
pub(super) fn inside(document: &Document, all: &[Sentence], span: Span) -> (Vec<Sentence>, bool) {
    let first = all.partition_point(|sentence| sentence.span.end <= span.start);
    let touched = || all[first..].iter().take_while(|sentence| sentence.span.start < span.end);
    let whole: Vec<Sentence> = touched().filter(|sentence| span.contains(sentence.span)).cloned().collect();
    let cuts = touched().count() > whole.len();
    if !cuts || whole.iter().any(|sentence| sentence.kind != BlockKind::Heading) {
        return (whole, cuts);
    }
    let clipped = touched().map(|sentence| {
        let part = Span::new(sentence.span.start.max(span.start), sentence.span.end.min(span.end));
        Sentence { span: part, pages: document.pages(part), ..sentence.clone() }
    });
    (clipped.collect(), cuts)
}
