//! Finding chunks that say what another says, in the corpus and among those about to be committed.

use std::collections::{HashMap, HashSet};

use logothete_core::Result;
use logothete_core::chunk::{Chunk, ChunkId, Sentence, Statements};
use logothete_core::document::Span;
use logothete_core::search::Passage;

use crate::storage::CatalogueReader;

/// The highest number of candidates for each hash; a hash that half of all chunks share says little.
const MAX_CANDIDATES: usize = 4;
/// The number of chunks of the catalogue whose statements are kept for the next comparison. Texts that repeat each other meet the same ones again and again.
const MAX_KEPT: usize = 4_096;

/// A chunk as it is compared.
#[derive(Clone)]
pub(super) struct Compared {
    pub statements: Statements,
    pub sketch: Vec<u64>,
}

impl Compared {
    fn new(statements: Statements) -> Self {
        Self { sketch: statements.sketch(), statements }
    }

    /// Returns a chunk that was just made.
    pub(super) fn of_chunk(chunk: &Chunk) -> Self {
        Self::new(Statements::of_chunk(chunk))
    }

    /// Returns a chunk that is in the catalogue.
    pub(super) fn of_passage(passage: &Passage) -> Self {
        Self::new(passage.statements())
    }
}

/// A chunk that says what another says.
pub(super) struct DuplicateOf {
    pub of: ChunkId,
    /// The statements that only this chunk has.
    pub beyond: Option<String>,
}

/// The chunks that are indexed and not yet committed, and the documents whose chunks are about to go.
#[derive(Default)]
pub(super) struct Duplicates {
    pending: Vec<(ChunkId, Statements)>,
    ids: HashSet<ChunkId>,
    by_hash: HashMap<u64, Vec<usize>>,
    gone: HashSet<i64>,
    /// The statements of chunks of the catalogue.
    kept: HashMap<ChunkId, Statements>,
}

impl Duplicates {
    /// Notes that the chunks a document has in the catalogue are about to go.
    pub(super) fn leave_out(&mut self, document: i64) {
        self.gone.insert(document);
    }

    /// Returns `true` if the chunks of a document are about to go.
    pub(super) fn is_gone(&self, document: i64) -> bool {
        self.gone.contains(&document)
    }

    /// Returns the documents whose chunks are about to go.
    pub(super) fn gone(&self) -> impl Iterator<Item = i64> {
        self.gone.iter().copied()
    }

    /// Adds a chunk that is indexed.
    pub(super) fn add(&mut self, chunk: &ChunkId, compared: &Compared) {
        for &hash in &compared.sketch {
            self.by_hash.entry(hash).or_default().push(self.pending.len());
        }
        self.ids.insert(chunk.clone());
        self.pending.push((chunk.clone(), compared.statements.clone()));
    }

    /// Returns `true` if a chunk is among those that were added.
    pub(super) fn holds(&self, chunk: &ChunkId) -> bool {
        self.ids.contains(chunk)
    }

    /// Returns the chunk that says what a chunk says, and nearly nothing else.
    pub(super) fn find(
        &mut self,
        catalogue: &dyn CatalogueReader,
        (text, span, sentences): (&str, Span, &[Sentence]),
        compared: &Compared,
    ) -> Result<Option<DuplicateOf>> {
        let mut best: Option<(usize, ChunkId, Vec<usize>)> = None;
        let mut look = |id: &ChunkId, theirs: &Statements| {
            if let Some(beyond) = compared.statements.beyond(theirs)
                && best.as_ref().is_none_or(|(least, ..)| beyond.len() < *least)
            {
                best = Some((beyond.len(), id.clone(), beyond));
            }
        };
        let of_hash =
            |hash| self.by_hash.get(hash).into_iter().flat_map(|all| all.iter().take(MAX_CANDIDATES).copied());
        let mut pending: Vec<usize> = compared.sketch.iter().flat_map(of_hash).collect();
        pending.sort_unstable();
        pending.dedup();
        for index in pending {
            let (id, theirs) = &self.pending[index];
            look(id, theirs);
        }
        let mut similar = catalogue.similar(&compared.sketch, MAX_CANDIDATES)?;
        similar.retain(|(_, document)| !self.gone.contains(document));
        let similar: Vec<ChunkId> = similar.into_iter().map(|(id, _)| id).collect();
        if self.kept.len() > MAX_KEPT {
            self.kept.clear();
        }
        let new: Vec<ChunkId> = similar.iter().filter(|id| !self.kept.contains_key(id)).cloned().collect();
        for passage in if new.is_empty() { Vec::new() } else { catalogue.passages(&new)? } {
            self.kept.insert(passage.chunk.clone(), passage.statements());
        }
        for (id, theirs) in similar.iter().filter_map(|id| self.kept.get_key_value(id)) {
            look(id, theirs);
        }
        Ok(best.map(|(_, of, beyond)| {
            let said = beyond.iter().filter_map(|index| {
                let sentence = sentences.get(*index)?;
                let as_written = || text.get(sentence.span.start - span.start..sentence.span.end - span.start);
                sentence.row.as_deref().or_else(as_written)
            });
            let said = said.collect::<Vec<_>>().join("\n");
            DuplicateOf { of, beyond: (!said.is_empty()).then_some(said) }
        }))
    }
}
