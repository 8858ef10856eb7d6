//! A run: the results of one pipeline on one question set.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::questions::SetQuestion;
use super::score::{Metrics, QuestionScore};
use super::statistics::{Interval, bootstrap, mean, quantile};
use crate::suggest::closest;

/// The seed of the intervals, so that equal results have equal intervals.
const SEED: u64 = 2026;

/// The results of one pipeline on one question set.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Run {
    /// The name of the pipeline.
    pub name: String,
    /// The number of questions.
    pub questions: usize,
    /// The mean of each measure over the questions that it is defined for.
    pub metrics: Metrics,
    /// The intervals of these means with a confidence of 95 %; none for a measure of a single question.
    #[serde(default)]
    pub intervals: BTreeMap<String, Interval>,
    /// The same by kind of question and by type of document, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<Group>,
    /// The time of each stage of an answer.
    #[serde(default)]
    pub stages: BTreeMap<String, StageTime>,
    /// The results of the questions.
    pub per_question: Vec<QuestionScore>,
    /// Documents that the questions name and the corpus does not have as they were, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mismatches: Vec<Mismatch>,
}

/// A document that questions name and the corpus does not have as it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mismatch {
    /// The name of the document.
    pub document: String,
    /// The ids of the questions that name it.
    pub questions: Vec<String>,
    /// `true` if its content has changed since the questions were made; `false` if there is no document of this name.
    pub changed: bool,
    /// The nearest name of a document that there is; `None` if none is near.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nearest: Option<String>,
}

/// A part of the questions whose answers have about the same probability to be right.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct ReliabilityBin {
    /// The number of questions.
    pub count: usize,
    /// The mean of the probabilities.
    pub confidence: f64,
    /// The share that is right.
    pub right: f64,
}

impl Run {
    /// Returns how often answers are right that say how likely they are, in ten parts of equal width by what they say.
    pub fn reliability(&self) -> [ReliabilityBin; 10] {
        let mut bins = [ReliabilityBin::default(); 10];
        for score in &self.per_question {
            let (Some(confidence), Some(answers)) = (score.confidence, score.evidence_answers()) else { continue };
            let bin = &mut bins[((confidence * 10.0) as usize).min(9)];
            bin.count += 1;
            bin.confidence += confidence;
            bin.right += f64::from(u8::from(answers));
        }
        for bin in bins.iter_mut().filter(|bin| bin.count > 0) {
            (bin.confidence, bin.right) = (bin.confidence / bin.count as f64, bin.right / bin.count as f64);
        }
        bins
    }

    /// Returns the expected calibration error (Naeini, Cooper and Hauskrecht, 2015): by how much the share of right answers is off what they say, on
    /// average. `None` if no answer says how likely it is.
    pub fn calibration_error(&self) -> Option<f64> {
        let bins = self.reliability();
        let all: usize = bins.iter().map(|bin| bin.count).sum();
        let off: f64 = bins.iter().map(|bin| bin.count as f64 * (bin.confidence - bin.right).abs()).sum();
        (all > 0).then(|| off / all as f64)
    }
}

/// Compares the documents that questions name with those of a corpus, given as names with the hashes of their contents.
pub fn mismatches(questions: &[SetQuestion], documents: &BTreeMap<String, String>) -> Vec<Mismatch> {
    let mut found: BTreeMap<(&str, bool), BTreeSet<&str>> = BTreeMap::new();
    for question in questions {
        for place in &question.relevant {
            let is_same = |hash: &String| place.content_hash.as_ref().is_none_or(|wanted| hash.starts_with(wanted));
            let known = documents.get(&place.document);
            if known.is_none_or(|hash| !is_same(hash)) {
                found.entry((&place.document, known.is_some())).or_default().insert(&question.id);
            }
        }
    }
    let mismatch = |((document, changed), questions): ((&str, bool), BTreeSet<&str>)| Mismatch {
        document: document.to_owned(),
        questions: questions.into_iter().map(str::to_owned).collect(),
        changed,
        nearest: if changed { None } else { closest(document, documents.keys().cloned()) },
    };
    found.into_iter().map(mismatch).collect()
}

