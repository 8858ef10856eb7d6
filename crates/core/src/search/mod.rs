//! Searching: hits of single legs, their fusion, and the passages that come out.

mod best;
mod filter;
mod fusion;
mod passage;

pub use crate::segment::RowSet;
pub(crate) use best::Best;
pub use filter::{BUILT_IN_FIELDS, ChunkFacts, DocumentFacts, Field, Filter, Is};
pub use fusion::{Fused, Leg, fuse};
pub(crate) use passage::rounded;
pub use passage::{LegScore, OtherPlace, Passage};

use std::cmp::Ordering;

/// A row that a leg found, with its score. Orders by score, then by row, the lower row the better.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Hit {
    /// How good it is; higher is better.
    pub score: f32,
    /// The row within its segment.
    pub row: u32,
}

impl Eq for Hit {}

impl Ord for Hit {
    fn cmp(&self, other: &Self) -> Ordering {
        self.score.total_cmp(&other.score).then_with(|| other.row.cmp(&self.row))
    }
}

impl PartialOrd for Hit {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
