//! The chunks below the summaries that are nearest to a vector.

use std::collections::BTreeMap;

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::document::Span;
use logothete_core::rerank::normalised;
use logothete_core::tree::StoredTree;

use crate::storage::{RowId, RowsOf, View};

/// A chunk below a summary.
pub(crate) struct Below {
    pub chunk: ChunkId,
    pub row: RowId,
    /// The cosine of the nearest summary that it is below.
    pub summary: f32,
    /// Its own cosine.
    pub own: f32,
    /// The places of its sentences that summaries quote.
    pub quoted: Vec<Span>,
}

/// Which summaries are looked at.
#[derive(Clone, Copy)]
pub(crate) struct Nearest {
    /// The most summaries.
    pub summaries: usize,
    /// So many parts of each level are gone down to from the top; 0 looks at all levels at once.
    pub width: usize,
}

/// Returns the chunks below the summaries that are nearest to a vector of length 1, in the order of the leaves: those that are parts of a summary of the lowest
/// level, and those that summaries quote.
pub(crate) fn below_nearest(view: &View, stored: &StoredTree, vector: &[f32], nearest: Nearest) -> Result<Vec<Below>> {
    let mut below: BTreeMap<u32, (f32, Vec<Span>)> = BTreeMap::new();
    let found = match nearest.width {
        0 => stored.tree.nearest(vector, nearest.summaries),
        width => stored.tree.descend(vector, width.min(nearest.summaries)),
    };
    for (at, score) in found {
        let Some(node) = stored.tree.node(at) else { continue };
        let parts = node.parts.iter().filter(|_| node.level == 1).map(|leaf| (*leaf, None));
        let quoted = node.sentences.iter().map(|sentence| (sentence.leaf, Some(sentence.span)));
        for (leaf, span) in parts.chain(quoted) {
            let known = below.entry(leaf).or_insert((score, Vec::new()));
            known.0 = known.0.max(score);
            known.1.extend(span);
        }
    }
    let leaves: Vec<(&ChunkId, (f32, Vec<Span>))> =
        below.into_iter().filter_map(|(leaf, found)| Some((stored.chunks.get(leaf as usize)?, found))).collect();
    let wanted: Vec<RowsOf> = leaves.iter().map(|(chunk, _)| RowsOf::Chunk((*chunk).clone())).collect();
    let rows = view.catalogue().rows_of(&wanted)?;
    let found = |(at, row): (usize, RowId)| {
        let (chunk, (summary, quoted)) = leaves.get(at)?;
        let own = normalised(view.snapshot.vector(row)?);
        let own = own.iter().zip(vector).map(|(a, b)| a * b).sum();
        Some(Below { chunk: (*chunk).clone(), row, summary: *summary, own, quoted: quoted.clone() })
    };
    Ok(rows.into_iter().filter_map(found).collect())
}
