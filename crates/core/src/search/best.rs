//! The best of many hits, without keeping the others.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use super::Hit;

/// The best hits so far. Costs the logarithm of how many are kept for one that is better than the worst of them.
pub(crate) struct Best {
    count: usize,
    heap: BinaryHeap<Reverse<Hit>>,
}

impl Best {
    /// Keeps so many.
    pub(crate) fn new(count: usize) -> Self {
        // Somebody may ask for more than there are: room is made as they come.
        Self { count, heap: BinaryHeap::new() }
    }

    /// Offers a hit.
    pub(crate) fn offer(&mut self, hit: Hit) {
        if self.heap.len() < self.count {
            self.heap.push(Reverse(hit));
        } else if self.worst().is_some_and(|worst| hit > worst) {
            self.heap.pop();
            self.heap.push(Reverse(hit));
        }
    }

    /// The worst of them, once there are as many as wanted.
    pub(crate) fn worst(&self) -> Option<Hit> {
        let full = self.heap.len() == self.count;
        self.heap.peek().filter(|_| full).map(|Reverse(hit)| *hit)
    }

    /// Best first.
    pub(crate) fn into_sorted(self) -> Vec<Hit> {
        let mut hits: Vec<Hit> = self.heap.into_iter().map(|Reverse(hit)| hit).collect();
        hits.sort_unstable_by(|a, b| b.cmp(a));
        hits
    }
}
