//! Windows of a fixed size: the baseline for other strategies.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Piece, Seam, cut_run};
use super::{Chunker, Limit};
use crate::document::{BlockKind, Document, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// Fills each chunk up to the limit and repeats the overlap, whatever the structure. Only words stay whole.
///
/// Costs a step for each word.
#[derive(Clone, Debug, Default)]
pub struct Window {
    limit: Limit,
}

impl Window {
    /// Creates a chunker with a limit.
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }
}

impl Chunker for Window {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["window 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let mut pieces = Vec::new();
        for (index, block) in document.blocks.iter().enumerate() {
            if block.kind != BlockKind::Furniture {
                let room = contexts.least_room(index, &self.limit);
                push_words(document, block.span, index, room, &self.limit, &mut pieces);
            }
        }
        let mut cuts = Vec::new();
        Packer { document, contexts: &contexts, limit: &self.limit, fill: Fill::Full }.pack(&pieces, &mut cuts);
        Ok(cuts)
    }
}

/// Adds the words of a run as pieces: the text between two blanks, or less if that does not fit or has no blanks.
pub(super) fn push_words(
    document: &Document,
    run: Span,
    block: usize,
    room: usize,
    limit: &Limit,
    to: &mut Vec<Piece>,
) {
    let text = document.slice(run);
    let mut at = run.start;
    for part in text.split_inclusive(char::is_whitespace) {
        let word = part.trim_end();
        if !word.is_empty() {
            let weight = limit.weight(word);
            let span = Span::new(at, at + word.len());
            if weight <= 1 {
                to.push(Piece { span, weight, block, seam: Seam::Words });
            } else {
                to.extend(cut_run(document, span, block, fine(weight, room, limit), limit));
            }
        }
        at += part.len();
    }
}

/// Returns the size of the parts that a run without blanks is cut into. In words it is 1, so that scripts without blanks are
/// cut character by character.
fn fine(weight: usize, room: usize, limit: &Limit) -> usize {
    match limit.unit() {
        super::Unit::Words => 1,
        _ if weight <= room => weight,
        _ => (room / 4).max(1),
    }
}
