//! Fits the model of evidence, and measures what it chooses.

use std::fmt;

use logothete_core::evidence::{
    Candidate, CandidateFeatures, Certainty, EvidenceModel, EvidenceSettings, FACT_NAMES, FEATURE_NAMES, FEATURES,
    Facts, choose,
};
use logothete_core::learn::{Descent, List, Logistic, listwise, logistic, rounded};
use logothete_core::query::Question;
use logothete_core::search::Passage;
use serde_json::json;

/// The least weight of the kind of thing that is asked for, chosen on the dev half of the demo.
const KIND: f32 = 1.0;
/// The least probability of a sure answer, by default.
const MIN_CONFIDENCE: f32 = 0.3;

/// A question, and what was found for it.
#[derive(Debug)]
pub struct Measured {
    /// The set that it is from.
    pub set: String,
    /// Its id.
    pub id: String,
    /// As it was asked.
    pub asked: String,
    /// Its kind: `near miss` and `far` have no answer.
    pub kind: String,
    /// The documents that answer it.
    pub right: Vec<String>,
    /// The sentence that answers it, if it is known; a sentence of another place is wrong then.
    pub sentence: Option<String>,
    /// With the weights of its words.
    pub question: Question,
    /// The number of chunks of its corpus.
    pub chunks: u64,
    /// The passages, the best first.
    pub passages: Vec<Passage>,
    /// The candidates of the passages.
    pub candidates: Vec<Candidate>,
}

impl Measured {
    fn is_answerable(&self) -> bool {
        !self.right.is_empty()
    }

    /// Returns `true` if a candidate answers: it is in a right document, and is the right sentence if that is known.
    fn answers(&self, candidate: &Candidate) -> bool {
        let is_sentence = |sentence: &String| sentence.contains(&candidate.text) || candidate.text.contains(sentence);
        self.is_right(candidate.passage) && self.sentence.as_ref().is_none_or(is_sentence)
    }

    fn is_right(&self, passage: usize) -> bool {
        let passage = &self.passages[passage];
        let is_at = |document: &String| self.right.contains(document);
        is_at(&passage.location.document) || passage.also.iter().any(|other| is_at(&other.location.document))
    }

    /// Returns what the model chooses, and whether it is right.
    fn chosen(&self, model: &EvidenceModel) -> Option<(Facts, bool, bool)> {
        let settings = EvidenceSettings { model, chunks: self.chunks, shown: 1, ..EvidenceSettings::default() };
        let extraction = choose(&self.question, &self.passages, &self.candidates, &settings);
        let first = extraction.picked.first()?;
        let said: Vec<&str> = extraction.picked.iter().map(|picked| picked.text.as_str()).collect();
        let repeats = logothete_core::eval::only_repeats(&said.join(" "), &self.asked);
        Some((extraction.facts, self.is_right(first.passage), repeats))
    }

    /// Returns the candidate that a model likes best.
    fn first_sentence(&self, model: &EvidenceModel) -> Option<Candidate> {
        let score = |one: &&Candidate| model.score(&one.features);
        let all = self.candidates.iter().filter(|one| one.says_something());
        all.max_by(|a, b| score(a).total_cmp(&score(b))).cloned()
    }

    /// Returns the features of its candidates, and the facts of what a model chooses, as JSON.
    pub fn as_json(&self, model: &EvidenceModel) -> serde_json::Value {
        let all = &self.candidates;
        let right: Vec<bool> = all.iter().map(|one| self.is_right(one.passage)).collect();
        let passages: Vec<usize> = all.iter().map(|one| one.passage).collect();
        let rows: Vec<Vec<f32>> = all.iter().map(|one| one.features.to_vec()).collect();
        let chosen = self.chosen(model);
        json!({
            "set": self.set, "id": self.id, "asked": self.asked, "kind": self.kind, "passages": passages, "right": right, "rows": rows,
            "legs": self.passages.iter().map(|one| json!([one.score, one.legs.get("vector").map(|leg| (leg.score, leg.rank)), one.legs.get("keyword").map(|leg| (leg.score, leg.rank)), one.location.document])).collect::<Vec<_>>(),
            "facts": chosen.as_ref().map(|(facts, ..)| facts.values().to_vec()), "chosen_right": chosen.map(|(_, right, _)| right),
        })
    }
}

/// How a model is fitted.
#[derive(Clone, Copy, Debug)]
pub struct Fitting {
    descent: Descent,
    /// The penalty on the weights of facts.
    ridge: f64,
    /// The share of the answerable questions that may be refused.
    refused: f32,
}

impl Default for Fitting {
    fn default() -> Self {
        Self { descent: Descent { ridge: 0.02, steps: 150, rate: 0.05 }, ridge: 0.003, refused: 0.065 }
    }
}

