//! Growing a tree: level by level, until nothing is left to be grouped.

use super::central::{SummaryPart, TreeSentence, central_sentences};
use super::groups::{GroupSettings, groups};
use super::node::{Tree, TreeEnd, TreeNode, of_length_one};
use super::words::{NodeWord, WordCounts, labels, words_of_parts};
use crate::error::Error;
use crate::vector::Vectors;
use crate::vector::means::product;

/// How a tree grows.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct TreeSettings {
    /// How chunks and nodes are grouped.
    pub groups: GroupSettings,
    /// The most levels above the chunks.
    pub max_levels: u32,
    /// The most words of a summary.
    pub max_words: usize,
}

impl Default for TreeSettings {
    fn default() -> Self {
        Self { groups: GroupSettings::default(), max_levels: 8, max_words: 80 }
    }
}

/// What is said of a node.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct Told {
    /// The words that count most in it.
    pub words: Vec<NodeWord>,
    /// The sentences that its summary stands on.
    pub sentences: Vec<TreeSentence>,
    /// The summary that a model wrote.
    pub written: Option<String>,
}

impl Told {
    /// Returns what is said of a node in its own words.
    pub fn new(words: Vec<NodeWord>, sentences: Vec<TreeSentence>) -> Self {
        Self { words, sentences, written: None }
    }

    /// Returns it with a summary that a model wrote.
    #[must_use]
    pub fn written(self, written: Option<String>) -> Self {
        Self { written, ..self }
    }
}

/// A tree at growth, level by level.
///
/// ```
/// use logothete_core::tree::{Growth, Told, TreeSettings};
/// use logothete_core::vector::Vectors;
///
/// let mut chunks = Vectors::new(2);
/// for vector in [[1.0, 0.0], [0.9, 0.1], [0.0, 1.0], [0.1, 0.9]] {
///     chunks.push(&vector)?;
/// }
/// let mut growth = Growth::new(chunks, TreeSettings::default());
/// while let Some(nodes) = growth.next_level() {
///     let told = vec![Told::default(); nodes.len()];
///     growth.add(nodes, told);
/// }
/// let tree = growth.finish();
/// assert_eq!(tree.nodes[tree.tops()[0] as usize].size, 4);
/// # Ok::<(), logothete_core::Error>(())
/// ```
#[derive(Debug)]
pub struct Growth {
    tree: Tree,
    settings: TreeSettings,
    /// The vectors of the level below, and the position of its first node.
    below: Vectors,
    first: u32,
    /// The groups of the next level, by the positions of its parts in `below`.
    grouped: Vec<Vec<u32>>,
}

impl Growth {
    /// Begins a tree over the vectors of chunks, which have length 1.
    pub fn new(leaves: Vectors, settings: TreeSettings) -> Self {
        let mut tree = Tree::empty(leaves.len() as u32, leaves.dimensions());
        tree.history.grown = leaves.len() as u32;
        Self { tree, settings, below: leaves, first: 0, grouped: Vec::new() }
    }

    /// Returns the tree so far.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// Groups what is there, and returns the nodes of the next level with their parts and sizes. `None` means that the tree has grown: one node stands for all,
    /// the nodes do not stand apart, or it has as many levels as it may.
    ///
    /// Costs what [`groups`] costs, mostly for the lowest level.
    pub fn next_level(&mut self) -> Option<Vec<TreeNode>> {
        let level = self.tree.levels() + 1;
        if self.below.len() < 2 {
            self.tree.end = if level == 1 { TreeEnd::TooFew } else { TreeEnd::Whole };
            return None;
        }
        if level > self.settings.max_levels.max(1) {
            self.tree.end = TreeEnd::Levels;
            return None;
        }
        let found = groups(&self.below, &self.settings.groups);
        // As many groups as there were parts, nearly, group nothing.
        let is_level = found.separate && found.groups.len() * 4 <= self.below.len() * 3;
        self.grouped = if is_level || found.groups.len() == 1 {
            found.groups
        } else if self.below.len() <= self.settings.groups.max_parts {
            // The last few do not stand apart, and are the whole together.
            vec![(0..self.below.len() as u32).collect()]
        } else {
            self.tree.end = TreeEnd::Inseparable;
            return None;
        };
        Some(self.grouped.iter().map(|group| new_node(&self.tree, level, group, self.first)).collect())
    }

    /// Adds the nodes of a level, with what was told of each, in the same order.
    pub fn add(&mut self, nodes: Vec<TreeNode>, told: Vec<Told>) {
        let mut means = Vectors::new(self.tree.dimensions());
        for group in &self.grouped {
            // Sums of finite numbers of length 1 are finite.
            let _ = means.push(&mean(&self.below, group));
        }
        let level = self.tree.levels() + 1;
        self.first = self.tree.nodes.len() as u32;
        for ((mut node, told), mean) in nodes.into_iter().zip(told).zip(means.iter()) {
            (node.words, node.sentences, node.written) = (told.words, told.sentences, told.written);
            self.tree.nodes.push(node);
            let _ = self.tree.means.push(mean);
        }
        if level == 1 {
            self.tree.history.nearness = nearness(&self.tree, &self.below);
        }
        name(&mut self.tree, level);
        self.below = means;
    }

