//! Pieces: runs of text that chunks are packed from. A piece that is too long is cut.

use unicode_segmentation::UnicodeSegmentation;

use super::{Limit, Unit};
use crate::document::{Block, BlockKind, Document, Span};
use crate::text;

/// The quality of a place to end a chunk, from the worst to the best.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Seam {
    /// After a heading, the header of a table or its caption, which belong to the following text.
    Heading,
    /// Inside a sentence.
    Words,
    /// Between the sentences of a block, the rows of a table, the lines of code.
    Sentences,
    /// Between two blocks, or at a separator of this rank; a higher rank is coarser.
    Blocks(usize),
}

/// A run of text that is never cut.
#[derive(Clone, Copy, Debug)]
pub(super) struct Piece {
    pub span: Span,
    pub weight: usize,
    /// The block of the text.
    pub block: usize,
    /// The seam after it.
    pub seam: Seam,
}

/// Returns the parts of a block that stay together if it is too long: table rows, lines of code, else sentences.
pub(super) fn parts(document: &Document, block: &Block) -> Vec<Span> {
    let body = document.slice(block.span);
    match (&block.table, block.kind) {
        (Some(table), _) => table.rows.iter().map(|row| row.span).filter(|span| !span.is_empty()).collect(),
        (None, BlockKind::Code) => lines(body, block.span.start),
        _ => text::sentences(body)
            .into_iter()
            .map(|span| Span::new(block.span.start + span.start, block.span.start + span.end))
            .collect(),
    }
}

/// Returns the parts of a block inside a span.
pub(super) fn parts_inside(document: &Document, block: &Block, inside: Span) -> Vec<Span> {
    let clipped = parts(document, block).into_iter().filter_map(|part| {
        let (start, end) = (part.start.max(inside.start), part.end.min(inside.end));
        (start < end).then(|| trimmed(&document.text, Span::new(start, end))).flatten()
    });
    clipped.collect()
}

/// Returns the lines of a text that are not blank, without line ends.
fn lines(text: &str, base: usize) -> Vec<Span> {
    let mut found = Vec::new();
    let mut start = base;
    for line in text.split_inclusive('\n') {
        let kept = line.trim_end().len();
        if kept > 0 {
            found.push(Span::new(start, start + kept));
        }
        start += line.len();
    }
    found
}

/// Adds a block as one piece if it fits, else its parts. Parts that are still too long are cut between words.
pub(super) fn push_block(document: &Document, index: usize, room: usize, limit: &Limit, to: &mut Vec<Piece>) {
    let block = &document.blocks[index];
    let body = document.slice(block.span);
    let seam = if block.kind == BlockKind::Heading { Seam::Heading } else { Seam::Blocks(0) };
    if body.trim().is_empty() {
        return;
    }
    if body.len() <= limit.too_many_bytes(room) {
        let weight = limit.weight(body);
        if weight <= room {
            to.push(Piece { span: block.span, weight, block: index, seam });
            return;
        }
    }
    // The header of a table stays with its first row.
    let header = block.table.as_ref().map_or(0, |table| {
        table.rows.get(..table.header_rows).and_then(|rows| rows.last()).map_or(0, |row| row.span.end)
    });
    for part in parts(document, block) {
        let seam = if part.end <= header { Seam::Heading } else { Seam::Sentences };
        push_run(document, part, index, seam, room, limit, to);
    }
    if let Some(last) = to.last_mut().filter(|last| last.block == index) {
        last.seam = seam;
    }
}

/// Adds a run of text as one piece if it fits, else as several, cut between words.
pub(super) fn push_run(
    document: &Document,
    run: Span,
    block: usize,
    seam: Seam,
    room: usize,
    limit: &Limit,
    to: &mut Vec<Piece>,
) {
    let text = document.slice(run);
    let weight = limit.weight(text);
    if weight <= room {
        to.push(Piece { span: run, weight, block, seam });
        return;
    }
    to.extend(cut_run(document, run, block, room, limit));
    if let Some(last) = to.last_mut() {
        last.seam = seam;
    }
}