impl Fitting {
    /// Fits a model to some questions: the weights of candidates to those with an answer, the probabilities to all.
    pub fn fit(&self, all: &[&Measured]) -> EvidenceModel {
        let rows: Vec<(Vec<CandidateFeatures>, Vec<bool>)> = all
            .iter()
            .filter(|one| one.is_answerable())
            .map(|one| one.candidates.iter().map(|candidate| (candidate.features, one.answers(candidate))).unzip())
            .collect();
        let lists: Vec<List<'_>> = rows
            .iter()
            .map(|(rows, right)| List { rows: rows.iter().map(<[f32; FEATURES]>::as_slice).collect(), right })
            .collect();
        let (weights, deviation) = listwise(&lists, FEATURES, self.descent);
        let mut weights: Vec<f32> =
            weights.iter().zip(&deviation).map(|(weight, deviation)| rounded(weight / deviation)).collect();
        // Headings ask for no kind of thing, so that the sets teach little of it.
        let at = |name: &str| FEATURE_NAMES.iter().position(|known| *known == name);
        for (name, least) in [("expected", KIND), ("unexpected", -KIND)] {
            if let Some(at) = at(name) {
                weights[at] = if least > 0.0 { weights[at].max(least) } else { weights[at].min(least) };
            }
        }
        let none = Logistic { weights: vec![0.0; FACT_NAMES.len()], shift: 0.0 };
        let mut model = EvidenceModel {
            features: FEATURE_NAMES.map(str::to_owned).to_vec(),
            weights,
            facts: FACT_NAMES.map(str::to_owned).to_vec(),
            answers: none.clone(),
            related: none,
            min_related: 0.0,
        };
        let chosen: Vec<(&Measured, Facts, bool)> =
            all.iter().filter_map(|one| one.chosen(&model).map(|(facts, right, _)| (*one, facts, right))).collect();
        let answers = chosen.iter().map(|(_, facts, right)| (facts.values().to_vec(), *right, 1.0));
        model.answers = logistic(&answers.collect::<Vec<_>>(), self.ridge);
        // A near miss is about the subject, so it says nothing of what the corpus is about.
        let telling = chosen.iter().filter(|(one, ..)| one.is_answerable() || one.kind == "far");
        let far = chosen.iter().filter(|(one, ..)| one.kind == "far").count().max(1) as f32;
        let answerable = chosen.iter().filter(|(one, ..)| one.is_answerable()).count().max(1) as f32;
        let related = telling.map(|(one, facts, _)| {
            let weight = if one.is_answerable() { 1.0 / answerable } else { 1.0 / far };
            (facts.values().to_vec(), one.is_answerable(), weight)
        });
        model.related = logistic(&related.collect::<Vec<_>>(), self.ridge);
        let mut known: Vec<f32> = chosen
            .iter()
            .filter(|(one, ..)| one.is_answerable())
            .map(|(_, facts, _)| model.relatedness(facts))
            .collect();
        known.sort_by(f32::total_cmp);
        let at = (self.refused * known.len() as f32) as usize;
        model.min_related = known.get(at).map_or(0.0, |value| rounded(f64::from(*value)));
        model
    }
}

/// What a model chooses for some questions. Shares are of the questions of a kind.
#[derive(Debug, Default)]
pub struct Report {
    sentences: Vec<bool>,
    first_right: Vec<bool>,
    refused: Vec<bool>,
    closest: Vec<bool>,
    far_refused: Vec<bool>,
    near_doubted: Vec<bool>,
    repeats: Vec<bool>,
    confidences: Vec<(f32, bool)>,
}

impl Report {
    /// Answers questions by a model.
    pub fn of(all: &[&Measured], model: &EvidenceModel) -> Self {
        let mut report = Self::default();
        for one in all {
            let Some((facts, right, repeats)) = one.chosen(model) else { continue };
            if one.sentence.is_some() {
                report.sentences.push(one.first_sentence(model).is_some_and(|first| one.answers(&first)));
                continue;
            }
            let certainty = match () {
                () if model.relatedness(&facts) < model.min_related => Certainty::Nothing,
                () if model.confidence(&facts) < MIN_CONFIDENCE => Certainty::Closest,
                () => Certainty::Sure,
            };
            report.confidences.push((model.confidence(&facts), right));
            if one.is_answerable() {
                report.first_right.push(right && certainty != Certainty::Nothing);
                report.refused.push(certainty == Certainty::Nothing);
                report.closest.push(certainty == Certainty::Closest);
                report.repeats.push(repeats);
            } else if one.kind == "far" {
                report.far_refused.push(certainty == Certainty::Nothing);
            } else {
                report.near_doubted.push(certainty != Certainty::Sure);
            }
        }
        report
    }

    /// Adds the questions of another report.
    pub fn add(&mut self, other: Self) {
        self.sentences.extend(other.sentences);
        self.first_right.extend(other.first_right);
        self.refused.extend(other.refused);
        self.closest.extend(other.closest);
        self.far_refused.extend(other.far_refused);
        self.near_doubted.extend(other.near_doubted);
        self.repeats.extend(other.repeats);
        self.confidences.extend(other.confidences);
    }

    /// Returns the expected calibration error, in ten bins of equal width (Naeini, Cooper and Hauskrecht, 2015).
    fn calibration_error(&self) -> f32 {
        let mut error = 0.0;
        for bin in 0..10 {
            let inside = self.confidences.iter().filter(|(confidence, _)| ((confidence * 10.0) as usize).min(9) == bin);
            let inside: Vec<&(f32, bool)> = inside.collect();
            let right = inside.iter().filter(|(_, right)| *right).count() as f32;
            let sum: f32 = inside.iter().map(|(confidence, _)| confidence).sum();
            error += (right - sum).abs();
        }
        error / self.confidences.len().max(1) as f32
    }
}

impl fmt::Display for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let share = |flags: &[bool]| flags.iter().filter(|flag| **flag).count() as f32 / flags.len().max(1) as f32;
        write!(
            f,
            "sentence {:.3}; first citation {:.3}, refused {:.3}, closest {:.3}; far refused {:.3}; near doubted {:.3}; repeats {:.3}; calibration error {:.3}",
            share(&self.sentences),
            share(&self.first_right),
            share(&self.refused),
            share(&self.closest),
            share(&self.far_refused),
            share(&self.near_doubted),
            share(&self.repeats),
            self.calibration_error()
        )
    }
}
