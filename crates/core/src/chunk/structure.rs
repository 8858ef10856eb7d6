//! The default: packs blocks under their headings.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Piece, Seam, push_block};
use super::{Chunker, Limit};
use crate::document::{BlockKind, Document, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// Packs the blocks of one section into chunks.
///
/// A new heading always begins a new chunk, and headings stay with what follows them. A section longer than the limit
/// is cut between blocks; a block longer than the limit between sentences, table rows or lines of code; what is longer
/// even then between words. A list item is not cut unless it alone exceeds the limit. The next chunk of the same section
/// repeats up to the overlap in whole sentences, rows or lines.
///
/// Where a section is cut depends on the text around the cut, not on what stands far before it: after an edit the cuts
/// further down are soon those of before. Costs a few passes over the text.
#[derive(Clone, Debug, Default)]
pub struct Structure {
    limit: Limit,
}

impl Structure {
    /// A chunker with a limit.
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }
}

impl Chunker for Structure {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["structure 2".to_owned(), self.limit.fingerprint().to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let packer = Packer { document, contexts: &contexts, limit: &self.limit, fill: Fill::BestSeam };
        let mut cuts = Vec::new();
        let mut section: Vec<Piece> = Vec::new();
        for (index, block) in document.blocks.iter().enumerate() {
            if block.kind == BlockKind::Furniture {
                continue;
            }
            let heading = block.kind == BlockKind::Heading;
            if heading && section.iter().any(|piece| piece.seam != Seam::Heading) {
                packer.pack(&section, &mut cuts);
                section.clear();
            }
            if block.table.is_some()
                && let Some(last) = section.last_mut()
                && document.blocks[last.block].kind == BlockKind::Caption
            {
                last.seam = Seam::Heading;
            }
            // A block shares its chunk with the headings right above it.
            let headings = section.iter().rev().take_while(|piece| piece.seam == Seam::Heading);
            let above: usize = if heading { 0 } else { headings.map(|piece| piece.weight).sum() };
            let room = contexts.least_room(index, &self.limit);
            let room = if above * 2 < room { room - above } else { room };
            push_block(document, index, room, &self.limit, &mut section);
        }
        packer.pack(&section, &mut cuts);
        Ok(cuts)
    }
}
