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

/// Tells what nodes say: gets the tree so far, and the new nodes with their level, parts and sizes; returns as many results, in the same order.
pub type Tell<'t> = dyn FnMut(&Tree, &[TreeNode]) -> Result<Vec<Told>, Error> + 't;

/// Grows a tree over the vectors of chunks, which have length 1. `tell` is asked for each level. If it fails, the levels below stay, and the error is returned
/// besides. A level that does not stand apart is the last, and so is one that is one node.
///
/// Costs what [`groups`] costs, mostly for the lowest level.
pub fn grow(leaves: &Vectors, settings: &TreeSettings, tell: &mut Tell<'_>) -> (Tree, Option<Error>) {
    let mut tree = Tree::empty(leaves.len() as u32, leaves.dimensions());
    tree.history.grown = leaves.len() as u32;
    // The vectors of the level below, and the position of its first node.
    let (mut below, mut first) = (leaves.clone(), 0_u32);
    for level in 1..=settings.max_levels.max(1) {
        if below.len() < 2 {
            tree.end = if level == 1 { TreeEnd::TooFew } else { TreeEnd::Whole };
            return (tree, None);
        }
        let found = groups(&below, &settings.groups);
        // As many groups as there were parts, nearly, group nothing.
        let is_level = found.separate && found.groups.len() * 4 <= below.len() * 3;
        let grouped = if is_level || found.groups.len() == 1 {
            found.groups
        } else if below.len() <= settings.groups.max_parts {
            // The last few do not stand apart, and are the whole together.
            vec![(0..below.len() as u32).collect()]
        } else {
            tree.end = TreeEnd::Inseparable;
            return (tree, None);
        };
        let nodes: Vec<TreeNode> = grouped.iter().map(|group| new_node(&tree, level, group, first)).collect();
        let told = match tell(&tree, &nodes) {
            Ok(told) => told,
            Err(error) => return (tree, Some(error)),
        };
        let mut means = Vectors::new(leaves.dimensions());
        for group in &grouped {
            // Sums of finite numbers of length 1 are finite.
            let _ = means.push(&mean(&below, group));
        }
        let next = tree.nodes.len() as u32;
        for ((mut node, told), mean) in nodes.into_iter().zip(told).zip(means.iter()) {
            (node.words, node.sentences, node.written) = (told.words, told.sentences, told.written);
            tree.nodes.push(node);
            let _ = tree.means.push(mean);
        }
        if level == 1 {
            tree.history.nearness = nearness(&tree, leaves);
        }
        name(&mut tree, level);
        (below, first) = (means, next);
    }
    tree.end = if below.len() == 1 { TreeEnd::Whole } else { TreeEnd::Levels };
    (tree, None)
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
