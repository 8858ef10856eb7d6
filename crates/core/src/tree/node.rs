//! The nodes of a tree, and the ways through it.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::central::TreeSentence;
use super::words::NodeWord;
use crate::segment::{Hit, TopK};
use crate::vector::Vectors;
use crate::vector::means::product;

/// A group of chunks, or of nodes a level below, with its summary.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct TreeNode {
    /// The level, from 1: above the chunks.
    pub level: u32,
    /// Its parts: the positions of chunks among the leaves on level 1, and of nodes above.
    pub parts: Vec<u32>,
    /// The number of chunks below it, each counted once.
    pub size: u32,
    /// The words that tell it from the others of its level.
    pub label: Vec<String>,
    /// The words that count most in it.
    pub words: Vec<NodeWord>,
    /// The sentences that its summary stands on, word for word. They are the summary, unless a model wrote one.
    pub sentences: Vec<TreeSentence>,
    /// The summary that a model wrote.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<String>,
}

impl TreeNode {
    /// Returns the summary.
    pub fn summary(&self) -> String {
        match &self.written {
            Some(written) => written.clone(),
            None => self.sentences.iter().map(|sentence| sentence.text.as_str()).collect::<Vec<_>>().join(" "),
        }
    }
}

/// Why a tree has no further level.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum TreeEnd {
    /// There are not two chunks to be grouped.
    #[default]
    TooFew,
    /// One node stands for all.
    Whole,
    /// The nodes of the last level do not stand apart.
    Inseparable,
    /// It has as many levels as it may.
    Levels,
}

/// What became of a tree since it grew.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct TreeHistory {
    /// The number of chunks when it grew.
    pub grown: u32,
    /// The mean cosine of a chunk to its node then.
    pub nearness: f32,
    /// The number of chunks that joined a node since.
    pub joined: u32,
    /// The mean cosine of these to the node that they joined.
    pub joined_nearness: f32,
    /// The number of chunks that have gone since.
    pub gone: u32,
}

impl TreeHistory {
    /// Returns the share of the chunks that came or went since it grew.
    pub fn drift(&self) -> f32 {
        (self.joined + self.gone) as f32 / self.grown.max(1) as f32
    }

    /// Returns whether it should grow anew: more than three chunks in ten came or went, or those that came are much farther from their nodes than those that it
    /// grew from.
    pub fn is_worn(&self) -> bool {
        const MAX_DRIFT: f32 = 0.3;
        const MIN_NEARNESS: f32 = 0.8;
        const MIN_JOINED: u32 = 20;
        let is_far = self.joined >= MIN_JOINED && self.joined_nearness < MIN_NEARNESS * self.nearness;
        self.drift() > MAX_DRIFT || is_far
    }
}

/// Groups of chunks, groups of these groups, and so on, each with a summary.
#[derive(Clone, Debug, PartialEq)]
pub struct Tree {
    /// The nodes, level by level from the lowest.
    pub nodes: Vec<TreeNode>,
    /// The number of chunks.
    pub leaves: u32,
    /// Why there is no further level.
    pub end: TreeEnd,
    /// What became of it since it grew.
    pub history: TreeHistory,
    /// The mean of the vectors of the parts of each node, of length 1.
    pub(super) means: Vectors,
}

impl Tree {
    /// Returns a tree without nodes over some chunks.
    pub fn empty(leaves: u32, dimensions: usize) -> Self {
        let (end, history) = (TreeEnd::TooFew, TreeHistory::default());
        Self { nodes: Vec::new(), leaves, end, history, means: Vectors::new(dimensions) }
    }

    /// Returns the number of levels above the chunks.
    pub fn levels(&self) -> u32 {
        self.nodes.iter().map(|node| node.level).max().unwrap_or(0)
    }

    /// Returns the nodes of a level with their positions.
    pub fn level(&self, level: u32) -> impl Iterator<Item = (u32, &TreeNode)> {
        (0_u32..).zip(&self.nodes).filter(move |(_, node)| node.level == level)
    }

    /// Returns a node by its position.
    pub fn node(&self, at: u32) -> Option<&TreeNode> {
        self.nodes.get(at as usize)
    }

    /// Returns the mean of the vectors of a node's parts, of length 1.
    pub fn mean(&self, at: u32) -> Option<&[f32]> {
        self.means.get(at as usize)
    }

    /// Returns the number of dimensions of its vectors.
    pub fn dimensions(&self) -> usize {
        self.means.dimensions()
    }

    /// Returns the nodes that are part of no other, the highest first.
    pub fn tops(&self) -> Vec<u32> {
        let above: BTreeSet<u32> =
            self.nodes.iter().filter(|node| node.level > 1).flat_map(|node| node.parts.iter().copied()).collect();
        let mut tops: Vec<u32> = (0..self.nodes.len() as u32).filter(|at| !above.contains(at)).collect();
        tops.sort_by_key(|at| (std::cmp::Reverse(self.nodes[*at as usize].level), *at));
        tops
    }

    /// Returns the positions of the chunks below a node, ascending, each once.
    pub fn leaves_of(&self, at: u32) -> Vec<u32> {
        let (mut open, mut seen, mut found) = (vec![at], BTreeSet::new(), BTreeSet::new());
        while let Some(at) = open.pop() {
            match self.node(at) {
                Some(node) if node.level == 1 => found.extend(node.parts.iter().copied()),
                Some(node) => open.extend(node.parts.iter().copied().filter(|part| seen.insert(*part))),
                None => {}
            }
        }
        found.into_iter().collect()
    }

    /// Returns the `count` nodes of all levels that are nearest to a vector of length 1, with their cosines, best first. Costs a product for each node.
    pub fn nearest(&self, vector: &[f32], count: usize) -> Vec<(u32, f32)> {
        self.best((0..self.nodes.len() as u32).collect(), vector, count)
    }

    /// Goes down from the top: of the parts of the best `width` nodes of a level, the best `width` are gone on with. Returns the nodes of level 1 that are reached,
    /// best first. Costs a product for each part that is looked at.
    pub fn descend(&self, vector: &[f32], width: usize) -> Vec<(u32, f32)> {
        let (mut open, mut found) = (self.tops(), Vec::new());
        while !open.is_empty() {
            let best = self.best(std::mem::take(&mut open), vector, width);
            let mut next = BTreeSet::new();
            for (at, score) in best {
                match &self.nodes[at as usize] {
                    node if node.level == 1 => found.push((at, score)),
                    node => next.extend(node.parts.iter().copied().filter(|part| (*part as usize) < self.nodes.len())),
                }
            }
            open = next.into_iter().collect();
        }
        found.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        found.dedup_by_key(|(at, _)| *at);
        found.truncate(width);
        found
    }

    fn best(&self, nodes: Vec<u32>, vector: &[f32], count: usize) -> Vec<(u32, f32)> {
        if vector.len() != self.dimensions() || count == 0 {
            return Vec::new();
        }
        let mut best = TopK::new(count);
        for row in nodes {
            if let Some(mean) = self.mean(row) {
                best.offer(Hit { score: product(mean, vector), row });
            }
        }
        best.into_sorted().into_iter().map(|hit| (hit.row, hit.score)).collect()
    }
}

/// Returns a vector with length 1; one of zeros stays.
pub(super) fn of_length_one(mut vector: Vec<f32>) -> Vec<f32> {
    let length = product(&vector, &vector).sqrt();
    if length > 0.0 {
        vector.iter_mut().for_each(|number| *number /= length);
    }
    vector
}
