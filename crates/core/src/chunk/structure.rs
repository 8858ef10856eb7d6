//! The default chunker: packs blocks under their headings.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Piece, Seam, push_block};
use super::{Chunker, Limit};
use crate::document::{BlockKind, Document, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// Packs the blocks of one section into chunks.
///
/// A new heading always begins a new chunk, and headings stay with the following text. A section longer than the limit is cut
/// between blocks, a longer block between sentences, table rows or lines of code, and longer ones between words. A list item is
/// not cut unless it alone exceeds the limit. The next chunk of the same section repeats up to the overlap in whole sentences,
/// rows or lines.
///
/// The cuts of a section depend on the text around them and not on earlier text, so an edit does not move the cuts far below
/// it. Costs a few passes over the text.
#[derive(Clone, Debug, Default)]
pub struct Structure {
    limit: Limit,
}

impl Structure {
    /// Creates a chunker with a limit.
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

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let mut sections = Sections::new(document, &contexts, &self.limit);
        (0..document.blocks.len()).for_each(|index| sections.add(index));
        Ok(sections.finish())
    }
}

/// Collects the blocks of a section and packs them when the next one begins.
pub(super) struct Sections<'a> {
    packer: Packer<'a>,
    section: Vec<Piece>,
    cuts: Vec<Span>,
}

impl<'a> Sections<'a> {
    pub(super) fn new(document: &'a Document, contexts: &'a Contexts<'a>, limit: &'a Limit) -> Self {
        let packer = Packer { document, contexts, limit, fill: Fill::BestSeam };
        Self { packer, section: Vec::new(), cuts: Vec::new() }
    }

    /// Adds a block. A heading after other text begins a section.
    pub(super) fn add(&mut self, index: usize) {
        let Packer { document, contexts, limit, .. } = self.packer;
        let block = &document.blocks[index];
        if block.kind == BlockKind::Furniture {
            return;
        }
        let heading = block.kind == BlockKind::Heading;
        if heading && self.section.iter().any(|piece| piece.seam != Seam::Heading) {
            self.close();
        }
        if block.table.is_some()
            && let Some(last) = self.section.last_mut()
            && document.blocks[last.block].kind == BlockKind::Caption
        {
            last.seam = Seam::Heading;
        }
        // A block shares its chunk with the headings directly above it.
        let headings = self.section.iter().rev().take_while(|piece| piece.seam == Seam::Heading);
        let above: usize = if heading { 0 } else { headings.map(|piece| piece.weight).sum() };
        let room = contexts.least_room(index, limit);
        let room = if above * 2 < room { room - above } else { room };
        push_block(document, index, room, limit, &mut self.section);
    }

    /// Packs the section so far, without the headings at its end, which it returns.
    pub(super) fn close_to_headings(&mut self) -> Vec<Piece> {
        let text = self.section.iter().rposition(|piece| piece.seam != Seam::Heading).map_or(0, |last| last + 1);
        let headings = self.section.split_off(text);
        self.close();
        headings
    }

    /// Packs some pieces by themselves.
    pub(super) fn pack(&mut self, pieces: &[Piece]) {
        self.packer.pack(pieces, &mut self.cuts);
    }

    fn close(&mut self) {
        self.packer.pack(&self.section, &mut self.cuts);
        self.section.clear();
    }

    /// Packs the rest, and returns the cuts.
    pub(super) fn finish(mut self) -> Vec<Span> {
        self.close();
        self.cuts
    }
}