/// The results of some of the questions.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Group {
    /// What the questions have in common: `kind` or `document_type`.
    pub by: String,
    /// Its value.
    pub value: String,
    /// The number of questions.
    pub questions: usize,
    /// The mean of each measure.
    pub metrics: Metrics,
    /// The intervals of these means.
    #[serde(default)]
    pub intervals: BTreeMap<String, Interval>,
}

/// How long a stage took.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct StageTime {
    /// The median over the questions, in milliseconds.
    pub median_ms: f64,
    /// The time that 95 % of the questions did not exceed.
    pub p95_ms: f64,
}

impl Run {
    /// Summarises the questions of a run.
    ///
    /// Besides the means of the measures of the questions there is `refusals_right`, the share of all refusals that were right. A measure
    /// without a question is left out.
    pub fn new(name: impl Into<String>, per_question: Vec<QuestionScore>) -> Self {
        let (metrics, intervals) = summary(&per_question.iter().collect::<Vec<_>>());
        let mut groups = grouped("kind", &per_question, |score| score.kind.as_deref());
        groups.extend(grouped("document_type", &per_question, |score| score.document_type.as_deref()));
        let stages = stages(&per_question);
        let questions = per_question.len();
        Self { name: name.into(), questions, metrics, intervals, groups, stages, per_question, mismatches: Vec::new() }
    }
}

impl Run {
    /// Returns the mean recall among the first `k` passages, for each `k` from 1 to `max`; empty if no question has a right place.
    pub fn recall_curve(&self, max: usize) -> Vec<f64> {
        let ranks: Vec<&Vec<Option<usize>>> =
            self.per_question.iter().map(|score| &score.place_ranks).filter(|ranks| !ranks.is_empty()).collect();
        let recall = |k: usize| {
            let of = |ranks: &&Vec<Option<usize>>| {
                ranks.iter().filter(|rank| rank.is_some_and(|rank| rank <= k)).count() as f64 / ranks.len() as f64
            };
            mean(&ranks.iter().map(of).collect::<Vec<_>>())
        };
        (1..=max).filter_map(recall).collect()
    }
}

/// Returns the mean of each measure, and its interval.
fn summary(scores: &[&QuestionScore]) -> (Metrics, BTreeMap<String, Interval>) {
    let mut values: BTreeMap<&str, Vec<f64>> = BTreeMap::new();
    for score in scores {
        for (name, value) in &score.metrics {
            values.entry(name).or_default().push(*value);
        }
        if score.refused {
            values.entry("refusals_right").or_default().push(f64::from(u8::from(score.refuse)));
        }
    }
    let means = values.iter().filter_map(|(name, values)| Some(((*name).to_owned(), mean(values)?))).collect();
    let intervals =
        values.iter().filter_map(|(name, values)| Some(((*name).to_owned(), bootstrap(values, SEED)?))).collect();
    (means, intervals)
}

/// Returns the questions by what they have in common, if they differ in it.
fn grouped(
    by: &str,
    scores: &[QuestionScore],
    value: impl for<'a> Fn(&'a QuestionScore) -> Option<&'a str>,
) -> Vec<Group> {
    let mut groups: BTreeMap<&str, Vec<&QuestionScore>> = BTreeMap::new();
    for score in scores {
        if let Some(value) = value(score) {
            groups.entry(value).or_default().push(score);
        }
    }
    if groups.len() < 2 {
        return Vec::new();
    }
    let group = |(value, scores): (&str, Vec<&QuestionScore>)| {
        let (metrics, intervals) = summary(&scores);
        Group { by: by.to_owned(), value: value.to_owned(), questions: scores.len(), metrics, intervals }
    };
    groups.into_iter().map(group).collect()
}

fn stages(scores: &[QuestionScore]) -> BTreeMap<String, StageTime> {
    let mut times: BTreeMap<&str, Vec<f64>> = BTreeMap::new();
    for (stage, took) in scores.iter().flat_map(|score| &score.stages) {
        times.entry(stage).or_default().push(*took);
    }
    let time = |(stage, times): (&str, Vec<f64>)| {
        Some((stage.to_owned(), StageTime { median_ms: quantile(&times, 0.5)?, p95_ms: quantile(&times, 0.95)? }))
    };
    times.into_iter().filter_map(time).collect()
}
