//! A linear model over features, and how it is fitted to lists of candidates.

use serde::{Deserialize, Serialize};

use super::features::{FEATURES, FUSED, FeatureRow, NAMES};
use crate::error::{Error, ErrorKind, Result};

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

/// The strength of the penalty on weights (Hoerl and Kennard, 1970), a candidate list each.
const RIDGE: f64 = 0.1;
/// What is added to the weight of the fused score after the fit. Headings and entries of an index, which the model is fitted to, are not all that
/// people ask. So much costs those little, and keeps the order of questions for a fact; docs/defaults.md has
/// the numbers.
const TRUST: f64 = 12.0;
/// The steps of the descent, and their rate.
const STEPS: usize = 600;
const RATE: f64 = 0.03;

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
        logistic(f64::from(self.slope * sum + self.shift)) as f32
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
        let (mean, deviation) = moments(&lists);
        let mut weights = [0.0_f64; FEATURES];
        let (mut first, mut second) = ([0.0_f64; FEATURES], [0.0_f64; FEATURES]);
        let scaled = |row: &FeatureRow, at: usize| (f64::from(row[at]) - mean[at]) / deviation[at];
        for step in 1..=STEPS {
            let mut gradient = weights.map(|weight| weight * RIDGE);
            for list in &lists {
                let sum = |row| (0..FEATURES).map(|at| scaled(row, at) * weights[at]).sum();
                let sums = list.candidates.iter().map(sum);
                let sums: Vec<f64> = sums.collect();
                let all = softmax(&sums, |_| true);
                let wanted = softmax(&sums, |at| list.right[at]);
                for (at, row) in list.candidates.iter().enumerate() {
                    let error = (all[at] - wanted[at]) / lists.len() as f64;
                    for (feature, slot) in gradient.iter_mut().enumerate() {
                        *slot += error * scaled(row, feature);
                    }
                }
            }
            // Adam (Kingma and Ba, 2015).
            for at in 0..FEATURES {
                first[at] = 0.9 * first[at] + 0.1 * gradient[at];
                second[at] = 0.999 * second[at] + 0.001 * gradient[at] * gradient[at];
                let (mean, spread) =
                    (first[at] / (1.0 - 0.9_f64.powi(step as i32)), second[at] / (1.0 - 0.999_f64.powi(step as i32)));
                weights[at] -= RATE * mean / (spread.sqrt() + 1e-8);
            }
        }
        weights[FUSED] += TRUST * deviation[FUSED];
        let weights = weights.iter().zip(&deviation).map(|(weight, deviation)| rounded(weight / deviation)).collect();
        let mut model = Self { features: names().map(str::to_owned).collect(), weights, slope: 1.0, shift: 0.0 };
        (model.slope, model.shift) = model.calibration(&lists);
        model
    }

    /// Returns the slope and the shift by which sums are probabilities, by Newton's method on sums in standard deviations. The targets are a
    /// little inside 0 and 1 (Platt, 1999), so that the slope is finite.
    fn calibration(&self, lists: &[&RankedList]) -> (f32, f32) {
        let pairs = lists.iter().flat_map(|list| list.candidates.iter().zip(&list.right)).map(|(row, right)| {
            let sum: f64 = self.weights.iter().zip(row).map(|(weight, value)| f64::from(weight * value)).sum();
            (sum, *right)
        });
        let pairs: Vec<(f64, bool)> = pairs.collect();
        let count = pairs.len().max(1) as f64;
        let right = pairs.iter().filter(|(_, right)| *right).count() as f64;
        let targets = [1.0 / (count - right + 2.0), (right + 1.0) / (right + 2.0)];
        let mean = pairs.iter().map(|(sum, _)| sum).sum::<f64>() / count;
        let deviation = (pairs.iter().map(|(sum, _)| (sum - mean).powi(2)).sum::<f64>() / count).sqrt().max(1e-6);
        let (mut slope, mut shift) = (0.0_f64, 0.0_f64);
        for _ in 0..100 {
            let (mut g, mut h) = ([0.0; 2], [1e-9, 0.0, 1e-9]);
            for (sum, right) in &pairs {
                let sum = (sum - mean) / deviation;
                let chance = logistic(slope * sum + shift);
                let (error, spread) = (chance - targets[usize::from(*right)], chance * (1.0 - chance));
                g = [g[0] + error * sum, g[1] + error];
                h = [h[0] + spread * sum * sum, h[1] + spread * sum, h[2] + spread];
            }
            let determinant = h[0] * h[2] - h[1] * h[1];
            let steps = [(h[2] * g[0] - h[1] * g[1]) / determinant, (h[0] * g[1] - h[1] * g[0]) / determinant];
            if !steps.iter().all(|step| step.is_finite()) {
                break;
            }
            // A step that is too long would leave the region where the curve is known.
            (slope, shift) = (slope - steps[0].clamp(-1.0, 1.0), shift - steps[1].clamp(-1.0, 1.0));
        }
        (rounded(slope / deviation), rounded(shift - slope * mean / deviation))
    }
}

fn names() -> impl Iterator<Item = &'static str> {
    (0..FEATURES).map(super::features::name_of)
}

fn logistic(value: f64) -> f64 {
    1.0 / (1.0 + (-value).exp())
}

/// Returns a number to five digits after the point, so that the model is short to write and the same everywhere.
fn rounded(value: f64) -> f32 {
    ((value * 1e5).round() / 1e5) as f32
}

/// Returns the mean and the deviation of each feature.
fn moments(lists: &[&RankedList]) -> ([f64; FEATURES], [f64; FEATURES]) {
    let rows = || lists.iter().flat_map(|list| &list.candidates);
    let count = rows().count().max(1) as f64;
    let (mut mean, mut squares) = ([0.0; FEATURES], [0.0; FEATURES]);
    rows().for_each(|row| (0..FEATURES).for_each(|at| mean[at] += f64::from(row[at]) / count));
    rows().for_each(|row| (0..FEATURES).for_each(|at| squares[at] += (f64::from(row[at]) - mean[at]).powi(2) / count));
    (mean, squares.map(|square| square.sqrt() + 1e-6))
}

/// Returns the share of each of some sums in the sum of their exponentials, among those that count.
fn softmax(sums: &[f64], counts: impl Fn(usize) -> bool) -> Vec<f64> {
    let most =
        sums.iter().enumerate().filter(|(at, _)| counts(*at)).fold(f64::NEG_INFINITY, |most, (_, sum)| most.max(*sum));
    let powers = sums.iter().enumerate().map(|(at, sum)| if counts(at) { (sum - most).exp() } else { 0.0 });
    let powers: Vec<f64> = powers.collect();
    let total: f64 = powers.iter().sum();
    powers.into_iter().map(|power| power / total).collect()
}
