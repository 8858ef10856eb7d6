//! The plan of a search: legs, depths, weights and ranges of scores.

use std::ops::{Bound, RangeBounds};

use serde::{Deserialize, Serialize};

use super::{Filter, Fused, FusionKind, Rule};

/// The plan of a search. A configuration has a default, and a request may override it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct Plan {
    /// The number of passages to return.
    pub passages: usize,
    /// What is made of the question before the search.
    pub transform: TransformKind,
    /// The legs, in the order in which they run.
    pub legs: Vec<LegPlan>,
    /// How their rankings are joined into one.
    pub fusion: FusionKind,
    /// How the best candidates are put in a new order.
    pub rerank: RerankPlan,
    /// What the score of a list of contents is multiplied by, from 0 to 1; 1 changes nothing.
    pub contents: f32,
    /// How alike the passages may be.
    pub diversity: DiversityPlan,
    /// How much of the document around a passage is returned with it.
    pub expand: ExpansionPlan,
    /// The range of fused scores to return.
    pub scores: ScoreRange,
}

/// What is made of a question before the search, and searched for besides it. A generator makes it; without one, questions are split by rule, and
/// everything else is left out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum TransformKind {
    /// Nothing.
    #[default]
    None,
    /// The question in the words of the documents.
    Rewrite,
    /// The question in several other wordings.
    Phrasings,
    /// The questions that must be answered first.
    Split,
    /// A passage as it might answer the question.
    Hypothetical,
    /// What the user's own transform makes of it.
    Own,
}

impl TransformKind {
    /// Returns the name in a configuration.
    pub fn name(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Rewrite => "rewrite",
            Self::Phrasings => "phrasings",
            Self::Split => "split",
            Self::Hypothetical => "hypothetical",
            Self::Own => "own",
        }
    }
}

/// How the best candidates of the fused ranking are put in a new order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct RerankPlan {
    /// What looks at the candidates.
    pub kind: RerankKind,
    /// The number of candidates that are looked at.
    pub depth: usize,
    /// A reranker that takes longer, in seconds, is not waited for. The fused order stays then; a cross-encoder keeps what it has read. The learned
    /// one takes milliseconds, and a generator has the limits of its own settings.
    pub seconds: f32,
}

/// What looks at candidates again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum RerankKind {
    /// Nothing; the fused order stays.
    None,
    /// A model that was trained on facts about a candidate and its section.
    #[default]
    Learned,
    /// Late interaction: what each token of the question finds in a candidate. Needs an index of tokens.
    Tokens,
    /// A cross-encoder, which reads the question and each candidate together.
    Cross,
    /// A service that scores texts for a question.
    Remote,
    /// A generator that puts a list of passages in order.
    Generator,
    /// The user's own.
    Own,
}

impl RerankKind {
    /// Returns `true` if the library computes the scores itself, while it searches. The others are asked before.
    pub fn is_computed(self) -> bool {
        matches!(self, Self::None | Self::Learned | Self::Tokens | Self::Cross)
    }
}

/// How much of the document around a passage is returned with it. Passages that then meet become one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct ExpansionPlan {
    /// What is added.
    pub kind: ExpansionKind,
    /// The longest passage, in words, that comes of it. A chunk that is longer stays as it is.
    pub max_words: usize,
}

/// What is added to a passage.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ExpansionKind {
    /// Nothing.
    #[default]
    None,
    /// The chunks before and after it.
    Neighbours,
    /// Its section, from heading to heading.
    Section,
    /// Its pages; in a document without pages, its section.
    Page,
    /// The tables that it is a part of.
    Table,
}

impl Default for ExpansionPlan {
    fn default() -> Self {
        Self { kind: ExpansionKind::None, max_words: 400 }
    }
}

