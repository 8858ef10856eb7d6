//! Requests for searches and answers.

use std::ops::RangeBounds;

use logothete_core::digest::DigestWish;
use logothete_core::document::Date;
use logothete_core::keyword::Query;
use logothete_core::query::question_parts;
use logothete_core::search::{Filter, Plan, RerankKind, ScoreRange, TransformKind};
use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Serialize, Serializer};

/// A query, and how it is to be searched. Made from a string, or built with these methods.
///
/// In a search, a query may have operators: `+word` must occur and `-word` must not, `"some words"` must occur as they are
/// written, `word*` is a prefix. In a question these signs have no meaning.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct SearchRequest {
    pub(crate) query: String,
    #[serde(serialize_with = "as_written")]
    pub(crate) filter: Option<Filter>,
    #[serde(serialize_with = "as_written", skip_serializing_if = "Option::is_none")]
    pub(crate) expected: Option<Filter>,
    pub(crate) sort: Option<Sort>,
    pub(crate) plain: bool,
    pub(crate) traced: bool,
    pub(crate) explained: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) as_of: Option<Date>,
    plan: Option<Plan>,
    passages: Option<usize>,
    scores: ScoreRange,
    legs: Vec<(String, LegChange)>,
}

/// The field by which passages are sorted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub(crate) struct Sort {
    pub field: String,
    pub descending: bool,
}

/// A change to a leg of the plan.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
enum LegChange {
    Weight(f32),
    Depth(usize),
    Scores(ScoreRange),
}

#[allow(clippy::ref_option)] // the signature that serde asks for
fn as_written<S: Serializer>(filter: &Option<Filter>, serializer: S) -> Result<S::Ok, S::Error> {
    filter.as_ref().map(ToString::to_string).serialize(serializer)
}

impl SearchRequest {
    /// Creates a query, or a question.
    pub fn new(query: impl Into<String>) -> Self {
        Self { query: query.into(), ..Self::default() }
    }

    /// Returns what the question wants a digest of; `None` if it asks for something else, or only for documents that pass a filter.
    pub(crate) fn digest_wish(&self) -> Option<DigestWish> {
        DigestWish::of(&self.query).filter(|_| self.filter.is_none())
    }

    /// Returns what is made of the question.
    pub(crate) fn transform(&self, default: &Plan) -> TransformKind {
        self.plan.as_ref().unwrap_or(default).transform
    }

    /// Returns the words that searches for it look for: those of the query, and of each part of the question.
    pub(crate) fn searched(&self) -> Vec<String> {
        let parts = question_parts(&self.query).into_iter().map(|part| Query::plain(&part.question).text());
        [Query::parse(&self.query), Query::plain(&self.query)].iter().map(Query::text).chain(parts).collect()
    }

    /// Returns the kind of its reranker, if that has to be asked before the search.
    pub(crate) fn asked_reranker(&self, default: &Plan) -> Option<RerankKind> {
        let plan = self.plan.as_ref().unwrap_or(default);
        Some(plan.rerank.kind).filter(|kind| plan.reranks() && !kind.is_computed())
    }

    /// Returns the request without a wish for a trace.
    pub(crate) fn untraced(mut self) -> Self {
        (self.traced, self.explained, self.expected) = (false, false, None);
        self
    }

    /// Takes the query literally: no sign in it is an operator.
    #[must_use]
    pub fn plain(mut self) -> Self {
        self.plain = true;
        self
    }

    /// Returns only chunks that pass a filter. If there are several, all must pass.
    #[must_use]
    pub fn filter(mut self, filter: Filter) -> Self {
        self.filter = Some(match self.filter.take() {
            Some(other) => other.and(filter),
            None => filter,
        });
        self
    }

    /// Says what became of the passages that fit a filter: the result has their ranks at each step, and where they were lost. Does not change
    /// what is found.
    #[must_use]
    pub fn expecting(mut self, filter: Filter) -> Self {
        self.expected = Some(filter);
        self
    }

    /// Sorts the passages that were found by a field, in ascending order; those without it come last. It does not change which
    /// passages are found.
    #[must_use]
    pub fn sort_by(mut self, field: impl Into<String>) -> Self {
        self.sort = Some(Sort { field: field.into(), descending: false });
        self
    }

