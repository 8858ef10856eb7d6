//! BM25 (Robertson and Walker, 1994).

use super::postings::Pair;

/// The saturation of repeated terms.
const SATURATION: f32 = 1.2;
/// The strength of the normalisation by length.
const LENGTH_WEIGHT: f32 = 0.75;
/// The factor that raises a bound, so that rounding cannot bring it below the true score.
const SLACK: f32 = 1.0 + 1e-5;

/// Returns the inverse document frequency of a term that `frequency` of `rows` rows have, as a logarithm.
pub(super) fn rarity(rows: u64, frequency: u64) -> f32 {
    let (rows, frequency) = (rows as f32, frequency as f32);
    (1.0 + (rows - frequency + 0.5).max(0.0) / (frequency + 0.5)).ln()
}

/// The scores of one term, for a given mean length of rows.
#[derive(Clone, Copy, Debug)]
pub(super) struct Scorer {
    weight: f32,
    by_length: f32,
}

impl Scorer {
    pub(super) fn new(weight: f32, mean: f32) -> Self {
        Self { weight: weight * (SATURATION + 1.0), by_length: SATURATION * LENGTH_WEIGHT / mean.max(1.0) }
    }

    /// Returns the score of a row. It rises with the frequency and falls with the length.
    #[inline]
    pub(super) fn score(self, frequency: u32, length: u32) -> f32 {
        let frequency = frequency as f32;
        let damped = frequency + SATURATION * (1.0 - LENGTH_WEIGHT) + self.by_length * length as f32;
        self.weight * frequency / damped
    }

    /// Returns the highest score of the rows that these pairs bound.
    pub(super) fn most(self, pairs: impl Iterator<Item = Pair>) -> f32 {
        pairs.map(|pair| self.score(pair.frequency, pair.length)).fold(0.0, f32::max) * SLACK
    }
}
