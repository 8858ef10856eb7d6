//! The legs of a search.
//!
//! A leg finds rows in its own way and scores them. The plan of a search says which legs run, how deep, and how much each counts.

use logothete_core::Result;
use logothete_core::keyword::PreparedQuery;
use logothete_core::search::LegPlan;
use logothete_core::trace::{LegRecord, Misspelt, TraceDetails};
use logothete_core::vector::Encoder;

use super::vectors::QueryVectors;
use crate::storage::{RowId, Scope, Snapshot};

/// The input of a leg.
pub(super) struct LegInput<'a> {
    pub snapshot: &'a Snapshot,
    /// The query, with its terms looked up.
    pub query: &'a PreparedQuery,
    /// The words of the query.
    pub text: &'a str,
    pub encoder: &'a dyn Encoder,
    pub vectors: &'a QueryVectors,
    /// The rows that the filter allows; `None` means all.
    pub filtered: Option<&'a Scope>,
    /// The rows that the filter allows and the query does not rule out; `None` means all.
    pub allowed: Option<&'a Scope>,
}

/// A way of finding rows.
pub(super) trait Leg: Send + Sync {
    /// Returns the name in plans, results and traces.
    fn name(&self) -> &'static str;

    /// Returns the best `count` rows, best first. Scores are comparable within the leg only; higher is better.
    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>>;

    /// Returns the details for the trace.
    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails;
}

/// All legs.
pub(super) const LEGS: [&dyn Leg; 2] = [&Keyword, &Vector];

/// Terms, scored by BM25.
struct Keyword;

impl Leg for Keyword {
    fn name(&self) -> &'static str {
        "keyword"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        Ok(input.snapshot.search_keywords(input.query, input.filtered, count))
    }

    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Keyword {
            terms: input.query.terms().map(str::to_owned).collect(),
            missing: input.query.missing().to_vec(),
            misspelt: misspelt(input.query),
            leg,
        }
    }
}

/// The distance between the vectors of the query and of the chunks.
struct Vector;

impl Leg for Vector {
    fn name(&self) -> &'static str {
        "vector"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let vector = input.vectors.of(input.text, input.encoder)?;
        Ok(input.snapshot.search_vectors(&vector, input.allowed, count))
    }

    fn details(&self, input: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Vector { encoder: input.encoder.name(), leg }
    }
}

/// Returns the leg of a plan; `None` if there is none of this name.
pub(super) fn leg(plan: &LegPlan) -> Option<&'static dyn Leg> {
    LEGS.into_iter().find(|leg| leg.name() == plan.leg)
}

/// Returns the words of a query that no document has.
pub(super) fn misspelt(query: &PreparedQuery) -> Vec<Misspelt> {
    let one = |(word, taken_for): &(String, Vec<String>)| Misspelt { word: word.clone(), taken_for: taken_for.clone() };
    query.misspelt().iter().map(one).collect()
}
