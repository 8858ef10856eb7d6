//! A tree as it is looked at.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::document::Location;
use logothete_core::search::Passage;
use logothete_core::tree::{StoredTree, TreeEnd};
use serde::Serialize;

use super::is_of_encoder;
use crate::opened::Opened;
use crate::storage::View;

/// A tree of summaries.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TreeOverview {
    /// The number of chunks below it.
    pub chunks: u32,
    /// The levels, the lowest first.
    pub levels: Vec<TreeLevel>,
    /// The nodes, level by level, the lowest first.
    pub nodes: Vec<TreeNodeInfo>,
    /// Why there is no further level.
    pub end: TreeEnd,
    /// The share of the chunks that came or went since it grew.
    pub drift: f32,
    /// Why it is not searched; `None` means that it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stale: Option<String>,
}

/// The nodes of a level together.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TreeLevel {
    /// The level, from 1: above the chunks.
    pub level: u32,
    /// The number of nodes.
    pub nodes: usize,
    /// The fewest chunks below a node.
    pub min_chunks: u32,
    /// The most chunks below a node.
    pub max_chunks: u32,
    /// The mean number of parts of a node.
    pub mean_parts: f32,
}

/// A node.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TreeNodeInfo {
    /// Its number, by which nodes above it name it.
    pub number: u32,
    /// The level, from 1.
    pub level: u32,
    /// The words that tell it from the others of its level.
    pub label: Vec<String>,
    /// The number of chunks below it.
    pub chunks: u32,
    /// The summary.
    pub summary: String,
    /// Whether a model wrote the summary.
    pub written: bool,
    /// The numbers of its nodes; empty on level 1.
    pub nodes: Vec<u32>,
    /// The ids of its chunks; empty above level 1.
    pub parts: Vec<ChunkId>,
    /// The sentences that the summary stands on, with their places.
    pub sources: Vec<TreeSource>,
}

/// A sentence that a summary stands on.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TreeSource {
    /// The text.
    pub text: String,
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The place.
    pub location: Location,
}

impl TreeOverview {
    /// Returns the nodes of a level.
    pub fn level(&self, level: u32) -> impl Iterator<Item = &TreeNodeInfo> {
        self.nodes.iter().filter(move |node| node.level == level)
    }

    /// Returns the nodes that are part of no other, the highest first.
    pub fn tops(&self) -> Vec<&TreeNodeInfo> {
        let above: std::collections::HashSet<u32> =
            self.nodes.iter().flat_map(|node| node.nodes.iter().copied()).collect();
        let mut tops: Vec<&TreeNodeInfo> = self.nodes.iter().filter(|node| !above.contains(&node.number)).collect();
        tops.sort_by_key(|node| (std::cmp::Reverse(node.level), std::cmp::Reverse(node.chunks), node.number));
        tops
    }
}

/// Returns the tree as of a view; `None` if there is none.
pub(crate) fn overview(opened: &Opened, view: &View) -> Result<Option<TreeOverview>> {
    let Some(stored) = view.snapshot.tree()? else { return Ok(None) };
    looked_at(opened, view, &stored).map(Some)
}

/// Returns a tree with the places of what it quotes.
pub(crate) fn looked_at(opened: &Opened, view: &View, stored: &StoredTree) -> Result<TreeOverview> {
    let StoredTree { tree, chunks, .. } = stored;
    let passages = sources(stored, view)?;
    let chunk = |leaf: u32| chunks.get(leaf as usize);
    let mut nodes = Vec::with_capacity(tree.nodes.len());
    for (number, node) in (0_u32..).zip(&tree.nodes) {
        let source = |sentence: &super::TreeSentence| {
            let passage = passages.get(chunk(sentence.leaf)?)?;
            let mut location = passage.location.clone();
            location.span = sentence.span;
            Some(TreeSource { text: sentence.text.clone(), chunk: passage.chunk.clone(), location })
        };
        let is_lowest = node.level == 1;
        nodes.push(TreeNodeInfo {
            number,
            level: node.level,
            label: node.label.clone(),
            chunks: node.size,
            summary: node.summary(),
            written: node.written.is_some(),
            nodes: if is_lowest { Vec::new() } else { node.parts.clone() },
            parts: if is_lowest {
                node.parts.iter().filter_map(|leaf| chunk(*leaf).cloned()).collect()
            } else {
                Vec::new()
            },
            sources: node.sentences.iter().filter_map(source).collect(),
        });
    }
    let mut locations: Vec<&mut Location> =
        nodes.iter_mut().flat_map(|node| node.sources.iter_mut().map(|source| &mut source.location)).collect();
    view.catalogue().pinpoint(&mut locations)?;
    let level = |level: u32| {
        let own = || nodes.iter().filter(move |node| node.level == level);
        let count = own().count();
        let parts: usize = own().map(|node| node.nodes.len() + node.parts.len()).sum();
        TreeLevel {
            level,
            nodes: count,
            min_chunks: own().map(|node| node.chunks).min().unwrap_or(0),
            max_chunks: own().map(|node| node.chunks).max().unwrap_or(0),
            mean_parts: parts as f32 / count.max(1) as f32,
        }
    };
    let levels = (1..=tree.levels()).map(level).collect();
    let stale = (!is_of_encoder(&*opened.encoder, stored))
        .then(|| "the corpus was encoded anew since it grew; build to grow another".to_owned());
    let (end, drift) = (tree.end, tree.history.drift());
    Ok(TreeOverview { chunks: tree.leaves, levels, nodes, end, drift, stale })
}

/// Returns the chunks that the summaries stand on.
fn sources(stored: &StoredTree, view: &View) -> Result<HashMap<ChunkId, Passage>> {
    const AT_ONCE: usize = 512;
    let mut leaves: Vec<u32> =
        stored.tree.nodes.iter().flat_map(|node| node.sentences.iter().map(|sentence| sentence.leaf)).collect();
    leaves.sort_unstable();
    leaves.dedup();
    let chunks: Vec<ChunkId> = leaves.iter().filter_map(|leaf| stored.chunks.get(*leaf as usize).cloned()).collect();
    let mut found = HashMap::with_capacity(chunks.len());
    for some in chunks.chunks(AT_ONCE) {
        for passage in view.catalogue().passages(some)? {
            found.insert(passage.chunk.clone(), passage);
        }
    }
    Ok(found)
}
