//! The weights by which evidence is chosen, and how sure it makes.

use std::sync::LazyLock;

use serde::{Deserialize, Serialize};

use super::candidate::{CandidateFeatures, FEATURE_NAMES};
use super::confidence::{FACT_NAMES, Facts};
use crate::error::{Error, ErrorKind, Result};
use crate::learn::Logistic;

/// The weights of features and facts, as `bench --bin evidence` fits them.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct EvidenceModel {
    /// The names of the features of candidates, in their order.
    pub features: Vec<String>,
    /// Their weights.
    pub weights: Vec<f32>,
    /// The names of the facts about what was chosen, in their order.
    pub facts: Vec<String>,
    /// The probability that what was chosen answers the question.
    pub answers: Logistic,
    /// The probability that the corpus says something of what is asked at all.
    pub related: Logistic,
    /// The probability of `related` below which a question is refused.
    pub min_related: f32,
}

impl EvidenceModel {
    /// Reads a model that was written as JSON.
    ///
    /// # Errors
    /// If it is not JSON of a model, or it has other features than this version.
    pub fn read(json: &str) -> Result<Self> {
        let model: Self = serde_json::from_str(json)
            .map_err(|error| Error::new(ErrorKind::Unreadable, format!("this is no model of evidence: {error}")))?;
        let known = model.features.iter().map(String::as_str).eq(FEATURE_NAMES)
            && model.facts.iter().map(String::as_str).eq(FACT_NAMES)
            && model.weights.len() == FEATURE_NAMES.len()
            && [&model.answers, &model.related].iter().all(|part| part.weights.len() == FACT_NAMES.len());
        if !known {
            let message = "this model of evidence has other features than this version; fit it again";
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        Ok(model)
    }

    /// Returns the model that was fitted to the dev halves of the question sets of `bench/sets`.
    pub fn learned() -> &'static Self {
        static MODEL: LazyLock<EvidenceModel> =
            LazyLock::new(|| EvidenceModel::read(include_str!("learned.json")).unwrap_or_default());
        &MODEL
    }

    /// Returns the score of a candidate; it has no bounds, and only its order means something.
    pub fn score(&self, features: &CandidateFeatures) -> f32 {
        self.weights.iter().zip(features).map(|(weight, value)| weight * value).sum()
    }

    /// Returns how much each feature adds to the score of a candidate, those that add nothing left out, the largest first.
    pub fn shares(&self, features: &CandidateFeatures) -> Vec<(&'static str, f32)> {
        let shares = FEATURE_NAMES.iter().zip(self.weights.iter().zip(features));
        let mut shares: Vec<(&'static str, f32)> = shares
            .map(|(name, (weight, value))| (*name, weight * value))
            .filter(|(_, share)| share.abs() >= 0.005)
            .collect();
        shares.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
        shares
    }

    /// Returns the probability that evidence with some facts answers its question.
    pub fn confidence(&self, facts: &Facts) -> f32 {
        self.answers.probability(&facts.values())
    }

    /// Returns the probability that the corpus says something of what is asked.
    pub fn relatedness(&self, facts: &Facts) -> f32 {
        self.related.probability(&facts.values())
    }
}
