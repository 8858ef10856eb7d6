//! What may be said of a mean of few values: intervals, tests of differences, and corrections for several tests.

use serde::{Deserialize, Serialize};

use crate::random::Random;

/// The rounds of a bootstrap.
pub const BOOTSTRAP_ROUNDS: usize = 2_000;
/// The rounds of a randomisation test.
pub const TEST_ROUNDS: usize = 10_000;

/// A range in which a value lies with a confidence of 95 %.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Interval {
    /// The lower end.
    pub low: f64,
    /// The upper end.
    pub high: f64,
}

/// Returns the mean; `None` of nothing.
pub fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

/// Returns the value below which a share of the values lie, interpolated between two; `None` of nothing.
pub fn quantile(values: &[f64], share: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let place = share.clamp(0.0, 1.0) * sorted.len().checked_sub(1)? as f64;
    let (low, part) = (place.floor() as usize, place.fract());
    let high = sorted[(low + 1).min(sorted.len() - 1)];
    Some(sorted[low] + (high - sorted[low]) * part)
}

/// Returns the bootstrap interval of a mean (Efron, 1979; percentiles): values are drawn with replacement, as many as there are,
/// [`BOOTSTRAP_ROUNDS`] times. `None` for fewer than two values. The same values and seed give the same interval.
///
/// Costs rounds times values.
pub fn bootstrap(values: &[f64], seed: u64) -> Option<Interval> {
    if values.len() < 2 {
        return None;
    }
    let mut random = Random::new(seed);
    let mut drawn = || (0..values.len()).map(|_| values[random.below(values.len())]).sum::<f64>() / values.len() as f64;
    let means: Vec<f64> = (0..BOOTSTRAP_ROUNDS).map(|_| drawn()).collect();
    Some(Interval { low: quantile(&means, 0.025)?, high: quantile(&means, 0.975)? })
}

/// Returns the probability of a mean difference as far from 0 as this one if the two sides were alike: the paired randomisation test
/// (Fisher, 1935), two-sided, which swaps the sides of each pair at random [`TEST_ROUNDS`] times. 1 if nothing differs.
///
/// Costs rounds times the differences that are not 0.
pub fn randomisation_test(differences: &[f64], seed: u64) -> f64 {
    let differing: Vec<f64> = differences.iter().copied().filter(|difference| *difference != 0.0).collect();
    let seen = differing.iter().sum::<f64>().abs();
    let mut random = Random::new(seed);
    let mut as_far = 0;
    for _ in 0..TEST_ROUNDS {
        let (mut signs, mut left, mut sum) = (0, 0, 0.0);
        for difference in &differing {
            if left == 0 {
                (signs, left) = (random.next(), 64);
            }
            sum += if signs & 1 == 0 { *difference } else { -difference };
            (signs, left) = (signs >> 1, left - 1);
        }
        // Sums of the same numbers in another order may differ in the last digit.
        as_far += usize::from(f64::abs(sum) >= seen * (1.0 - 1e-9));
    }
    (as_far + 1) as f64 / (TEST_ROUNDS + 1) as f64
}

/// Returns the probabilities of several tests, corrected so that one of them being below a bound by chance is no likelier than that (Holm,
/// 1979).
pub fn holm(probabilities: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..probabilities.len()).collect();
    order.sort_by(|a, b| probabilities[*a].total_cmp(&probabilities[*b]));
    let mut corrected = vec![0.0; probabilities.len()];
    let mut least: f64 = 0.0;
    for (rank, at) in order.iter().enumerate() {
        least = least.max((probabilities.len() - rank) as f64 * probabilities[*at]).min(1.0);
        corrected[*at] = least;
    }
    corrected
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&[1.0, 2.0, 3.0, 4.0], 0.5, Some(2.5))]
    #[case(&[4.0, 1.0, 3.0], 0.0, Some(1.0))]
    #[case(&[4.0, 1.0, 3.0], 1.0, Some(4.0))]
    #[case(&[7.0], 0.95, Some(7.0))]
    #[case(&[], 0.5, None)]
    fn quantiles(#[case] values: &[f64], #[case] share: f64, #[case] expected: Option<f64>) {
        assert_eq!(quantile(values, share), expected);
    }

    /// The interval of a share of 60 in 100 is that of the normal approximation, 0.6 ± 1.96 · 0.049.
    #[test]
    fn the_interval_of_a_share_is_as_wide_as_theory_says() {
        let values: Vec<f64> = (0..100).map(|at| f64::from(u8::from(at % 5 < 3))).collect();
        let Interval { low, high } = bootstrap(&values, 1).expect("an interval");
        assert!((low - 0.504).abs() < 0.02 && (high - 0.696).abs() < 0.02, "{low} to {high}");
        assert_eq!(bootstrap(&values, 1), bootstrap(&values, 1));
        assert_eq!(bootstrap(&[1.0], 1), None);
    }

    /// Among the 2^6 ways to sign six equal differences, two put all of them on one side.
    #[test]
    fn the_test_agrees_with_counting_all_ways() {
        let p = randomisation_test(&[0.5; 6], 7);
        assert!((p - 2.0 / 64.0).abs() < 0.006, "{p}");
        // 1 + 2 + 3 = 6: signs that give 6 or -6 are two of eight; 0 is no difference.
        let p = randomisation_test(&[1.0, 2.0, 0.0, 3.0], 7);
        assert!((p - 0.25).abs() < 0.015, "{p}");
        assert!((randomisation_test(&[0.0; 9], 7) - 1.0).abs() < 1e-12);
    }

    #[test]
    fn holm_by_hand() {
        let corrected = holm(&[0.01, 0.04, 0.03]);
        assert!(corrected.iter().zip([0.03, 0.06, 0.06]).all(|(a, b)| (a - b).abs() < 1e-12), "{corrected:?}");
        assert_eq!(holm(&[]), Vec::<f64>::new());
    }

    proptest! {
        #[test]
        fn an_interval_lies_within_the_values(values in proptest::collection::vec(-5.0..5.0, 2..30), seed: u64) {
            let Interval { low, high } = bootstrap(&values, seed).expect("an interval");
            let (least, most) = (values.iter().copied().fold(f64::MAX, f64::min), values.iter().copied().fold(f64::MIN, f64::max));
            prop_assert!(least - 1e-9 <= low && low <= high && high <= most + 1e-9);
        }
    }
}