    /// Ends the growth.
    pub fn finish(self) -> Tree {
        self.tree
    }
}

/// Tells what nodes say: gets the tree so far, and the new nodes with their level, parts and sizes; returns as many results, in the same order.
pub type Tell<'t> = dyn FnMut(&Tree, &[TreeNode]) -> Result<Vec<Told>, Error> + 't;

/// Grows a tree over the vectors of chunks, as [`Growth`] does, asking `tell` for each level. If it fails, the levels below stay, and the error is returned besides.
pub fn grow(leaves: &Vectors, settings: &TreeSettings, tell: &mut Tell<'_>) -> (Tree, Option<Error>) {
    let mut growth = Growth::new(leaves.clone(), settings.clone());
    while let Some(nodes) = growth.next_level() {
        match tell(growth.tree(), &nodes) {
            Ok(told) => growth.add(nodes, told),
            Err(error) => return (growth.finish(), Some(error)),
        }
    }
    (growth.finish(), None)
}

fn new_node(tree: &Tree, level: u32, group: &[u32], first: u32) -> TreeNode {
    let parts: Vec<u32> = if level == 1 { group.to_vec() } else { group.iter().map(|at| at + first).collect() };
    let mut node = TreeNode { level, parts, ..TreeNode::default() };
    node.size = size(tree, &node);
    node
}

/// Returns the mean cosine of the chunks to the nodes that they belong to.
fn nearness(tree: &Tree, leaves: &Vectors) -> f32 {
    let (mut sum, mut count) = (0.0_f64, 0_u32);
    for (at, node) in tree.level(1) {
        for leaf in node.parts.iter().filter_map(|part| leaves.get(*part as usize)) {
            sum += f64::from(product(leaf, tree.mean(at).unwrap_or_default()));
            count += 1;
        }
    }
    (sum / f64::from(count.max(1))) as f32
}

/// Returns the number of chunks below a node.
pub(super) fn size(tree: &Tree, node: &TreeNode) -> u32 {
    match node.level {
        1 => node.parts.len() as u32,
        _ => {
            let mut leaves: Vec<u32> = node.parts.iter().flat_map(|part| tree.leaves_of(*part)).collect();
            leaves.sort_unstable();
            leaves.dedup();
            leaves.len() as u32
        }
    }
}

/// Returns the mean of some vectors, of length 1.
pub(super) fn mean(vectors: &Vectors, rows: &[u32]) -> Vec<f32> {
    let mut sums = vec![0.0_f64; vectors.dimensions()];
    for vector in rows.iter().filter_map(|row| vectors.get(*row as usize)) {
        sums.iter_mut().zip(vector).for_each(|(sum, number)| *sum += f64::from(*number));
    }
    of_length_one(sums.into_iter().map(|sum| (sum / rows.len().max(1) as f64) as f32).collect())
}

/// Gives the nodes of a level their labels.
pub(super) fn name(tree: &mut Tree, level: u32) {
    let of_level: Vec<u32> = tree.level(level).map(|(at, _)| at).collect();
    let words: Vec<&[NodeWord]> = of_level.iter().map(|at| tree.nodes[*at as usize].words.as_slice()).collect();
    for (at, label) in of_level.iter().zip(labels(&words)) {
        tree.nodes[*at as usize].label = label;
    }
}

/// Tells what a node above others says, from what they say: their sentences, and their words. Nodes of level 1 have no others below them; what is told of them
/// is empty.
pub fn told_by_parts(tree: &Tree, node: &TreeNode, mean: &[f32], counts: &WordCounts, max_words: usize) -> Told {
    if node.level < 2 {
        return Told::default();
    }
    let below = || node.parts.iter().filter_map(|part| Some((*part, tree.node(*part)?)));
    let part = |(at, below): (u32, &TreeNode)| SummaryPart {
        weight: tree.mean(at).map_or(0.0, |own| product(own, mean)).clamp(0.0, 1.0),
        sentences: below.sentences.clone(),
    };
    let parts: Vec<SummaryPart> = below().map(part).collect();
    let words = words_of_parts(below().map(|(_, below)| below.words.as_slice()));
    Told::new(words, central_sentences(&parts, counts, max_words))
}

/// Returns the mean of the vectors of the parts of a node that is not in the tree yet.
pub fn mean_of_parts(tree: &Tree, node: &TreeNode) -> Vec<f32> {
    mean(&tree.means, &node.parts)
}
