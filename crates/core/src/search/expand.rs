//! Expansion: how much of a document is returned around a chunk that was found.

use super::ExpansionKind;
use crate::document::{BlockKind, Document, Span};
use crate::text;

/// What is around a chunk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// The chunk.
    pub span: Span,
    /// Its section, from heading to heading.
    pub section: Span,
    /// From the beginning of the chunk before it to the end of the one after it.
    pub neighbours: Span,
}

/// Returns the span of a document to return for a chunk: whole blocks around it, up to `max_words` words. A chunk that is longer stays as it is.
///
/// Costs a pass over the blocks that come into question.
pub fn expanded(document: &Document, around: Surroundings, kind: ExpansionKind, max_words: usize) -> Span {
    let wanted = match kind {
        ExpansionKind::None => around.span,
        ExpansionKind::Neighbours => around.neighbours,
        ExpansionKind::Section => around.section,
        ExpansionKind::Page => pages(document, around.span).unwrap_or(around.section),
        ExpansionKind::Table => tables(document, around.span),
    };
    grown(document, around.span, wanted, max_words)
}

/// Returns the span of the pages that a span touches; `None` for a document without pages.
fn pages(document: &Document, span: Span) -> Option<Span> {
    let touched = document.pages(span)?;
    let starts = &document.page_starts;
    let start = starts.iter().filter(|start| start.page >= touched.first).map(|start| start.start).min()?;
    let end = starts.iter().filter(|start| start.page > touched.last).map(|start| start.start).min();
    Some(Span::new(start.min(span.start), end.unwrap_or(document.text.len()).max(span.end)))
}

/// Returns a span with the whole of each table that it touches.
fn tables(document: &Document, span: Span) -> Span {
    let touched = document.blocks.iter().filter(|block| block.table.is_some() && block.span.overlaps(span));
    touched.fold(span, |all, table| Span::new(all.start.min(table.span.start), all.end.max(table.span.end)))
}

/// Adds the blocks around a span, the nearest first and by turns below and above, while they are inside `wanted` and the words suffice.
fn grown(document: &Document, span: Span, wanted: Span, max_words: usize) -> Span {
    let blocks: Vec<Span> = document
        .blocks
        .iter()
        .filter(|block| block.kind != BlockKind::Furniture && !block.span.is_empty() && block.span.overlaps(wanted))
        .map(|block| Span::new(block.span.start.max(wanted.start), block.span.end.min(wanted.end)))
        .collect();
    let words = |part: Span| text::count_words(document.slice(part));
    let mut left = max_words.saturating_sub(words(span));
    let mut grown = span;
    let mut below = blocks.partition_point(|block| block.end <= span.end);
    let mut above = blocks.partition_point(|block| block.start < span.start);
    loop {
        let before = grown;
        if let Some(block) = blocks.get(below) {
            let added = words(Span::new(grown.end, block.end));
            if added <= left {
                (grown.end, left, below) = (block.end, left - added, below + 1);
            }
        }
        if let Some(block) = above.checked_sub(1).and_then(|at| blocks.get(at)) {
            let added = words(Span::new(block.start, grown.start));
            if added <= left {
                (grown.start, left, above) = (block.start, left - added, above - 1);
            }
        }
        if grown == before {
            return grown;
        }
    }
}

/// Joins the spans of one document that meet, in the order in which they come: a later one that overlaps an earlier one, or touches it, becomes
/// a part of it. Returns for each span the number of the one that it is a part of, and what the spans have become.
pub fn joined(spans: &[(i64, Span)]) -> (Vec<usize>, Vec<Span>) {
    let mut into: Vec<usize> = Vec::with_capacity(spans.len());
    let mut joined: Vec<Span> = spans.iter().map(|(_, span)| *span).collect();
    for (at, &(document, span)) in spans.iter().enumerate() {
        let meets = |&other: &usize| {
            into[other] == other
                && spans[other].0 == document
                && joined[other].start <= span.end
                && span.start <= joined[other].end
        };
        let first = (0..at).find(meets).unwrap_or(at);
        joined[first] = Span::new(joined[first].start.min(span.start), joined[first].end.max(span.end));
        into.push(first);
    }
    (into, joined)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::document::DocumentBuilder;

    fn document(paragraphs: usize) -> Document {
        let mut builder = DocumentBuilder::new("quay.txt", "text/plain");
        for at in 0..paragraphs {
            if at % 5 == 0 {
                builder.page(1 + at as u32 / 5);
                builder.heading(1, &format!("Quay {at}"));
            }
            builder.block(BlockKind::Paragraph, &format!("Bollard {at} holds five tons."));
        }
        builder.finish()
    }

    fn around(document: &Document, block: usize) -> Surroundings {
        let blocks = &document.blocks;
        let section = Span::new(0, blocks[6].span.start);
        Surroundings {
            span: blocks[block].span,
            section,
            neighbours: Span::new(blocks[block - 1].span.start, blocks[block + 1].span.end),
        }
    }

    #[test]
    fn a_passage_grows_to_its_bounds_or_its_budget() {
        let document = document(10);
        let text =
            |kind, max_words| document.slice(expanded(&document, around(&document, 3), kind, max_words)).to_owned();
        assert_eq!(text(ExpansionKind::None, 400), "Bollard 2 holds five tons.");
        assert_eq!(text(ExpansionKind::Section, 10), "Bollard 2 holds five tons.\n\nBollard 3 holds five tons.");
        assert_eq!(
            text(ExpansionKind::Section, 15),
            "Bollard 1 holds five tons.\n\nBollard 2 holds five tons.\n\nBollard 3 holds five tons."
        );
        assert!(text(ExpansionKind::Section, 400).ends_with("Bollard 4 holds five tons."));
        assert!(text(ExpansionKind::Page, 400).starts_with("Quay 0\n\nBollard 0"));
        assert_eq!(text(ExpansionKind::Neighbours, 400).matches("Bollard").count(), 3);
        assert_eq!(text(ExpansionKind::Table, 400), text(ExpansionKind::None, 0), "it is no part of a table");
    }

    #[test]
    fn what_meets_is_joined_to_the_better_one() {
        let spans = [
            (1, Span::new(50, 80)),
            (2, Span::new(60, 90)),
            (1, Span::new(70, 99)),
            (1, Span::new(0, 10)),
            (1, Span::new(99, 120)),
        ];
        let (into, joined) = joined(&spans);
        assert_eq!(into, [0, 1, 0, 3, 0]);
        assert_eq!((joined[0], joined[3]), (Span::new(50, 120), Span::new(0, 10)));
    }

    proptest! {
        #[test]
        fn a_passage_keeps_its_text_and_its_budget(paragraphs in 8_usize..30, block in 1_usize..6, kind in 0_usize..5, max_words in 0_usize..90) {
            let document = document(paragraphs);
            let around = around(&document, block);
            let kind = [ExpansionKind::None, ExpansionKind::Neighbours, ExpansionKind::Section, ExpansionKind::Page, ExpansionKind::Table][kind];
            let span = expanded(&document, around, kind, max_words);
            prop_assert!(span.contains(around.span) && document.text.get(span.range()).is_some());
            let words = text::count_words(document.slice(span));
            prop_assert!(words <= max_words.max(text::count_words(document.slice(around.span))), "{words} words");
        }
    }
}
