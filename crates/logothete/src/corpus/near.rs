//! How the vectors of a segment are searched: scanned, through a graph, or through inverted lists.

use logothete_core::Result;
use logothete_core::vector::{VectorIndex, write_graph, write_lists};
use serde::{Deserialize, Serialize};

use super::store::{Bytes, Store};

/// The ending of a graph's file.
pub(crate) const GRAPH: &str = "graph";
/// The ending of a file of inverted lists.
pub(crate) const LISTS: &str = "lists";

/// Up to so many rows a scan is as fast as the graph, and exact: see `bench/README.md`.
const SCANNED: u32 = 10_000;
/// What building a graph holds for each row, besides the codes of its vector.
const GRAPH_BYTES: u64 = 150;

/// How vectors are searched.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum IndexKind {
    /// By scanning, while that is as fast; then by the graph, or by inverted lists where the graph would not fit into the memory
    /// that `[limits]` allows.
    #[default]
    Auto,
    /// By scanning: exact.
    Exact,
    /// By the graph: nearly exact, and fast for any number.
    Graph,
    /// By inverted lists: the least memory.
    Lists,
}

impl IndexKind {
    /// Which of the others it is for a segment of so many rows of so many numbers.
    pub(crate) fn of(self, rows: u32, dimensions: usize, memory: u64) -> Self {
        let graph = u64::from(rows) * (GRAPH_BYTES + dimensions.next_multiple_of(64) as u64);
        match self {
            Self::Auto if rows <= SCANNED => Self::Exact,
            Self::Auto if graph <= memory => Self::Graph,
            Self::Auto => Self::Lists,
            chosen => chosen,
        }
    }

    /// The ending of its files; nothing for a scan.
    pub(crate) fn ending(self) -> Option<&'static str> {
        match self {
            Self::Graph => Some(GRAPH),
            Self::Lists => Some(LISTS),
            Self::Auto | Self::Exact => None,
        }
    }
}

/// Writes what a kind of search needs for a segment of vectors; returns the file's name, if there is one. There is none when it was
/// stopped.
pub(crate) fn write(
    store: &Store,
    kind: IndexKind,
    vectors: &VectorIndex<Bytes>,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<String>> {
    let Some(ending) = kind.ending().filter(|_| vectors.rows() > 0) else { return Ok(None) };
    let mut missing = false;
    let name = store.write(ending, |to| {
        let header = match kind {
            IndexKind::Graph => write_graph(vectors, to, stop)?,
            _ => write_lists(vectors, to, stop)?,
        };
        missing = header.is_none();
        // A segment of the first version has no codes, and is scanned.
        Ok(header.unwrap_or_default())
    })?;
    Ok((!missing).then_some(name))
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
        assert_eq!(kind.of(rows, 384, 1_000_000_000), expected);
    }
}
