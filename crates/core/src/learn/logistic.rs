//! Probabilities from sums of features.

use serde::{Deserialize, Serialize};

use super::{moments, rounded};

/// A weight for each fact, and what is added to their sum before it becomes a probability.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Logistic {
    /// The weights, one a fact.
    pub weights: Vec<f32>,
    /// What is added to their sum.
    pub shift: f32,
}

impl Logistic {
    /// Returns the probability for some facts; 0.5 if there are other facts than weights.
    pub fn probability(&self, facts: &[f32]) -> f32 {
        if facts.len() != self.weights.len() {
            return 0.5;
        }
        let sum: f32 = self.weights.iter().zip(facts).map(|(weight, fact)| weight * fact).sum();
        logistic_curve(f64::from(sum + self.shift)) as f32
    }
}

/// Returns the logistic function of a number: between 0 and 1.
pub fn logistic_curve(value: f64) -> f64 {
    1.0 / (1.0 + (-value).exp())
}

/// The steps of the descent.
const STEPS: usize = 1_500;
const RATE: f64 = 0.03;

/// Fits a logistic regression: the facts of each example, whether it holds, and how much it counts. `ridge` is the strength of the penalty on weights.
///
/// Costs 1,500 passes over the examples, by Adam (Kingma and Ba, 2015).
pub fn logistic(examples: &[(Vec<f32>, bool, f32)], ridge: f64) -> Logistic {
    let features = examples.first().map_or(0, |(facts, _, _)| facts.len());
    let (mean, deviation) = moments(examples.iter().map(|(facts, _, _)| facts.as_slice()), features);
    let total: f64 = examples.iter().map(|(_, _, weight)| f64::from(*weight)).sum::<f64>().max(1e-9);
    let scaled = |facts: &[f32], at: usize| (f64::from(facts[at]) - mean[at]) / deviation[at];
    let mut weights = vec![0.0_f64; features + 1];
    let (mut first, mut second) = (weights.clone(), weights.clone());
    for step in 1..=STEPS {
        let mut gradient: Vec<f64> = weights.iter().map(|weight| weight * ridge).collect();
        gradient[features] = 0.0;
        for (facts, holds, weight) in examples {
            let sum: f64 = (0..features).map(|at| scaled(facts, at) * weights[at]).sum::<f64>() + weights[features];
            let error = (logistic_curve(sum) - f64::from(u8::from(*holds))) * f64::from(*weight) / total;
            (0..features).for_each(|at| gradient[at] += error * scaled(facts, at));
            gradient[features] += error;
        }
        for at in 0..=features {
            first[at] = 0.9 * first[at] + 0.1 * gradient[at];
            second[at] = 0.999 * second[at] + 0.001 * gradient[at] * gradient[at];
            let (mean, spread) =
                (first[at] / (1.0 - 0.9_f64.powi(step as i32)), second[at] / (1.0 - 0.999_f64.powi(step as i32)));
            weights[at] -= RATE * mean / (spread.sqrt() + 1e-8);
        }
    }
    let shift = weights[features] - (0..features).map(|at| weights[at] * mean[at] / deviation[at]).sum::<f64>();
    let weights = (0..features).map(|at| rounded(weights[at] / deviation[at])).collect();
    Logistic { weights, shift: rounded(shift) }
}

/// Returns the slope and the shift by which sums are probabilities, by Newton's method on sums in standard deviations. The targets are a
/// little inside 0 and 1 (Platt, 1999), so that the slope is finite.
pub fn calibrated(pairs: &[(f64, bool)]) -> (f32, f32) {
    let count = pairs.len().max(1) as f64;
    let right = pairs.iter().filter(|(_, right)| *right).count() as f64;
    let targets = [1.0 / (count - right + 2.0), (right + 1.0) / (right + 2.0)];
    let mean = pairs.iter().map(|(sum, _)| sum).sum::<f64>() / count;
    let deviation = (pairs.iter().map(|(sum, _)| (sum - mean).powi(2)).sum::<f64>() / count).sqrt().max(1e-6);
    let (mut slope, mut shift) = (0.0_f64, 0.0_f64);
    for _ in 0..100 {
        let (mut g, mut h) = ([0.0; 2], [1e-9, 0.0, 1e-9]);
        for (sum, right) in pairs {
            let sum = (sum - mean) / deviation;
            let chance = logistic_curve(slope * sum + shift);
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
