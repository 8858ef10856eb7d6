//! Distances between vectors.

use serde::{Deserialize, Serialize};

use crate::segment::f32_at;

/// A distance between vectors.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Distance {
    /// The angle. Vectors are scaled to length 1; the score is the cosine, -1 to 1.
    #[default]
    Cosine,
    /// The dot product, which is the score. Longer vectors score higher against all vectors of their direction.
    Dot,
    /// The length d of the difference. The score is 1 / (1 + d), so that higher is better.
    Euclidean,
}

impl Distance {
    /// All distances, in the order of their numbers in segments.
    const ALL: [Self; 3] = [Self::Cosine, Self::Dot, Self::Euclidean];

    /// Returns its name in configurations.
    pub fn name(self) -> &'static str {
        match self {
            Self::Cosine => "cosine",
            Self::Dot => "dot",
            Self::Euclidean => "euclidean",
        }
    }

    /// Returns its number in segments.
    pub(super) fn code(self) -> u32 {
        self as u32
    }

    /// Returns the distance with a number; `None` if there is none.
    pub(super) fn from_code(code: u32) -> Option<Self> {
        Self::ALL.get(code as usize).copied()
    }

    /// Returns a vector in the form that is stored: scaled to length 1 if only its direction counts. A vector of length 1 stays
    /// the same, bit for bit, so that it may be written again and again.
    pub(super) fn kept(self, vector: &[f32]) -> Vec<f32> {
        let length = length(vector);
        if self != Self::Cosine || length == 0.0 || (length - 1.0).abs() < 1e-6 {
            return vector.to_vec();
        }
        vector.iter().map(|&value| (f64::from(value) / length) as f32).collect()
    }

    /// Returns the score of a query and a row in bytes, both in the stored form. Higher is nearer.
    pub(super) fn score(self, query: &[f32], row: &[u8]) -> f32 {
        match self {
            Self::Cosine | Self::Dot => sum(query, row, |a, b| a * b),
            Self::Euclidean => 1.0 / (1.0 + sum(query, row, |a, b| (a - b) * (a - b)).sqrt()),
        }
    }

    /// Returns the score of two stored vectors from their product and their lengths.
    #[inline(always)]
    pub(super) fn score_of(self, product: f32, query: f32, row: f32) -> f32 {
        match self {
            Self::Cosine | Self::Dot => product,
            Self::Euclidean => {
                let squared = query.mul_add(query, row.mul_add(row, -2.0 * product));
                1.0 / (1.0 + squared.max(0.0).sqrt())
            }
        }
    }
}

/// Returns the length of a vector.
pub(super) fn length(vector: &[f32]) -> f64 {
    vector.iter().map(|&value| f64::from(value).powi(2)).sum::<f64>().sqrt()
}

/// Sums a function of each pair of numbers, in sixteen sums so that the compiler may use wide registers.
fn sum(query: &[f32], row: &[u8], each: impl Fn(f32, f32) -> f32) -> f32 {
    const LANES: usize = 16;
    let mut sums = [0.0f32; LANES];
    let (query_lanes, query_rest) = query.as_chunks::<LANES>();
    let (row_lanes, row_rest) = row.as_chunks::<{ LANES * 4 }>();
    for (query, row) in query_lanes.iter().zip(row_lanes) {
        let row = row.as_chunks::<4>().0;
        for lane in 0..LANES {
            sums[lane] += each(query[lane], f32::from_le_bytes(row[lane]));
        }
    }
    let rest = query_rest.iter().enumerate().map(|(at, &a)| each(a, f32_at(row_rest, at * 4).unwrap_or_default()));
    sums.iter().sum::<f32>() + rest.sum::<f32>()
}