/// Cuts a run of text between words into pieces of at most `room`.
pub(super) fn cut_run<'a>(
    document: &'a Document,
    run: Span,
    block: usize,
    room: usize,
    limit: &'a Limit,
) -> impl Iterator<Item = Piece> + 'a {
    between_words(document.slice(run), room, limit).into_iter().map(move |inner| {
        let span = Span::new(run.start + inner.start, run.start + inner.end);
        Piece { span, weight: limit.weight(document.slice(span)), block, seam: Seam::Words }
    })
}

/// Cuts a text into runs of at most `room`: at the last blank of the second half, else between words by Unicode Annex 29, else
/// between characters. No run begins or ends with white space.
fn between_words(text: &str, room: usize, limit: &Limit) -> Vec<Span> {
    let mut found = Vec::new();
    let mut run = Run::default();
    // The best place to cut so far, after a blank, and the length before it.
    let mut blank: Option<Run> = None;
    let mut push = |span: Span| found.extend(trimmed(text, span));
    let mut fragments: Vec<(usize, &str)> = Vec::new();
    for (at, segment) in text.split_word_bound_indices() {
        fragments.clear();
        if segment.len() >= room.min(LONG_WORD) && limit.weight(segment) > room {
            fragments.extend(in_characters(segment, room, limit).map(|(inside, part)| (at + inside, part)));
        } else {
            fragments.push((at, segment));
        }
        for &(at, part) in &fragments {
            let white = part.trim().is_empty();
            let length = if white { limit.gap(part) } else { limit.unit().measure(part) };
            if run.with(length, part.len()).weight(limit) > room {
                if let Some(good) = blank.filter(|good| good.weight(limit) * 2 >= room) {
                    push(Span::new(run.start, good.end()));
                    run = run.behind(&good);
                }
                if run.with(length, part.len()).weight(limit) > room {
                    push(Span::new(run.start, at));
                    run = Run { start: at, ..Run::default() };
                }
                blank = None;
            }
            run = run.with(length, part.len());
            if white {
                blank = Some(run);
            }
        }
    }
    push(Span::new(run.start, text.len()));
    found
}

/// Shorter words are assumed to fit.
const LONG_WORD: usize = 16;

/// A growing run of text: its start, its length in the limit's unit and in bytes.
#[derive(Clone, Copy, Default)]
struct Run {
    start: usize,
    length: usize,
    bytes: usize,
}

impl Run {
    fn with(self, length: usize, bytes: usize) -> Self {
        Self { start: self.start, length: self.length + length, bytes: self.bytes + bytes }
    }

    /// Returns the rest of it after its beginning.
    fn behind(self, beginning: &Self) -> Self {
        Self { start: beginning.end(), length: self.length - beginning.length, bytes: self.bytes - beginning.bytes }
    }

    fn end(&self) -> usize {
        self.start + self.bytes
    }

    fn weight(&self, limit: &Limit) -> usize {
        limit.weigh(self.length, self.bytes)
    }
}

/// Returns a span without the white space at its ends; `None` if nothing else is in it.
fn trimmed(text: &str, span: Span) -> Option<Span> {
    let run = &text[span.range()];
    let body = run.trim();
    let start = span.start + run.len() - run.trim_start().len();
    (!body.is_empty()).then(|| Span::new(start, start + body.len()))
}

/// Cuts a word that is too long into runs of whole characters that fit.
fn in_characters<'a>(word: &'a str, room: usize, limit: &Limit) -> impl Iterator<Item = (usize, &'a str)> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let rest = &word[at..];
        let mut end = 0;
        for (index, character) in rest.grapheme_indices(true) {
            let next = index + character.len();
            let over = match limit.unit() {
                Unit::Words => limit.weigh(1, next) > room,
                // Adds one character and counts from the beginning, since the runs of one word are short.
                Unit::Characters | Unit::Tokens(_) => next > MAX_FRAGMENT || limit.unit().measure(&rest[..next]) > room,
            };
            if over && end > 0 {
                break;
            }
            end = next;
        }
        let from = at;
        at += end;
        (end > 0).then(|| (from, &word[from..at]))
    })
}

/// The length in bytes of a word fragment that is counted again for every character.
const MAX_FRAGMENT: usize = 256;
