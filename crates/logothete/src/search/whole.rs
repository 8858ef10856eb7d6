//! Questions about the whole: the summaries that are nearest, and what they stand on.

use std::sync::Arc;

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::document::Span;
use logothete_core::keyword::Query;
use logothete_core::query::{asks_about_the_whole, subject_of_the_whole};
use logothete_core::rerank::normalised;
use logothete_core::search::{LegPlan, Plan};
use logothete_core::tree::StoredTree;

use super::find::Searcher;
use crate::tree::{Below, Nearest, below_nearest, is_of_encoder};

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
    pub(super) fn look_at_the_whole(&self, plan: &mut Plan, question: &str) {
        if plan.legs.iter().any(|leg| leg.leg == "tree") || self.tree_for(question).is_none() {
            return;
        }
        let mut leg = LegPlan::new("tree", self.opened.config().tree.weight);
        leg.depth = plan.legs.iter().map(|leg| leg.depth).max().unwrap_or(plan.passages);
        plan.legs.push(leg);
    }

    /// Returns the tree for a question; `None` if it is not about the whole, or there is no tree that can be searched. A damaged tree is none: a search does without
    /// it, and the next build grows another.
    fn tree_for(&self, question: &str) -> Option<Arc<StoredTree>> {
        // Summaries tell of all documents, those included that an asker may not see.
        let is_whole = self.view.access.is_none() && asks_about_the_whole(question);
        if self.opened.config().tree.weight <= 0.0 || !is_whole {
            return None;
        }
        let tree = self.view.snapshot.tree().ok().flatten()?;
        (is_of_encoder(&*self.opened.encoder, &tree) && !tree.tree.nodes.is_empty()).then_some(tree)
    }

    /// Returns what the nearest summaries say of a question about the whole; `None` if it is not, or there is no tree for it.
    pub(crate) fn summed_up(&self, question: &str) -> Result<Option<SummedUp>> {
        let Some(stored) = self.tree_for(question) else { return Ok(None) };
        let text = Query::plain(subject_of_the_whole(question).unwrap_or(question)).text();
        let vector = normalised(self.ahead.vectors.of(&text, &*self.opened.encoder)?);
        let width = self.opened.config().tree.width;
        let best = stored.tree.nearest(&vector, 1);
        let Some(best) = best.first().and_then(|(at, _)| stored.tree.node(*at)) else { return Ok(None) };
        let score = |found: &Below| NODE_SHARE * found.summary + (1.0 - NODE_SHARE) * found.own;
        let mut found = below_nearest(self.view, &stored, &vector, Nearest { summaries: MAX_SUMMARIES, width })?;
        found.sort_by(|a, b| score(b).total_cmp(&score(a)));
        let least = found.first().map_or(0.0, |first| MIN_SHARE * score(first));
        let near = found.into_iter().take_while(|one| score(one) >= least).take(MAX_CHUNKS);
        let chunks = near.map(|one| (one.chunk, one.quoted)).collect();
        Ok(Some(SummedUp { label: best.label.clone(), size: best.size, chunks }))
    }
}
