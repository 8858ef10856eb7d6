//! A tree that follows its chunks: new ones join the nearest node, and what is gone leaves.

use super::grow::{Told, mean, name, size};
use super::node::{Tree, of_length_one};
use crate::vector::Vectors;
use crate::vector::means::product;

impl Tree {
    /// Follows a change of the chunks. `kept` has the new position of each chunk that there was, and `None` for one that is gone; `new` has the new positions and
    /// vectors of those that came; `leaves` is their number now. Each new one joins the node of level 1 that is nearest. Nodes without parts are removed.
    ///
    /// Returns the nodes whose summary is to be told anew, with [`retell`](Self::retell), the lowest level first. Costs a product of each new chunk with each node of
    /// level 1.
    pub fn follow(&mut self, kept: &[Option<u32>], new: &[(u32, &[f32])], leaves: u32) -> Vec<u32> {
        let moved = |leaf: &u32| kept.get(*leaf as usize).copied().flatten();
        let mut changed = vec![false; self.nodes.len()];
        for (node, changed) in self.nodes.iter_mut().zip(&mut changed) {
            if node.level == 1 {
                let before = node.parts.len();
                node.parts = node.parts.iter().filter_map(moved).collect();
                node.parts.sort_unstable();
                *changed |= node.parts.len() != before;
            }
            node.sentences.retain_mut(|sentence| match moved(&sentence.leaf) {
                Some(leaf) => {
                    sentence.leaf = leaf;
                    true
                }
                None => {
                    *changed = true;
                    false
                }
            });
        }
        self.history.gone += kept.iter().filter(|kept| kept.is_none()).count() as u32;
        self.leaves = leaves;
        let level_1: Vec<usize> = (0..self.nodes.len()).filter(|at| self.nodes[*at].level == 1).collect();
        let mut means: Vec<Vec<f32>> = self.means.iter().map(<[f32]>::to_vec).collect();
        for (leaf, vector) in new {
            let near = |at: &usize| product(&means[*at], vector);
            let best = level_1.iter().copied().max_by(|a, b| near(a).total_cmp(&near(b)).then(b.cmp(a)));
            let Some(best) = best else { continue };
            let history = &mut self.history;
            let sum = history.joined_nearness * history.joined as f32 + near(&best);
            history.joined += 1;
            history.joined_nearness = sum / history.joined as f32;
            let parts = &mut self.nodes[best].parts;
            let weight = parts.len() as f32;
            let at = parts.partition_point(|part| part < leaf);
            parts.insert(at, *leaf);
            changed[best] = true;
            means[best] =
                of_length_one(means[best].iter().zip(*vector).map(|(mean, own)| mean * weight + own).collect());
        }
        self.remove_empty(&mut changed, &mut means);
        self.means = vectors(&means, self.means.dimensions());
        // A change below is a change of what is above, level by level.
        for level in 1..=self.levels() {
            let of_level: Vec<usize> = (0..self.nodes.len()).filter(|at| self.nodes[*at].level == level).collect();
            for at in of_level {
                if level > 1 {
                    changed[at] |= self.nodes[at].parts.iter().any(|part| changed[*part as usize]);
                }
                if changed[at] {
                    self.nodes[at].size = size(self, &self.nodes[at]);
                    if level > 1 {
                        means[at] = mean(&self.means, &self.nodes[at].parts);
                    }
                }
            }
            self.means = vectors(&means, self.means.dimensions());
        }
        (0..self.nodes.len() as u32).filter(|at| changed[*at as usize]).collect()
    }

    /// Removes nodes without parts, the lowest level first, and numbers the others anew.
    fn remove_empty(&mut self, changed: &mut Vec<bool>, means: &mut Vec<Vec<f32>>) {
        let mut numbers: Vec<Option<u32>> = Vec::with_capacity(self.nodes.len());
        let mut next = 0;
        for (node, changed) in self.nodes.iter_mut().zip(changed.iter_mut()) {
            if node.level > 1 {
                let before = node.parts.len();
                node.parts =
                    node.parts.iter().filter_map(|part| numbers.get(*part as usize).copied().flatten()).collect();
                *changed |= node.parts.len() != before;
            }
            let number = (!node.parts.is_empty()).then(|| {
                next += 1;
                next - 1
            });
            numbers.push(number);
        }
        keep(&mut self.nodes, &numbers);
        keep(changed, &numbers);
        keep(means, &numbers);
    }

    /// Tells a node anew.
    pub fn retell(&mut self, at: u32, told: Told) {
        if let Some(node) = self.nodes.get_mut(at as usize) {
            (node.words, node.sentences, node.written) = (told.words, told.sentences, told.written);
        }
    }

    /// Gives all nodes labels by their words, after some were told anew.
    pub fn rename(&mut self) {
        (1..=self.levels()).for_each(|level| name(self, level));
    }
}

/// Keeps what has a number.
fn keep<T>(all: &mut Vec<T>, numbers: &[Option<u32>]) {
    let mut stays = numbers.iter().map(Option::is_some);
    all.retain(|_| stays.next().unwrap_or(true));
}

fn vectors(all: &[Vec<f32>], dimensions: usize) -> Vectors {
    let mut vectors = Vectors::new(dimensions);
    // Means of finite numbers are finite.
    all.iter().for_each(|vector| drop(vectors.push(vector)));
    vectors
}
