//! Legs of the user's own.

use logothete_core::chunk::ChunkId;
use logothete_core::trace::{LegRecord, TraceDetails};
use logothete_core::{Fingerprint, Result};

use super::{LegInput, RowLeg};
use crate::storage::{RowId, RowsOf};
use crate::threads::caught_in;

/// A way of finding passages, besides those of the library. Give it to [`Pipeline::with_leg`](crate::Pipeline::with_leg).
///
/// It may know anything: which documents are new, which of them a user may prefer, or what another index says. What it finds is joined with
/// the rankings of the other legs by its weight. A leg that fails is left out of the search, and the result says so.
pub trait Leg: Send + Sync {
    /// Returns the name of the leg in plans, results and traces.
    fn name(&self) -> &str;

    /// Returns a fingerprint that changes whenever it may find other passages for the same question.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([self.name()])
    }

    /// Returns what it finds, in any order. Scores are compared within the leg only; higher is better, and 0 counts nothing.
    ///
    /// # Errors
    /// If it cannot search.
    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>>;
}

/// What a leg is asked.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct LegQuestion<'a> {
    /// The words that are searched for, without signs.
    pub text: &'a str,
    /// The number of hits that are of use.
    pub count: usize,
}

/// A chunk or a document that a leg of the user's own has found.
#[derive(Clone, Debug, PartialEq)]
pub struct LegHit {
    pub(crate) place: RowsOf,
    pub(crate) score: f32,
}

impl LegHit {
    /// Creates a hit of a chunk. Chunks that the corpus does not have are ignored.
    pub fn chunk(chunk: ChunkId, score: f32) -> Self {
        Self { place: RowsOf::Chunk(chunk), score }
    }

    /// Creates a hit of all chunks of a document, by its name.
    pub fn document(name: impl Into<String>, score: f32) -> Self {
        Self { place: RowsOf::Document(name.into()), score }
    }
}

/// A leg of the user's own as one that finds rows.
pub(in crate::search) struct OwnLeg<'a>(pub &'a dyn Leg);

impl RowLeg for OwnLeg<'_> {
    fn name(&self) -> &str {
        self.0.name()
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let question = LegQuestion { text: input.text, count };
        let mut hits = caught_in("the leg", || self.0.find(&question))?;
        hits.retain(|hit| hit.score.is_finite());
        hits.sort_by(|a, b| b.score.total_cmp(&a.score));
        let places: Vec<RowsOf> = hits.iter().map(|hit| hit.place.clone()).collect();
        let rows = input.view.catalogue().rows_of(&places)?;
        let mut found: Vec<(RowId, f32)> = Vec::new();
        for (at, row) in rows {
            if found.len() < count && input.allows(row) && !found.iter().any(|(other, _)| *other == row) {
                found.push((row, hits[at].score));
            }
        }
        Ok(found)
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.0.name().to_owned(), leg }
    }
}