/// How alike the passages of a search may be.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct DiversityPlan {
    /// What the score of a passage is multiplied by for each better passage of its section, from 0 to 1; 1 changes nothing.
    pub repeat: f32,
    /// So many passages of a document come before more of it; 0 means any number.
    pub max_of_document: usize,
    /// How much it counts that a passage is unlike the better ones, from 0 to 1 (maximal marginal relevance; Carbonell and Goldstein, 1998).
    pub novelty: f32,
    /// A passage that shares a larger part of its text than this with a better one is left out; 1 leaves out nothing.
    pub max_overlap: f32,
}

/// What moves passages after the reranker.
#[derive(Clone, Debug, PartialEq)]
pub struct Adjustments {
    /// What the score of a list of contents is multiplied by.
    pub contents: f32,
    /// How alike the passages may be.
    pub diversity: DiversityPlan,
}

impl Default for DiversityPlan {
    fn default() -> Self {
        Self { repeat: 0.5, max_of_document: 0, novelty: 0.0, max_overlap: 0.5 }
    }
}

impl Default for RerankPlan {
    fn default() -> Self {
        Self { kind: RerankKind::default(), depth: Plan::DEFAULT_DEPTH, seconds: 2.0 }
    }
}

/// How one leg takes part in a search.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct LegPlan {
    /// The name of the leg, such as `keyword`.
    pub leg: String,
    /// The weight of the leg in the fusion; 0 lists its candidates without counting them.
    pub weight: f32,
    /// The number of candidates that the leg returns. A search returns at least as many as it was asked for.
    pub depth: usize,
    /// The range of this leg's scores that a passage must have; every range but the full one requires that the leg found it.
    pub scores: ScoreRange,
    /// The leg runs only for questions that one of these rules holds for; empty means for all.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub when: Vec<Rule>,
}

/// A range of scores. The default is every score.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ScoreRange {
    /// The lower bound.
    pub from: Bound<f32>,
    /// The upper bound.
    pub to: Bound<f32>,
}

impl Plan {
    /// The default number of candidates of a leg.
    pub const DEFAULT_DEPTH: usize = 100;

    /// Returns the leg with a name.
    pub fn leg_mut(&mut self, name: &str) -> Option<&mut LegPlan> {
        self.legs.iter_mut().find(|leg| leg.leg == name)
    }

    /// Returns `true` if candidates are reranked. The learned reranker needs that the words and the meaning of a passage both count: a search
    /// by one leg alone keeps its order.
    pub fn reranks(&self) -> bool {
        match self.rerank.kind {
            RerankKind::None => false,
            RerankKind::Learned => self.uses_both(),
            _ => true,
        }
    }

    fn uses_both(&self) -> bool {
        let counts = |name: &str| self.legs.iter().any(|leg| leg.leg == name && leg.weight > 0.0);
        counts("keyword") && counts("vector")
    }

    /// Returns what moves passages after the reranker. `repeat` counts for the probabilities of the learned reranker only, since other scores are
    /// not comparable in this way. `contents` counts if both legs do, and no other reranker has scored what is in the passages.
    pub fn adjustments(&self) -> Adjustments {
        let factor = |applies: bool, factor: f32| if applies { factor } else { 1.0 };
        let repeat = factor(self.reranks() && self.rerank.kind == RerankKind::Learned, self.diversity.repeat);
        let knows_lists = matches!(self.rerank.kind, RerankKind::None | RerankKind::Learned);
        Adjustments {
            contents: factor(self.uses_both() && knows_lists, self.contents),
            diversity: DiversityPlan { repeat, ..self.diversity.clone() },
        }
    }

    /// Returns `true` if the plan's ranges include the scores of an item.
    pub fn admits<K>(&self, item: &Fused<K>) -> bool {
        let leg_admits = |leg: &LegPlan| {
            let own = item.legs.iter().find(|(name, _)| *name == leg.leg).map(|(_, own)| own.score);
            leg.scores.is_full() || own.is_some_and(|own| leg.scores.contains(own))
        };
        self.scores.contains(item.score) && self.legs.iter().all(leg_admits)
    }
}

