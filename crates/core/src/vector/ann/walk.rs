//! Walks a layer towards the nodes that are nearest to a query.

use std::collections::BinaryHeap;

use super::layer::{Layer, Seen};
use crate::segment::{Hit, RowSet, TopK};
use crate::vector::code_scorer::CodeScorer;

/// So many nodes are compared for each node that is left, where most are not allowed.
const MAX_REACHED: usize = 64;

/// Which rows a walk may find.
#[derive(Clone, Copy)]
pub enum Allowed<'a> {
    /// All.
    All,
    /// Most of them: it leads over the others too.
    Most(&'a RowSet),
    /// Few: it leaps over the others, to what they are linked with.
    Few(&'a RowSet),
}

/// Walks, and keeps its working memory.
pub struct Walker {
    seen: Seen,
    ahead: BinaryHeap<Hit>,
    nodes: Vec<u32>,
    rows: Vec<u32>,
    scores: Vec<f32>,
}

impl Walker {
    /// A walker that has met nothing.
    pub fn new() -> Self {
        let (nodes, rows, scores) = (Vec::new(), Vec::new(), Vec::new());
        Self { seen: Seen::new(), ahead: BinaryHeap::new(), nodes, rows, scores }
    }

    /// The `effort` nodes nearest to a centre that a walk from some nodes finds, best first: from the best node met so far it
    /// goes on to those that it is linked with, until the best that is left is no nearer than the worst of those kept.
    ///
    /// Where few rows are allowed, the nodes to start from may be found even if they are not.
    pub fn walk(
        &mut self,
        layer: &Layer<'_>,
        centre: &CodeScorer<'_>,
        from: &[u32],
        allowed: Allowed<'_>,
        effort: usize,
    ) -> Vec<Hit> {
        self.seen.clear();
        self.ahead.clear();
        let mut best = TopK::new(effort);
        self.nodes.clear();
        for &node in from {
            if node < layer.nodes() && self.seen.insert(node) {
                self.nodes.push(node);
            }
        }
        self.compare(layer, centre, allowed, &mut best);
        while let Some(node) = self.ahead.pop() {
            if best.worst().is_some_and(|worst| node.score < worst.score) {
                break;
            }
            self.reach(layer, node.row, allowed);
            self.compare(layer, centre, allowed, &mut best);
        }
        best.into_sorted()
    }

    /// Gathers the nodes to compare next.
    fn reach(&mut self, layer: &Layer<'_>, node: u32, allowed: Allowed<'_>) {
        self.nodes.clear();
        for link in layer.links(node) {
            if !self.seen.insert(link) {
                continue;
            }
            match allowed {
                Allowed::Few(rows) if !rows.contains(link) => {
                    for far in layer.links(link) {
                        if self.nodes.len() < MAX_REACHED && rows.contains(far) && self.seen.insert(far) {
                            self.nodes.push(far);
                        }
                    }
                }
                _ => self.nodes.push(link),
            }
        }
    }

    /// Compares the gathered nodes, and keeps what is worth it.
    fn compare(&mut self, layer: &Layer<'_>, centre: &CodeScorer<'_>, allowed: Allowed<'_>, best: &mut TopK) {
        self.rows.clear();
        self.rows.extend(self.nodes.iter().map(|&node| layer.row(node)));
        centre.compare(&self.rows, &mut self.scores);
        for (&node, &score) in self.nodes.iter().zip(&self.scores) {
            let hit = Hit { score, row: node };
            if best.worst().is_some_and(|worst| hit <= worst) {
                continue;
            }
            self.ahead.push(hit);
            match allowed {
                Allowed::Most(rows) | Allowed::Few(rows) if !rows.contains(node) => {}
                _ => best.offer(hit),
            }
        }
    }
}
