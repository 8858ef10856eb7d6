//! Weights that put a right candidate first.

use super::moments;

/// A list of candidates, of which some are right.
#[derive(Clone, Debug)]
pub struct List<'a> {
    /// The features of each candidate, as many of each.
    pub rows: Vec<&'a [f32]>,
    /// Whether each candidate is right.
    pub right: &'a [bool],
}

/// How weights descend to the least loss.
#[derive(Clone, Copy, Debug)]
pub struct Descent {
    /// The strength of the penalty on weights (Hoerl and Kennard, 1970), a candidate list each.
    pub ridge: f64,
    /// The number of steps.
    pub steps: usize,
    /// Their rate.
    pub rate: f64,
}

/// Returns weights for features in standard deviations, and the deviations. They make it likely that the first of a list is one of the right
/// candidates: the listwise loss of Cao and others (2007), by Adam (Kingma and Ba, 2015). Lists in which none or all are right teach nothing.
///
/// Costs `steps` passes over all candidates.
pub fn listwise(lists: &[List<'_>], features: usize, descent: Descent) -> (Vec<f64>, Vec<f64>) {
    let telling = |list: &&List<'_>| list.right.contains(&true) && list.right.contains(&false);
    let lists: Vec<&List<'_>> = lists.iter().filter(telling).collect();
    let (mean, deviation) = moments(lists.iter().flat_map(|list| list.rows.iter().copied()), features);
    let mut weights = vec![0.0_f64; features];
    let (mut first, mut second) = (vec![0.0_f64; features], vec![0.0_f64; features]);
    let scaled = |row: &[f32], at: usize| (f64::from(row[at]) - mean[at]) / deviation[at];
    for step in 1..=descent.steps {
        let mut gradient: Vec<f64> = weights.iter().map(|weight| weight * descent.ridge).collect();
        for list in &lists {
            let sum = |row: &&[f32]| (0..features).map(|at| scaled(row, at) * weights[at]).sum();
            let sums: Vec<f64> = list.rows.iter().map(sum).collect();
            let all = softmax(&sums, |_| true);
            let wanted = softmax(&sums, |at| list.right[at]);
            for (at, row) in list.rows.iter().enumerate() {
                let error = (all[at] - wanted[at]) / lists.len() as f64;
                for (feature, slot) in gradient.iter_mut().enumerate() {
                    *slot += error * scaled(row, feature);
                }
            }
        }
        for at in 0..features {
            first[at] = 0.9 * first[at] + 0.1 * gradient[at];
            second[at] = 0.999 * second[at] + 0.001 * gradient[at] * gradient[at];
            let (mean, spread) =
                (first[at] / (1.0 - 0.9_f64.powi(step as i32)), second[at] / (1.0 - 0.999_f64.powi(step as i32)));
            weights[at] -= descent.rate * mean / (spread.sqrt() + 1e-8);
        }
    }
    (weights, deviation)
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
