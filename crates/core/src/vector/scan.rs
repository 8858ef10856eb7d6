//! The exact search: every live row is looked at in codes, and in full where the codes leave it open.
//!
//! Reads `rows × (stride + 12)` bytes, and `dimensions × 4` for each row that is looked at in full. The result is that of
//! looking at every row in full.

use std::sync::atomic::{AtomicU32, Ordering};

use rayon::prelude::*;

use super::codes::QueryCodes;
use super::kernel::Kernel;
use super::segment::VectorIndex;
use crate::search::{Best, Hit, RowSet};

/// How many rows are taken at a time; a multiple of 64.
const TOGETHER: u32 = 8192;
/// So many rows that are out of the question are still read: skipping them would cost more.
const WORTH_READING: u32 = 16;

/// A row that may be among the best, with the most that it can score.
#[derive(Clone, Copy)]
struct Candidate {
    row: u32,
    most: f32,
}

/// The least that a row must be able to score, known to all threads; it only rises.
struct Threshold(AtomicU32);

impl Threshold {
    fn new() -> Self {
        Self(AtomicU32::new(f32::NEG_INFINITY.to_bits()))
    }

    fn get(&self) -> f32 {
        f32::from_bits(self.0.load(Ordering::Relaxed))
    }

    fn raise(&self, to: f32) {
        let higher = |bits: u32| (f32::from_bits(bits) < to).then_some(to.to_bits());
        // An error says that it was as high already.
        let _ = self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, higher);
    }
}

/// The `count` live rows that score most, best first; ties by row.
pub fn search<B: AsRef<[u8]> + Sync>(index: &VectorIndex<B>, query: &[f32], live: &RowSet, count: usize) -> Vec<Hit> {
    let codes = QueryCodes::new(query);
    let kernel = Kernel::best();
    let threshold = Threshold::new();
    let part = |first: u32| {
        let rows = first..index.rows().min(first.saturating_add(TOGETHER));
        scan(index, kernel, &codes, live, rows, count, &threshold)
    };
    let mut candidates: Vec<Candidate> = if index.rows() <= TOGETHER {
        part(0)
    } else {
        let firsts = (0..index.rows().div_ceil(TOGETHER)).into_par_iter();
        firsts.flat_map_iter(|at| part(at * TOGETHER)).collect()
    };
    // Those that may score most go first: when the rest cannot reach the worst of those found, all is known.
    candidates.retain(|candidate| candidate.most >= threshold.get());
    candidates.sort_unstable_by(|a, b| b.most.total_cmp(&a.most));
    let mut best = Best::new(count);
    for candidate in candidates {
        if best.worst().is_some_and(|worst| candidate.most < worst.score) {
            break;
        }
        if let Some(score) = index.score(query, candidate.row) {
            best.offer(Hit { score, row: candidate.row });
        }
    }
    best.into_sorted()
}

/// The rows of a part that may be among the best.
fn scan<B: AsRef<[u8]>>(
    index: &VectorIndex<B>,
    kernel: Kernel,
    query: &QueryCodes,
    live: &RowSet,
    rows: std::ops::Range<u32>,
    count: usize,
    threshold: &Threshold,
) -> Vec<Candidate> {
    let mut candidates = Vec::new();
    let mut least = Best::new(count);
    let mut sums = [0; 64];
    for first in rows.clone().step_by(64) {
        let wanted = live.word(first / 64);
        if wanted == 0 {
            continue;
        }
        let together = first..rows.end.min(first.saturating_add(64));
        let sums = &mut sums[..together.len()];
        let whole = wanted.count_ones() >= WORTH_READING;
        if whole && let Some(codes) = index.codes(together.clone()) {
            kernel.products(&query.codes, codes, sums);
        }
        let enough = threshold.get();
        for (at, (row, grid)) in together.clone().zip(index.grids(together)).enumerate() {
            if wanted >> at & 1 == 0 {
                continue;
            }
            if !whole && let Some(codes) = index.codes(row..row + 1) {
                kernel.products(&query.codes, codes, &mut sums[at..=at]);
            }
            let (product, missed) = query.product(sums[at], grid);
            let score = |product: f32| index.distance().score_of(product, query.length(), grid.length);
            // A number so large that nothing is known of it is looked at in full.
            let most = Some(score(product + missed)).filter(|most| !most.is_nan()).unwrap_or(f32::INFINITY);
            if most < enough {
                continue;
            }
            let surely = Some(score(product - missed)).filter(|least| !least.is_nan()).unwrap_or(f32::NEG_INFINITY);
            least.offer(Hit { score: surely, row });
            candidates.push(Candidate { row, most });
        }
        if let Some(worst) = least.worst() {
            threshold.raise(worst.score);
        }
    }
    candidates.retain(|candidate| candidate.most >= threshold.get());
    candidates
}
