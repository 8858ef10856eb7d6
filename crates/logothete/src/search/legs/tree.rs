//! The leg `tree`: the summaries of all levels that are nearest to the question, and the chunks that they stand on.

use std::collections::HashMap;

use logothete_core::chunk::ChunkId;
use logothete_core::rerank::normalised;
use logothete_core::trace::{LegRecord, TraceDetails};
use logothete_core::{Error, ErrorKind, Result};

use super::{LegInput, RowLeg};
use crate::storage::{RowId, RowsOf};

/// So many summaries are looked at.
const SUMMARIES: usize = 24;
/// How much more a chunk counts whose sentence stands in a summary.
const QUOTED: f32 = 0.1;

pub(super) struct TreeLeg;

impl RowLeg for TreeLeg {
    fn name(&self) -> &'static str {
        "tree"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let missing = || {
            let message = "the corpus has no tree of summaries; set kind in [tree], and build";
            Error::new(ErrorKind::NotFound, message)
        };
        let stored = input.snapshot.tree()?.ok_or_else(missing)?;
        if stored.made_by.split(' ').next() != Some(input.encoder.fingerprint().as_str()) {
            let message = "the tree of summaries was grown with another encoder; build to grow another";
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        let question = normalised(input.vectors.of(input.read, input.encoder)?);
        let tree = &stored.tree;
        // For each chunk the best of the summaries that it is found by, and whether one quotes it.
        let mut found: HashMap<u32, (f32, bool)> = HashMap::new();
        for (at, score) in tree.nearest(&question, SUMMARIES) {
            let Some(node) = tree.node(at) else { continue };
            let quoted = node.sentences.iter().map(|sentence| (sentence.leaf, true));
            let below = node.parts.iter().filter(|_| node.level == 1).map(|leaf| (*leaf, false));
            for (leaf, is_quoted) in quoted.chain(below) {
                let known = found.entry(leaf).or_insert((score, is_quoted));
                *known = (known.0.max(score), known.1 || is_quoted);
            }
        }
        let mut leaves: Vec<(u32, (f32, bool))> = found.into_iter().collect();
        leaves.sort_unstable_by_key(|(leaf, _)| *leaf);
        let chunks: Vec<&ChunkId> = leaves.iter().filter_map(|(leaf, _)| stored.chunks.get(*leaf as usize)).collect();
        let wanted: Vec<RowsOf> = chunks.into_iter().cloned().map(RowsOf::Chunk).collect();
        let rows = input.view.catalogue().rows_of(&wanted)?;
        let mut hits: Vec<(RowId, f32)> = rows
            .into_iter()
            .filter(|(_, row)| input.allows(*row))
            .filter_map(|(at, row)| {
                let (_, (score, is_quoted)) = leaves.get(at)?;
                let own = normalised(input.snapshot.vector(row)?);
                let own: f32 = own.iter().zip(&question).map(|(a, b)| a * b).sum();
                Some((row, 0.5 * (score + own) + if *is_quoted { QUOTED } else { 0.0 }))
            })
            .collect();
        hits.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        hits.dedup_by_key(|(row, _)| *row);
        hits.truncate(count);
        Ok(hits)
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.name().to_owned(), leg }
    }
}
