//! Selection of the `k` best hits.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use super::Hit;

/// Collects the `k` best hits. An offer that displaces another hit costs O(log k); any other offer costs O(1).
pub(crate) struct TopK {
    count: usize,
    heap: BinaryHeap<Reverse<Hit>>,
}

impl TopK {
    /// Creates a collector of the `count` best hits.
    pub(crate) fn new(count: usize) -> Self {
        // A caller may ask for more hits than exist, so memory grows with the offers.
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

    /// Returns the worst kept hit; `None` until `count` hits were offered.
    pub(crate) fn worst(&self) -> Option<Hit> {
        let full = self.heap.len() == self.count;
        self.heap.peek().filter(|_| full).map(|Reverse(hit)| *hit)
    }

    /// Returns the hits, best first.
    pub(crate) fn into_sorted(self) -> Vec<Hit> {
        let mut hits: Vec<Hit> = self.heap.into_iter().map(|Reverse(hit)| hit).collect();
        hits.sort_unstable_by(|a, b| b.cmp(a));
        hits
    }
}
