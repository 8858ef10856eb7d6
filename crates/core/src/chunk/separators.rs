//! Cuts at the user's separators.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Piece, Seam, push_run};
use super::window::push_words;
use super::{Chunker, Limit};
use crate::document::{BlockKind, Document, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::text;

/// A place to cut at.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Separator {
    /// These characters; they stay with the text before them.
    Text(String),
    /// The end of a sentence.
    Sentence,
    /// The end of a word.
    Word,
}

/// Cuts at the coarsest separator whose parts fit in a chunk, and packs neighbouring parts.
///
/// A part that does not fit is cut at the next separator, and finally between words. Costs a pass for each separator.
#[derive(Clone, Debug)]
pub struct Separators {
    limit: Limit,
    separators: Vec<Separator>,
}

impl Separators {
    /// Creates a chunker with a limit and separators, the coarsest first.
    ///
    /// # Errors
    /// If a separator is empty, or there is none.
    pub fn new(limit: Limit, separators: Vec<Separator>) -> Result<Self> {
        if separators.is_empty() || separators.contains(&Separator::Text(String::new())) {
            let message = "an empty separator would cut everywhere; set one such as a blank line";
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        Ok(Self { limit, separators })
    }

    /// Returns the separators blank line, line, sentence, word.
    pub fn usual() -> Vec<Separator> {
        let text = |text: &str| Separator::Text(text.to_owned());
        vec![text("\n\n"), text("\n"), Separator::Sentence, Separator::Word]
    }
}

impl Chunker for Separators {
    fn fingerprint(&self) -> Fingerprint {
        let separators = format!("{:?}", self.separators);
        Fingerprint::of(["separators 1".to_owned(), self.limit.fingerprint().to_string(), separators])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let room = |block: usize| contexts.least_room(block, &self.limit);
        let whole = Span::new(0, document.text.len());
        let mut cutting = Cutting { document, limit: &self.limit, room: &room, block: 0, pieces: Vec::new() };
        cutting.part(whole, &self.separators);
        let mut cuts = Vec::new();
        let packer = Packer { document, contexts: &contexts, limit: &self.limit, fill: Fill::BestSeam };
        packer.pack(&cutting.pieces, &mut cuts);
        Ok(cuts)
    }
}

struct Cutting<'a> {
    document: &'a Document,
    limit: &'a Limit,
    room: &'a dyn Fn(usize) -> usize,
    block: usize,
    pieces: Vec<Piece>,
}

impl Cutting<'_> {
    /// Adds a part whole if it fits, else its parts by the first separator.
    fn part(&mut self, span: Span, separators: &[Separator]) {
        let text = self.document.slice(span);
        let lead = text.len() - text.trim_start().len();
        let span = Span::new(span.start + lead, span.start + lead + text.trim().len());
        if span.is_empty() {
            return;
        }
        let blocks = &self.document.blocks;
        while self.block + 1 < blocks.len() && blocks[self.block].span.end <= span.start {
            self.block += 1;
        }
        let last = blocks.partition_point(|block| block.span.start < span.end).max(self.block + 1);
        let room = (self.block..last.min(blocks.len())).map(self.room).min().unwrap_or(usize::MAX);
        let text = self.document.slice(span);
        let fits = text.len() <= self.limit.too_many_bytes(room) && self.limit.weight(text) <= room;
        let heading = blocks.get(last - 1).is_some_and(|block| block.kind == BlockKind::Heading && block.span == span);
        let block = self.block.min(blocks.len().saturating_sub(1));
        let rank = separators.len();
        let first = self.pieces.len();
        match separators.split_first() {
            _ if fits => {
                let weight = self.limit.weight(text);
                self.pieces.push(Piece { span, weight, block, seam: Seam::Words });
            }
            None => push_run(self.document, span, block, Seam::Words, room, self.limit, &mut self.pieces),
            Some((Separator::Word, _)) => push_words(self.document, span, block, room, self.limit, &mut self.pieces),
            Some((separator, finer)) => {
                let parts = separated(text, separator);
                for (index, part) in parts.iter().enumerate() {
                    self.part(Span::new(span.start + part.start, span.start + part.end), finer);
                    if index + 1 < parts.len()
                        && let Some(last) = self.pieces.last_mut()
                        && last.seam != Seam::Heading
                    {
                        last.seam = Seam::Blocks(rank);
                    }
                }
            }
        }
        if heading && let Some(last) = self.pieces[first..].last_mut() {
            last.seam = Seam::Heading;
        }
    }
}

/// Returns the parts of a text; separators stay with the text before them.
fn separated(text: &str, separator: &Separator) -> Vec<Span> {
    match separator {
        Separator::Text(separator) => {
            let mut start = 0;
            text.split_inclusive(separator.as_str())
                .map(|part| {
                    start += part.len();
                    Span::new(start - part.len(), start)
                })
                .collect()
        }
        Separator::Sentence => {
            // Each part reaches from a sentence to the next, so that no text between them is lost.
            let starts: Vec<usize> = text::sentences(text).iter().map(|span| span.start).collect();
            let ends = starts.iter().skip(1).copied().chain([text.len()]);
            starts
                .iter()
                .zip(ends)
                .enumerate()
                .map(|(index, (&start, end))| Span::new(if index == 0 { 0 } else { start }, end))
                .collect()
        }
        Separator::Word => Vec::new(),
    }
}
