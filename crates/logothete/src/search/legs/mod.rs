//! The legs of a search.
//!
//! A leg finds rows in its own way and scores them. The plan of a search says which legs run, how deep, and how much each counts.

mod headings;
mod neighbours;
mod own;
mod tokens;
mod tree;

use std::sync::Arc;

use logothete_core::Result;
use logothete_core::keyword::{PreparedQuery, Query};
use logothete_core::search::Ranking;
use logothete_core::trace::{LegRecord, Misspelt, TraceDetails};
use logothete_core::vector::Encoder;

use super::vectors::QueryVectors;
use crate::storage::{RowId, Scope, Snapshot, View};

pub use own::{Leg, LegHit, LegQuestion};
pub(super) use tokens::encoded as encoded_tokens;

/// The input of a leg.
#[derive(Clone, Copy)]
pub(super) struct LegInput<'a> {
    pub snapshot: &'a Snapshot,
    pub view: &'a View,
    pub query: &'a Query,
    /// The query, with its terms looked up.
    pub prepared: &'a PreparedQuery,
    /// The words of the query.
    pub text: &'a str,
    /// The text for the encoder, with other wordings.
    pub read: &'a str,
    pub encoder: &'a dyn Encoder,
    pub vectors: &'a QueryVectors,
    /// The rows that the filter allows; `None` means all.
    pub filtered: Option<&'a Scope>,
    /// The rows that the filter allows and the query does not rule out; `None` means all.
    pub allowed: Option<&'a Scope>,
    /// How wide the leg `tree` goes down.
    pub width: usize,
    /// What the legs before this one found.
    pub found: &'a [Ranking<RowId>],
}

impl LegInput<'_> {
    /// Returns `true` if a row may be returned.
    fn allows(&self, row: RowId) -> bool {
        let Some(at) = self.snapshot.position_of(row.segment) else { return false };
        let rows = self.allowed.map_or(&self.snapshot.segments[at].entry.live, |scope| &scope[at]);
        rows.contains(row.row)
    }
}

/// A way of finding rows.
pub(super) trait RowLeg: Send + Sync {
    /// Returns the name in plans, results and traces.
    fn name(&self) -> &str;

    /// Returns the name of its stage in traces.
    fn stage(&self) -> &'static str {
        "leg"
    }

    /// Returns the best `count` rows, best first. Scores are comparable within the leg only; higher is better.
    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>>;

    /// Returns the details for the trace.
    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails;
}

/// The legs of the library.
const LEGS: [&dyn RowLeg; 6] =
    [&Keyword, &Vector, &tokens::Tokens, &headings::Headings, &neighbours::Neighbours, &tree::TreeLeg];

/// Terms, scored by BM25.
struct Keyword;

impl RowLeg for Keyword {
    fn name(&self) -> &str {
        "keyword"
    }

    fn stage(&self) -> &'static str {
        "keyword"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        Ok(input.snapshot.search_keywords(input.prepared, input.filtered, count))
    }

    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Keyword {
            terms: input.prepared.terms().map(str::to_owned).collect(),
            missing: input.prepared.missing().to_vec(),
            misspelt: misspelt(input.prepared),
            leg,
        }
    }
}

/// The distance between the vectors of the query and of the chunks.
struct Vector;

impl RowLeg for Vector {
    fn name(&self) -> &str {
        "vector"
    }

    fn stage(&self) -> &'static str {
        "vector"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let vector = input.vectors.of(input.read, input.encoder)?;
        Ok(input.snapshot.search_vectors(&vector, input.allowed, count))
    }

    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Vector { encoder: input.encoder.name(), leg }
    }
}

/// A leg of a plan.
pub(super) enum PlannedLeg<'a> {
    BuiltIn(&'static dyn RowLeg),
    Own(own::OwnLeg<'a>),
}

impl PlannedLeg<'_> {
    pub(super) fn rows(&self) -> &dyn RowLeg {
        match self {
            Self::BuiltIn(leg) => *leg,
            Self::Own(leg) => leg,
        }
    }

    /// Returns `true` if a search goes on without it when it fails: one of the user's own, or one whose index may be missing.
    pub(super) fn may_fail(&self) -> bool {
        matches!(self, Self::Own(_)) || [tokens::Tokens.name(), tree::TreeLeg.name()].contains(&self.rows().name())
    }
}

/// Returns the leg of a name; `None` if there is none. A leg of the user's own comes before one of the library.
pub(super) fn leg<'a>(name: &str, own: &'a [Arc<dyn Leg>]) -> Option<PlannedLeg<'a>> {
    let named = own.iter().find(|leg| leg.name() == name).map(|leg| PlannedLeg::Own(own::OwnLeg(&**leg)));
    named.or_else(|| LEGS.into_iter().find(|leg| leg.name() == name).map(PlannedLeg::BuiltIn))
}

/// Returns the names of all legs.
pub(super) fn names(own: &[Arc<dyn Leg>]) -> Vec<String> {
    LEGS.iter().map(|leg| leg.name().to_owned()).chain(own.iter().map(|leg| leg.name().to_owned())).collect()
}

/// Returns the words of a query that no document has.
pub(super) fn misspelt(query: &PreparedQuery) -> Vec<Misspelt> {
    let one = |(word, taken_for): &(String, Vec<String>)| Misspelt { word: word.clone(), taken_for: taken_for.clone() };
    query.misspelt().iter().map(one).collect()
}
