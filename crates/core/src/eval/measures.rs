//! The measures: their names, and what they mean.

use super::score::QuestionScore;

/// What a measure is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum MeasureGroup {
    /// The ranking of the passages.
    Search,
    /// The answers.
    Answers,
    /// What a question costs.
    Cost,
}

/// A measure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Measure {
    /// The name, as in the metrics of a run.
    pub name: &'static str,
    /// What it is, in a few words.
    pub meaning: &'static str,
    /// What it is about.
    pub group: MeasureGroup,
}

const fn measure(group: MeasureGroup, name: &'static str, meaning: &'static str) -> Measure {
    Measure { name, meaning, group }
}

/// All measures, in the order in which they are shown.
pub const MEASURES: [Measure; 30] = {
    use MeasureGroup::{Answers, Cost, Search};
    [
        measure(Search, "hit@1", "questions whose first passage is a right one"),
        measure(Search, "hit@3", "with a right one among the first 3"),
        measure(Search, "hit@10", "among the first 10"),
        measure(Search, "recall@1", "relevant places in the first passage"),
        measure(Search, "recall@5", "in the first 5"),
        measure(Search, "recall@10", "in the first 10"),
        measure(Search, "precision@1", "the first passage being a right one"),
        measure(Search, "precision@5", "right ones of the first 5"),
        measure(Search, "mrr", "one over the rank of the first right passage"),
        measure(Search, "map", "average precision"),
        measure(Search, "ndcg@10", "gain of the ranking, 1 is the best there is"),
        measure(
            Answers,
            "right",
            "questions whose first citation is in a right place, or that were rightly refused or doubted",
        ),
        measure(Answers, "first_cited", "answerable questions whose first citation is in a right place"),
        measure(Answers, "cited", "with any citation in a right place"),
        measure(Answers, "said", "answers that say what was expected"),
        measure(Answers, "f1", "words shared with the expected answer"),
        measure(Answers, "supported", "claims that their sources support"),
        measure(Answers, "repeats", "answers that only repeat the question"),
        measure(Answers, "wrongly_refused", "answerable questions that were refused"),
        measure(Answers, "closest", "answerable questions whose answer is not sure"),
        measure(Answers, "refused", "unanswerable questions that were refused"),
        measure(Answers, "refused_near", "of these, the near misses"),
        measure(Answers, "refused_far", "of these, the far ones"),
        measure(Answers, "doubted", "unanswerable questions refused, or answered as not sure"),
        measure(Answers, "doubted_near", "of these, the near misses"),
        measure(Answers, "doubted_far", "of these, the far ones"),
        measure(Answers, "brier", "squared error of the probability that an answer is right"),
        measure(Answers, "refusals_right", "refusals that were right"),
        measure(Cost, "tokens", "read and written by a model, a question"),
        measure(Cost, "money", "what they cost, a question"),
    ]
};

/// The measures of tables and pictures with several pipelines.
pub const SHORT_MEASURES: [&str; 6] = ["hit@3", "ndcg@10", "first_cited", "said", "wrongly_refused", "refused"];

/// The stages of an answer in the order in which they run.
pub const STAGES: [&str; 17] = [
    "ask",
    "condense",
    "transform",
    "split",
    "search",
    "filter",
    "keyword",
    "vector",
    "leg",
    "fusion",
    "rerank",
    "choose",
    "expand",
    "extract",
    "prompt",
    "generate",
    "check",
];

/// What became of a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Outcome {
    /// The first citation is in a right place, and the answer says what was expected.
    CitedRight,
    /// A citation is in a right place, but not the first one.
    CitedNotFirst,
    /// A citation is in a right place, but the answer does not say what was expected.
    CitedNotSaid,
    /// No citation is in a right place.
    CitedWrong,
    /// There is an answer, and it was refused.
    RefusedWrong,
    /// There is no answer, and it was refused.
    RefusedRight,
    /// There is no answer, and one was given.
    AnsweredWrong,
    /// A ranking without an answer has a right passage.
    Found,
    /// A ranking without an answer has none.
    NotFound,
}

impl Outcome {
    /// All outcomes.
    pub const ALL: [Self; 9] = [
        Self::CitedRight,
        Self::CitedNotFirst,
        Self::CitedNotSaid,
        Self::CitedWrong,
        Self::RefusedWrong,
        Self::RefusedRight,
        Self::AnsweredWrong,
        Self::Found,
        Self::NotFound,
    ];

    /// Returns the name, as people read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::CitedRight => "cited, right",
            Self::CitedNotFirst => "cited, not first",
            Self::CitedNotSaid => "cited, not said",
            Self::CitedWrong => "cited, wrong",
            Self::RefusedWrong => "refused, wrong",
            Self::RefusedRight => "refused, right",
            Self::AnsweredWrong => "answered, wrong",
            Self::Found => "found",
            Self::NotFound => "not found",
        }
    }

    /// Returns `true` if nothing went wrong.
    pub fn is_right(self) -> bool {
        matches!(self, Self::CitedRight | Self::RefusedRight | Self::Found)
    }
}

impl QuestionScore {
    /// Returns what became of the question.
    pub fn outcome(&self) -> Outcome {
        let first = self.metrics.get("first_cited").is_some_and(|value| *value > 0.0);
        match (self.refuse, self.refused, self.cited) {
            (true, true, _) => Outcome::RefusedRight,
            (true, false, _) => Outcome::AnsweredWrong,
            (false, true, _) => Outcome::RefusedWrong,
            (false, false, Some(true)) if self.said == Some(false) => Outcome::CitedNotSaid,
            (false, false, Some(true)) if !first => Outcome::CitedNotFirst,
            (false, false, Some(true)) => Outcome::CitedRight,
            (false, false, Some(false)) => Outcome::CitedWrong,
            (false, false, None) if self.first_rank.is_some() => Outcome::Found,
            (false, false, None) => Outcome::NotFound,
        }
    }
}
