//! Fits small models to examples: weights that put the right one of a list first, and probabilities from sums or trees.
//!
//! The results depend on the examples alone, so that the same examples give the same bytes.

mod boosted;
mod listwise;
mod logistic;

pub use boosted::{Boosted, Growth, boosted};
pub use listwise::{Descent, List, listwise};
pub use logistic::{Logistic, calibrated, logistic, logistic_curve};

/// Returns a number to five digits after the point, so that a model is short to write and the same everywhere.
pub fn rounded(value: f64) -> f32 {
    ((value * 1e5).round() / 1e5) as f32
}

/// Returns the mean and the deviation of each feature of some rows. The deviation is never 0.
fn moments<'a>(rows: impl Iterator<Item = &'a [f32]> + Clone, features: usize) -> (Vec<f64>, Vec<f64>) {
    let count = rows.clone().count().max(1) as f64;
    let (mut mean, mut squares) = (vec![0.0; features], vec![0.0; features]);
    rows.clone().for_each(|row| (0..features).for_each(|at| mean[at] += f64::from(row[at]) / count));
    rows.for_each(|row| (0..features).for_each(|at| squares[at] += (f64::from(row[at]) - mean[at]).powi(2) / count));
    (mean, squares.into_iter().map(|square| square.sqrt() + 1e-6).collect())
}
