//! The choice between the vector indexes.

use serde::{Deserialize, Serialize};

/// Up to this number of rows a scan is as fast as the graph, and exact; see `bench/README.md`.
const MAX_SCANNED_ROWS: u32 = 10_000;
/// The number of bytes for each row that building a graph holds, besides the codes of its vector.
const GRAPH_ROW_BYTES: u64 = 150;

/// The kinds of vector indexes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum IndexKind {
    /// A scan while it is as fast; then the graph, or inverted lists if the graph would not fit into the memory that `[limits]`
    /// allows.
    #[default]
    Auto,
    /// A scan, which is exact.
    Exact,
    /// The graph, which is nearly exact and fast for any number of rows.
    Graph,
    /// Inverted lists, which need the least memory.
    Lists,
}

impl IndexKind {
    /// Returns the kind of index for a segment. [`Auto`](Self::Auto) decides by the number of rows, their dimensions, and the
    /// memory in bytes.
    pub fn resolve(self, rows: u32, dimensions: usize, memory: u64) -> Self {
        let graph = u64::from(rows) * (GRAPH_ROW_BYTES + dimensions.next_multiple_of(64) as u64);
        match self {
            Self::Auto if rows <= MAX_SCANNED_ROWS => Self::Exact,
            Self::Auto if graph <= memory => Self::Graph,
            Self::Auto => Self::Lists,
            chosen => chosen,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(IndexKind::Auto, 10_000, IndexKind::Exact)]
    #[case(IndexKind::Auto, 10_001, IndexKind::Graph)]
    #[case(IndexKind::Auto, 1_800_000, IndexKind::Graph)]
    #[case(IndexKind::Auto, 2_000_000, IndexKind::Lists)]
    #[case(IndexKind::Graph, 9, IndexKind::Graph)]
    #[case(IndexKind::Exact, 9_000_000, IndexKind::Exact)]
    fn the_kind_follows_size_and_memory(#[case] kind: IndexKind, #[case] rows: u32, #[case] expected: IndexKind) {
        assert_eq!(kind.resolve(rows, 384, 1_000_000_000), expected);
    }
}
