//! A row with its score.

use std::cmp::Ordering;

/// A row that an index returned, with its score. Hits order by score, then by row: the lower row ranks higher.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Hit {
    /// The score; higher is better.
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