impl Default for Plan {
    /// Returns a keyword leg and a vector leg that counts twice as much: the best of six ratios on the demo's dev questions.
    fn default() -> Self {
        let legs = vec![LegPlan::new("keyword", 0.5), LegPlan::new("vector", 1.0)];
        Self {
            passages: 10,
            transform: TransformKind::default(),
            legs,
            fusion: FusionKind::default(),
            rerank: RerankPlan::default(),
            contents: 0.3,
            diversity: DiversityPlan::default(),
            expand: ExpansionPlan::default(),
            scores: ScoreRange::FULL,
        }
    }
}

impl LegPlan {
    /// Creates a leg with a weight, the default depth and no bounds on its scores.
    pub fn new(leg: impl Into<String>, weight: f32) -> Self {
        Self { leg: leg.into(), weight, depth: Plan::DEFAULT_DEPTH, scores: ScoreRange::FULL, when: Vec::new() }
    }

    /// Returns `true` if the leg runs for the words of a request and its filter.
    pub fn runs_for(&self, text: &str, filter: Option<&Filter>) -> bool {
        self.when.is_empty() || self.when.iter().any(|rule| rule.holds(text, filter))
    }
}

impl Default for LegPlan {
    fn default() -> Self {
        Self::new("", 1.0)
    }
}

impl ScoreRange {
    /// The range of every score.
    pub const FULL: Self = Self { from: Bound::Unbounded, to: Bound::Unbounded };

    /// Creates the range with the bounds of `range`, such as `0.4..`.
    pub fn new(range: &impl RangeBounds<f32>) -> Self {
        Self { from: range.start_bound().cloned(), to: range.end_bound().cloned() }
    }

    /// Returns `true` if the range includes every score.
    pub fn is_full(&self) -> bool {
        *self == Self::FULL
    }

    /// Returns `true` if the range includes `score`.
    pub fn contains(&self, score: f32) -> bool {
        (self.from, self.to).contains(&score)
    }

    /// Returns the range of the scores that both ranges include.
    #[must_use]
    pub fn intersection(self, other: Self) -> Self {
        let tighter = |a: Bound<f32>, b: Bound<f32>, a_wins: fn(f32, f32) -> bool| match (a, b) {
            (Bound::Unbounded, bound) | (bound, Bound::Unbounded) => bound,
            (Bound::Included(x) | Bound::Excluded(x), Bound::Included(y) | Bound::Excluded(y)) => {
                if x == y {
                    if matches!(a, Bound::Excluded(_)) { a } else { b }
                } else if a_wins(x, y) {
                    a
                } else {
                    b
                }
            }
        };
        Self { from: tighter(self.from, other.from, |x, y| x > y), to: tighter(self.to, other.to, |x, y| x < y) }
    }
}

impl Default for ScoreRange {
    fn default() -> Self {
        Self::FULL
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(ScoreRange::new(&(0.2..)), ScoreRange::new(&(..0.5)), &[0.2, 0.4], &[0.1, 0.5])]
    #[case(ScoreRange::new(&(0.2..0.9)), ScoreRange::new(&(0.3..=0.9)), &[0.3, 0.8], &[0.2, 0.9])]
    #[case(ScoreRange::FULL, ScoreRange::FULL, &[-1.0, 2.0], &[])]
    fn intersections(#[case] a: ScoreRange, #[case] b: ScoreRange, #[case] inside: &[f32], #[case] outside: &[f32]) {
        for both in [a.intersection(b), b.intersection(a)] {
            assert!(inside.iter().all(|score| both.contains(*score)));
            assert!(!outside.iter().any(|score| both.contains(*score)));
        }
    }

    #[test]
    fn a_plan_reads_as_it_was_written() {
        let mut plan = Plan::default();
        plan.leg_mut("vector").expect("a default leg").scores = ScoreRange::new(&(0.3..));
        let json = serde_json::to_string(&plan).expect("JSON");
        assert_eq!(serde_json::from_str::<Plan>(&json).expect("a plan"), plan);
    }
}
