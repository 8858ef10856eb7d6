//! BM25 (Robertson and Walker, 1994).

use super::postings::Pair;

/// How quickly a repeated term stops counting.
const SATURATION: f32 = 1.2;
/// How much a long row is held against it.
const LENGTH_WEIGHT: f32 = 0.75;
/// What a bound is raised by, so that rounding cannot bring it below what it bounds.
const SLACK: f32 = 1.0 + 1e-5;

/// How much a term tells that stands in so many of all rows: the logarithm of how rare it is.
pub(super) fn rarity(rows: u64, frequency: u64) -> f32 {
    let (rows, frequency) = (rows as f32, frequency as f32);
    (1.0 + (rows - frequency + 0.5).max(0.0) / (frequency + 0.5)).ln()
}

/// The scores of one term, with the mean length of all rows in it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Scorer {
    weight: f32,
    by_length: f32,
}

impl Scorer {
    pub(super) fn new(weight: f32, mean: f32) -> Self {
        Self { weight: weight * (SATURATION + 1.0), by_length: SATURATION * LENGTH_WEIGHT / mean.max(1.0) }
    }

    /// What a row gets. Rises with the frequency and falls with the length.
    #[inline]
    pub(super) fn score(self, frequency: u32, length: u32) -> f32 {
        let frequency = frequency as f32;
        let damped = frequency + SATURATION * (1.0 - LENGTH_WEIGHT) + self.by_length * length as f32;
        self.weight * frequency / damped
    }

    /// The most that a row can get that some pairs bound.
    pub(super) fn most(self, pairs: impl Iterator<Item = Pair>) -> f32 {
        pairs.map(|pair| self.score(pair.frequency, pair.length)).fold(0.0, f32::max) * SLACK
    }
}
