//! What a search or a question is asked for.

use std::ops::{Bound, RangeBounds};

use logothete_core::search::Filter;

/// A query with what else there is to say of it. Made from a string, and told more if need be.
///
/// In a search a query may say more than words: `+word` must be there and `-word` must not, `"some words"` must stand as they
/// are written, `word*` is the beginning of words. In a question these signs mean nothing.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SearchRequest {
    pub(crate) query: String,
    pub(crate) filter: Option<Filter>,
    pub(crate) sort: Option<Sort>,
    pub(crate) scores: Vec<ScoreRange>,
    pub(crate) passages: Option<usize>,
    pub(crate) plain: bool,
}

/// By which field passages are sorted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Sort {
    pub field: String,
    pub descending: bool,
}

/// Between what a score of a passage has to be.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct ScoreRange {
    /// The leg that it is a score of; nothing for the fused one.
    pub leg: Option<String>,
    pub range: (Bound<f32>, Bound<f32>),
}

impl SearchRequest {
    /// A query, or a question.
    pub fn new(query: impl Into<String>) -> Self {
        Self { query: query.into(), ..Self::default() }
    }

    /// Takes the query as it is written: no sign in it means anything.
    #[must_use]
    pub fn plain(mut self) -> Self {
        self.plain = true;
        self
    }

    /// Returns only chunks for which a filter holds.
    #[must_use]
    pub fn filter(mut self, filter: Filter) -> Self {
        self.filter = Some(match self.filter.take() {
            Some(other) => other.and(filter),
            None => filter,
        });
        self
    }

    /// Sorts the passages that were found by a field, the least first; those without it come last. Which are found does not
    /// change.
    #[must_use]
    pub fn sort_by(mut self, field: impl Into<String>) -> Self {
        self.sort = Some(Sort { field: field.into(), descending: false });
        self
    }

    /// The same, the greatest first.
    #[must_use]
    pub fn sort_down_by(mut self, field: impl Into<String>) -> Self {
        self.sort = Some(Sort { field: field.into(), descending: true });
        self
    }

    /// Returns only passages whose fused score is in a range, such as `0.4..`. The score is between 0 and 1, and 1 is what is
    /// best in all legs, good or bad. Asked more than once, all ranges hold.
    #[must_use]
    pub fn scores(mut self, range: impl RangeBounds<f32>) -> Self {
        self.scores.push(ScoreRange::new(None, &range));
        self
    }

    /// Returns only passages that a leg, `keyword` or `vector`, has found with a score in a range.
    #[must_use]
    pub fn leg_scores(mut self, leg: impl Into<String>, range: impl RangeBounds<f32>) -> Self {
        self.scores.push(ScoreRange::new(Some(leg.into()), &range));
        self
    }

    /// How many passages are returned; without it, as many as the settings say.
    #[must_use]
    pub fn passages(mut self, count: usize) -> Self {
        self.passages = Some(count);
        self
    }
}

impl ScoreRange {
    fn new(leg: Option<String>, range: &impl RangeBounds<f32>) -> Self {
        Self { leg, range: (range.start_bound().cloned(), range.end_bound().cloned()) }
    }
}

impl From<&str> for SearchRequest {
    fn from(query: &str) -> Self {
        Self::new(query)
    }
}

impl From<&String> for SearchRequest {
    fn from(query: &String) -> Self {
        Self::new(query)
    }
}

impl From<String> for SearchRequest {
    fn from(query: String) -> Self {
        Self::new(query)
    }
}
