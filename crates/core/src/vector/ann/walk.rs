//! Walks a layer towards the nodes that are nearest to a query.

use std::collections::BinaryHeap;

use super::layer::{Layer, Seen};
use crate::segment::{Hit, RowSet, TopK};
use crate::vector::code_scorer::CodeScorer;

/// The highest number of nodes that are compared for one node, if most are not allowed.
const MAX_REACHED: usize = 64;

/// The rows that a walk may find.
#[derive(Clone, Copy)]
pub enum Allowed<'a> {
    /// All rows.
    All,
    /// Most rows; the walk leads over the others too.
    Most(&'a RowSet),
    /// Few rows; the walk skips the others and goes on to their links.
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
    /// Creates a walker.
    pub fn new() -> Self {
        let (nodes, rows, scores) = (Vec::new(), Vec::new(), Vec::new());
        Self { seen: Seen::new(), ahead: BinaryHeap::new(), nodes, rows, scores }
    }

    /// Walks from some nodes and returns the `effort` nodes nearest to a centre, best first. It always goes on from the best
    /// node that it has not expanded, until that one is no nearer than the worst kept node.
    ///
    /// If few rows are allowed, the result may contain start nodes that are not allowed.
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

    /// Compares the gathered nodes, and keeps the near ones.
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
