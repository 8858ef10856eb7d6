//! Questions about the whole: the summaries that are nearest, and what they stand on.

use std::collections::BTreeMap;

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::document::Span;
use logothete_core::keyword::Query;
use logothete_core::query::{asks_about_the_whole, subject_of_the_whole};
use logothete_core::rerank::normalised;
use logothete_core::search::{LegPlan, Plan};

use super::find::Searcher;
use crate::storage::RowsOf;
use crate::tree::is_of_encoder;

/// The most summaries that are looked at.
const MAX_SUMMARIES: usize = 16;
/// The most chunks that are told of.
const MAX_CHUNKS: usize = 24;
/// A chunk that is less near than this share of the nearest is left out.
const MIN_SHARE: f32 = 0.75;
/// How much the summary that a chunk is below counts beside the chunk itself.
const NODE_SHARE: f32 = 0.6;

/// What summaries say of a question.
pub(crate) struct SummedUp {
    /// The words that tell the nearest summary from others.
    pub label: Vec<String>,
    /// The number of chunks below it.
    pub size: u32,
    /// The chunks below the nearest summaries that are nearest to the question, best first, with the places of the sentences that summaries quote.
    pub chunks: Vec<(ChunkId, Vec<Span>)>,
}

impl Searcher<'_> {
    /// Adds the leg `tree` for a question about the whole, if there is a tree that can be searched.
    pub(super) fn look_at_the_whole(&self, plan: &mut Plan, question: &str) -> Result<()> {
        if plan.legs.iter().any(|leg| leg.leg == "tree") || !self.has_tree_for(question)? {
            return Ok(());
        }
        let mut leg = LegPlan::new("tree", self.opened.config().tree.weight);
        leg.depth = plan.legs.iter().map(|leg| leg.depth).max().unwrap_or(plan.passages);
        plan.legs.push(leg);
        Ok(())
    }

    /// Returns whether a question is about the whole, and there is a tree for it.
    fn has_tree_for(&self, question: &str) -> Result<bool> {
        if self.opened.config().tree.weight <= 0.0 || !asks_about_the_whole(question) {
            return Ok(false);
        }
        let tree = self.view.snapshot.tree()?;
        Ok(tree.is_some_and(|tree| is_of_encoder(self.opened, &tree) && !tree.tree.nodes.is_empty()))
    }

    /// Returns what the nearest summaries say of a question about the whole; `None` if it is not, or there is no tree for it.
    pub(crate) fn summed_up(&self, question: &str) -> Result<Option<SummedUp>> {
        let Some(stored) = self.view.snapshot.tree()?.filter(|_| self.has_tree_for(question).unwrap_or(false)) else {
            return Ok(None);
        };
        let text = Query::plain(subject_of_the_whole(question).unwrap_or(question)).text();
        let vector = normalised(self.ahead.vectors.of(&text, &*self.opened.encoder)?);
        let nearest = stored.tree.nearest(&vector, MAX_SUMMARIES);
        let Some(best) = nearest.first().and_then(|(at, _)| stored.tree.node(*at)) else { return Ok(None) };
        // For each chunk the nearest summary that it is below, and the sentences of it that summaries quote.
        let mut below: BTreeMap<u32, (f32, Vec<Span>)> = BTreeMap::new();
        for (node, score) in nearest.iter().filter_map(|(at, score)| Some((stored.tree.node(*at)?, *score))) {
            let parts = node.parts.iter().filter(|_| node.level == 1).map(|leaf| (*leaf, None));
            let quoted = node.sentences.iter().map(|sentence| (sentence.leaf, Some(sentence.span)));
            for (leaf, span) in parts.chain(quoted) {
                let known = below.entry(leaf).or_insert((score, Vec::new()));
                known.0 = known.0.max(score);
                known.1.extend(span);
            }
        }
        let leaves: Vec<(ChunkId, f32, Vec<Span>)> = below
            .into_iter()
            .filter_map(|(leaf, (score, quoted))| Some((stored.chunks.get(leaf as usize)?.clone(), score, quoted)))
            .collect();
        let wanted: Vec<RowsOf> = leaves.iter().map(|(chunk, ..)| RowsOf::Chunk(chunk.clone())).collect();
        let mut scored: Vec<(f32, usize)> = Vec::with_capacity(leaves.len());
        for (at, row) in self.view.catalogue().rows_of(&wanted)? {
            let own = normalised(self.view.snapshot.vector(row).unwrap_or_default());
            let own: f32 = own.iter().zip(&vector).map(|(a, b)| a * b).sum();
            scored.push((NODE_SHARE * leaves[at].1 + (1.0 - NODE_SHARE) * own, at));
        }
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        let least = scored.first().map_or(0.0, |(score, _)| MIN_SHARE * score);
        let near = scored.into_iter().take_while(|(score, _)| *score >= least).take(MAX_CHUNKS);
        let chunks = near.map(|(_, at)| (leaves[at].0.clone(), leaves[at].2.clone())).collect();
        Ok(Some(SummedUp { label: best.label.clone(), size: best.size, chunks }))
    }
}
