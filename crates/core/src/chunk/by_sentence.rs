//! Packs whole sentences across blocks.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Piece, Seam, push_run};
use super::{Chunker, Limit, sentences};
use crate::document::{BlockKind, Document, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// Packs whole sentences, list items, table rows and lines of code one after another, across headings.
///
/// A sentence longer than the limit is cut between words. Costs a few passes over the text.
#[derive(Clone, Debug, Default)]
pub struct Sentences {
    limit: Limit,
}

impl Sentences {
    /// Creates a chunker with a limit.
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }
}

impl Chunker for Sentences {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["sentences 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let pieces = sentence_pieces(document, &contexts, &self.limit);
        let mut cuts = Vec::new();
        Packer { document, contexts: &contexts, limit: &self.limit, fill: Fill::Full }.pack(&pieces, &mut cuts);
        Ok(cuts)
    }
}

/// Returns the sentences of a document as pieces. Text between two sentences belongs to the piece before it.
pub(super) fn sentence_pieces(document: &Document, contexts: &Contexts<'_>, limit: &Limit) -> Vec<Piece> {
    let mut pieces = Vec::new();
    let mut block = 0;
    for sentence in sentences(document) {
        while document.blocks[block].span.end <= sentence.span.start {
            block += 1;
        }
        let heading = sentence.kind == BlockKind::Heading;
        let seam = if heading { Seam::Heading } else { Seam::Sentences };
        push_run(document, sentence.span, block, seam, contexts.least_room(block, limit), limit, &mut pieces);
    }
    pieces
}
