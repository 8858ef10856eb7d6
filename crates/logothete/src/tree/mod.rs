//! The tree of summaries of a corpus: grown after a build, and looked at.

mod estimate;
mod grow;
mod near;
mod overview;
mod tell;

pub use estimate::TreeEstimate;
pub use logothete_core::tree::{TreeEnd, TreeSentence};
pub use overview::{TreeLevel, TreeNodeInfo, TreeOverview, TreeSource};

pub(crate) use estimate::TreeCounter;
pub(crate) use grow::{Growing, settle};
pub(crate) use near::{Below, Nearest, below_nearest};
pub(crate) use overview::{looked_at, overview};

use logothete_core::chunk::ChunkId;
use logothete_core::tree::StoredTree;
use logothete_core::vector::Encoder;
use logothete_core::{Result, TokenUsage};
use serde::Serialize;

use crate::config::{TreeConfig, TreeKind};
use crate::opened::Opened;
use crate::storage::{CatalogueReader, RowId};

/// What became of the tree of summaries.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TreeReport {
    /// The number of levels above the chunks.
    pub levels: u32,
    /// The number of summaries.
    pub nodes: usize,
    /// The number of chunks below them.
    pub chunks: u32,
    /// Summaries that are new or were told anew.
    pub told: usize,
    /// Whether it grew anew, and did not only follow what has changed.
    pub grown: bool,
    /// Chunks that joined a summary.
    pub joined: usize,
    /// Chunks that have gone.
    pub gone: usize,
    /// Why there is no further level.
    pub end: TreeEnd,
    /// The tokens that the generator read and wrote.
    pub tokens: TokenUsage,
    /// Why it is not whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub broken: Option<String>,
}

/// Returns what a tree depends on besides the chunks.
fn made_by(opened: &Opened, config: &TreeConfig) -> String {
    let TreeConfig { kind, max_parts, max_words, max_levels, .. } = config;
    let kind = match kind {
        TreeKind::Generator => "generator",
        _ => "sentences",
    };
    format!("{} {kind} {max_parts} {max_words} {max_levels}", opened.encoder.fingerprint())
}

/// Returns whether a tree was grown with the encoder that is in use.
pub(crate) fn is_of_encoder(encoder: &dyn Encoder, stored: &StoredTree) -> bool {
    stored.made_by.split(' ').next() == Some(encoder.fingerprint().as_str())
}

/// Returns the chunks that are indexed with their rows, document by document, in the order of the text.
fn leaves(catalogue: &dyn CatalogueReader) -> Result<Vec<(ChunkId, RowId)>> {
    const AT_ONCE: usize = 4_096;
    let rows: Vec<RowId> = catalogue.places()?.into_iter().map(|place| place.row).collect();
    let mut leaves = Vec::with_capacity(rows.len());
    for some in rows.chunks(AT_ONCE) {
        let chunks = catalogue.chunks_at(some)?;
        leaves.extend(chunks.into_iter().zip(some).map(|((chunk, _), row)| (chunk, *row)));
    }
    Ok(leaves)
}
