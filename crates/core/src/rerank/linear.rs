//! A linear model over features, and how it is fitted to lists of candidates.

use serde::{Deserialize, Serialize};

use super::features::{FEATURES, FUSED, FeatureRow, NAMES};
use crate::error::{Error, ErrorKind, Result};
use crate::learn::{Descent, List, calibrated, listwise, logistic_curve, rounded};

/// A weight for each feature, and how a sum becomes a probability.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Linear {
    /// The names of the features, in their order.
    pub features: Vec<String>,
    /// The weights, one a feature.
    pub weights: Vec<f32>,
    /// The factor of the sum in the logistic function that gives the probability that a candidate is right.
    pub slope: f32,
    /// What is added to it.
    pub shift: f32,
}

/// A list of candidates, of which some are right.
#[derive(Clone, Debug, Default)]
pub struct RankedList {
    /// The features of each candidate.
    pub candidates: Vec<FeatureRow>,
    /// Whether each candidate is right.
    pub right: Vec<bool>,
}

/// What is added to the weight of the fused score after the fit. Headings and entries of an index, which the model is fitted to, are not all that
/// people ask. So much costs those little, and keeps the order of questions for a fact; docs/defaults.md has
/// the numbers.
const TRUST: f64 = 12.0;
impl RankedList {
    fn rows(&self) -> List<'_> {
        List { rows: self.candidates.iter().map(<[f32; FEATURES]>::as_slice).collect(), right: &self.right }
    }
}

const DESCENT: Descent = Descent { ridge: 0.1, steps: 600, rate: 0.03 };

impl Linear {
    /// Reads a model that was written as JSON.
    ///
    /// # Errors
    /// If it is not JSON of a model, or its features are not those of this version.
    pub fn read(json: &str) -> Result<Self> {
        let model: Self = serde_json::from_str(json)
            .map_err(|error| Error::new(ErrorKind::Unreadable, format!("this is no model of a reranker: {error}")))?;
        let known = model.features.iter().map(String::as_str).eq(names()) && model.weights.len() == FEATURES;
        if !known || model.weights.iter().chain([&model.slope, &model.shift]).any(|weight| !weight.is_finite()) {
            let message = "this model of a reranker has other features than this version; train it again";
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        Ok(model)
    }

    /// Returns the probability that a candidate is right.
    pub fn probability(&self, row: &FeatureRow) -> f32 {
        let sum: f32 = self.weights.iter().zip(row).map(|(weight, value)| weight * value).sum();
        logistic_curve(f64::from(self.slope * sum + self.shift)) as f32
    }

    /// Returns how much each fact moves a candidate from the mean of its list, in the sum before it becomes a probability, by the name
    /// of the fact. Features of the same fact are one.
    pub fn shares(&self, row: &FeatureRow, list: &[FeatureRow]) -> Vec<(&'static str, f32)> {
        let mut shares: Vec<(&'static str, f32)> = NAMES.iter().map(|name| (*name, 0.0)).collect();
        for (at, weight) in self.weights.iter().enumerate().take(FEATURES) {
            let mean = list.iter().map(|other| other[at]).sum::<f32>() / list.len().max(1) as f32;
            shares[super::features::fact_of(at)].1 += self.slope * weight * (row[at] - mean);
        }
        shares
    }

    /// Fits a model to some lists. Its weights make it likely that the first of a list is one of the right candidates: the listwise loss
    /// of Cao and others (2007). Lists in which none or all are right teach nothing. The result depends on the lists alone.
    ///
    /// Costs 600 passes over all candidates.
    pub fn fit(lists: &[RankedList]) -> Self {
        let telling = |list: &&RankedList| list.right.contains(&true) && list.right.contains(&false);
        let lists: Vec<&RankedList> = lists.iter().filter(telling).collect();
        let rows: Vec<List<'_>> = lists.iter().map(|list| list.rows()).collect();
        let (mut weights, deviation) = listwise(&rows, FEATURES, DESCENT);
        weights[FUSED] += TRUST * deviation[FUSED];
        let weights = weights.iter().zip(&deviation).map(|(weight, deviation)| rounded(weight / deviation)).collect();
        let mut model = Self { features: names().map(str::to_owned).collect(), weights, slope: 1.0, shift: 0.0 };
        let pairs = lists.iter().flat_map(|list| list.candidates.iter().zip(&list.right)).map(|(row, right)| {
            let sum: f64 = model.weights.iter().zip(row).map(|(weight, value)| f64::from(weight * value)).sum();
            (sum, *right)
        });
        (model.slope, model.shift) = calibrated(&pairs.collect::<Vec<_>>());
        model
    }
}

fn names() -> impl Iterator<Item = &'static str> {
    (0..FEATURES).map(super::features::name_of)
}
