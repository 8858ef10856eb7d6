//! Scoring one question, and a run of many.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::questions::plain;
use super::{SetQuestion, ndcg, recall, reciprocal_rank};
use crate::answer::Answer;
use crate::document::Location;
use crate::search::{Duplicate, Passage};

/// Scores by name, such as `ndcg@10`.
pub type Metrics = BTreeMap<String, f64>;

/// The result of one question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct QuestionScore {
    /// The question's id.
    pub id: String,
    /// The question as it was searched for.
    pub question: String,
    /// Whether it should be refused.
    pub refuse: bool,
    /// Whether it was refused.
    pub refused: bool,
    /// Whether a citation of the answer points to a right place; `None` for a question that should be refused.
    pub cited: Option<bool>,
    /// Whether the answer says the expected value; `None` if none is expected.
    pub said: Option<bool>,
    /// The rank of the first right passage; `None` if it was not found.
    pub first_rank: Option<usize>,
    /// The scores of its ranking; empty for a question that should be refused.
    pub metrics: Metrics,
}

/// The results of one pipeline on one question set.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Run {
    /// The name of the pipeline.
    pub name: String,
    /// The number of questions.
    pub questions: usize,
    /// The mean of each measure over the questions that it is defined for.
    pub metrics: Metrics,
    /// The results of the questions.
    pub per_question: Vec<QuestionScore>,
    /// Documents that questions name and the corpus does not have, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub absent: Vec<String>,
}

/// Scores one question: the ranking of its passages, and its answer.
pub fn score_question(question: &SetQuestion, passages: &[Passage], answer: &Answer) -> QuestionScore {
    let mut metrics = Metrics::new();
    let mut first_rank = None;
    if !question.refuse {
        // A passage may have several sections: the one at its start, and those whose headings it contains.
        let locations: Vec<Location> = passages.iter().map(Passage::location_with_headings).collect();
        let found: Vec<Vec<usize>> = question
            .relevant
            .iter()
            .map(|relevant| {
                let is_right = |(passage, location): &(&Passage, &Location)| {
                    let at_duplicate = |other: &Duplicate| relevant.is_at(&other.location, &passage.text);
                    relevant.is_at(location, &passage.text) || passage.also.iter().any(at_duplicate)
                };
                let ranked = passages.iter().zip(&locations).enumerate();
                ranked.filter(|(_, pair)| is_right(pair)).map(|(index, _)| index + 1).collect()
            })
            .collect();
        for count in [1, 5, 10] {
            metrics.insert(format!("recall@{count}"), recall(&found, count));
        }
        let first = found.iter().filter_map(|ranks| ranks.first()).min();
        metrics.insert("hit@3".into(), f64::from(u8::from(first.is_some_and(|rank| *rank <= 3))));
        metrics.insert("mrr".into(), reciprocal_rank(&found));
        metrics.insert("ndcg@10".into(), ndcg(&found, 10));
        first_rank = found.iter().filter_map(|ranks| ranks.first().copied()).min();
    }
    let is_relevant = |location: &Location, quotation: &str| {
        question.relevant.iter().any(|relevant| relevant.is_at(location, quotation))
    };
    let cites_relevant = || {
        answer.sources.iter().any(|source| {
            is_relevant(&source.location, &source.quotation)
                || source.also.iter().any(|other| is_relevant(&other.location, &other.quotation))
        })
    };
    QuestionScore {
        id: question.id.clone(),
        question: question.searched(),
        refuse: question.refuse,
        refused: answer.is_refusal(),
        cited: (!question.refuse).then(|| !answer.is_refusal() && cites_relevant()),
        said: question
            .answer
            .as_ref()
            .map(|wanted| !answer.is_refusal() && plain(&answer.answer).contains(&plain(wanted))),
        first_rank,
        metrics,
    }
}

impl Run {
    /// Summarises the questions of a run.
    ///
    /// `cited`: the share of the answerable questions whose answer cites a right place. `said`: the share of those with an
    /// expected answer whose answer says it. `refused`: the share of the unanswerable ones that were refused.
    /// `refusals_right`: the share of all refusals that were right. A measure without a question is left out.
    pub fn new(name: impl Into<String>, per_question: Vec<QuestionScore>) -> Self {
        let mut metrics = Metrics::new();
        let mut put = |name: &str, values: Vec<f64>| {
            if !values.is_empty() {
                metrics.insert(name.to_owned(), values.iter().sum::<f64>() / values.len() as f64);
            }
        };
        let share = |flags: Vec<bool>| flags.into_iter().map(|flag| f64::from(u8::from(flag))).collect();
        for measure in
            per_question.iter().flat_map(|score| score.metrics.keys()).collect::<std::collections::BTreeSet<_>>()
        {
            put(measure, per_question.iter().filter_map(|score| score.metrics.get(measure).copied()).collect());
        }
        put("cited", share(per_question.iter().filter_map(|score| score.cited).collect()));
        put("said", share(per_question.iter().filter_map(|score| score.said).collect()));
        put("refused", share(per_question.iter().filter(|score| score.refuse).map(|score| score.refused).collect()));
        put(
            "refusals_right",
            share(per_question.iter().filter(|score| score.refused).map(|score| score.refuse).collect()),
        );
        Self { name: name.into(), questions: per_question.len(), metrics, per_question, absent: Vec::new() }
    }
}