    /// Like [`sort_by`](Self::sort_by), in descending order.
    #[must_use]
    pub fn sort_down_by(mut self, field: impl Into<String>) -> Self {
        self.sort = Some(Sort { field: field.into(), descending: true });
        self
    }

    /// Searches by another plan than the configuration's. The other methods change this one then.
    #[must_use]
    pub fn plan(mut self, plan: Plan) -> Self {
        self.plan = Some(plan);
        self
    }

    /// Returns up to `count` passages.
    #[must_use]
    pub fn passages(mut self, count: usize) -> Self {
        self.passages = Some(count);
        self
    }

    /// Returns only passages whose fused score is in a range, such as `0.4..`. The score is between 0 and 1; 1 means best in all
    /// legs, good or bad. If there are several ranges, all must hold.
    #[must_use]
    pub fn scores(mut self, range: impl RangeBounds<f32>) -> Self {
        self.scores = self.scores.intersection(ScoreRange::new(&range));
        self
    }

    /// Returns only passages that a leg, `keyword` or `vector`, has found with a score in a range.
    #[must_use]
    pub fn leg_scores(self, leg: impl Into<String>, range: impl RangeBounds<f32>) -> Self {
        self.change(leg, LegChange::Scores(ScoreRange::new(&range)))
    }

    /// Sets how much a leg counts in the fusion.
    #[must_use]
    pub fn leg_weight(self, leg: impl Into<String>, weight: f32) -> Self {
        self.change(leg, LegChange::Weight(weight))
    }

    /// Sets the number of candidates that a leg returns.
    #[must_use]
    pub fn leg_depth(self, leg: impl Into<String>, depth: usize) -> Self {
        self.change(leg, LegChange::Depth(depth))
    }

    /// Records a trace, which is returned with the result, or with the error.
    #[must_use]
    pub fn traced(mut self) -> Self {
        self.traced = true;
        self
    }

    /// Answers as of a day: sources that are later, or do not hold on it, come after those that do. Without it, the day that the question names counts,
    /// else the latest source.
    #[must_use]
    pub fn as_of(mut self, day: Date) -> Self {
        self.as_of = Some(day);
        self
    }

    /// Records a trace of every candidate that was reranked, and not only of as many as are returned.
    #[must_use]
    pub fn explained(mut self) -> Self {
        (self.traced, self.explained) = (true, true);
        self
    }

    fn change(mut self, leg: impl Into<String>, change: LegChange) -> Self {
        self.legs.push((leg.into(), change));
        self
    }

    /// Returns the plan of this request, from the configuration's and its own changes.
    ///
    /// # Errors
    /// If a leg is unknown, or a number is invalid.
    pub(crate) fn resolved(&self, default: Plan) -> Result<Plan> {
        let mut plan = self.plan.clone().unwrap_or(default);
        plan.passages = self.passages.unwrap_or(plan.passages);
        plan.scores = plan.scores.intersection(self.scores);
        for (name, change) in &self.legs {
            let known: Vec<String> = plan.legs.iter().map(|leg| leg.leg.clone()).collect();
            let leg = plan.leg_mut(name).ok_or_else(|| unknown_leg(name, &known))?;
            match *change {
                LegChange::Weight(weight) => leg.weight = weight,
                LegChange::Depth(depth) => leg.depth = depth,
                LegChange::Scores(range) => leg.scores = leg.scores.intersection(range),
            }
        }
        if let Some(leg) = plan.legs.iter().find(|leg| !leg.weight.is_finite() || leg.weight < 0.0) {
            let message = format!("the weight of the leg “{}” must be 0 or more, and finite", leg.leg);
            return Err(Error::new(ErrorKind::InvalidRequest, message));
        }
        Ok(plan)
    }
}

/// Returns the error for an unknown leg.
pub(super) fn unknown_leg(name: &str, known: &[String]) -> Error {
    let hint = match closest(name, known.iter().cloned()) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("the legs are {}", known.join(" and ")),
    };
    Error::new(ErrorKind::InvalidRequest, format!("there is no leg “{name}”; {hint}"))
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
