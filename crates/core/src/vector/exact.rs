//! The exact search compares every live row by its code, and in full if the codes do not decide.
//!
//! It reads `rows × (stride + 12)` bytes, and `dimensions × 4` for each row that it compares in full. The result equals that of
//! comparing every row in full.

use std::ops::Range;
use std::sync::atomic::{AtomicU32, Ordering};

use rayon::prelude::*;

use super::codes::{GRID, QueryCodes, RowGrid};
use super::distance::Distance;
use super::kernel::Kernel;
use super::rows::Rows;
use crate::segment::{Hit, RowSet, TopK};

/// The number of rows in a block; a multiple of 64.
const TASK_ROWS: u32 = 8192;
/// The number of rows that are multiplied at a time: a word of a [`RowSet`].
const BLOCK: usize = 64;
/// Gaps of up to this number of excluded rows are read too, because skipping them would cost more.
const WORTH_READING: u32 = 16;

/// A row that may be among the best, with the highest score that it may have.
#[derive(Clone, Copy)]
pub struct Candidate {
    row: u32,
    most: f32,
}

impl Candidate {
    /// Returns the number of the row.
    pub fn of(rows: &Rows<'_>, query: &QueryCodes, row: u32) -> Self {
        let (mut sum, mut most) = ([0], [0.0]);
        Kernel::best().products(&query.codes, rows.codes(row..row + 1), &mut sum);
        most_of(query, rows.distance, &sum, rows.grids(row..row + 1), &mut most);
        Self { row, most: if most[0].is_nan() { f32::INFINITY } else { most[0] } }
    }
}

/// The lowest score that still matters, shared by all threads. It only rises.
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
        // An error means that it was as high already.
        let _ = self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, higher);
    }
}

/// The input of a search.
struct ScanRequest<'a> {
    rows: &'a Rows<'a>,
    query: &'a QueryCodes,
    live: &'a RowSet,
    count: usize,
    kernel: Kernel,
    threshold: Threshold,
}

/// Returns the `count` live rows with the highest scores, best first; ties by row.
pub fn search(rows: &Rows<'_>, query: &[f32], live: &RowSet, count: usize) -> Vec<Hit> {
    let codes = &QueryCodes::new(query);
    let request = ScanRequest { rows, query: codes, live, count, kernel: Kernel::best(), threshold: Threshold::new() };
    let part = |first: u32| scan(&request, first..rows.rows.min(first.saturating_add(TASK_ROWS)));
    let mut candidates: Vec<Candidate> = if rows.rows <= TASK_ROWS {
        part(0)
    } else {
        let firsts = (0..rows.rows.div_ceil(TASK_ROWS)).into_par_iter();
        firsts.flat_map_iter(|at| part(at * TASK_ROWS)).collect()
    };
    candidates.retain(|candidate| candidate.most >= request.threshold.get());
    in_full(rows, query, candidates, count)
}

/// Compares rows in full and returns the best. Rows with the highest possible scores come first. The search ends when no other
/// row can reach the worst one kept.
pub fn in_full(rows: &Rows<'_>, query: &[f32], mut candidates: Vec<Candidate>, count: usize) -> Vec<Hit> {
    candidates.sort_unstable_by(|a, b| b.most.total_cmp(&a.most));
    let mut best = TopK::new(count);
    for candidate in candidates {
        if best.worst().is_some_and(|worst| candidate.most < worst.score) {
            break;
        }
        best.offer(Hit { score: rows.score(query, candidate.row), row: candidate.row });
    }
    best.into_sorted()
}

/// Returns the rows of a part that may be among the best.
fn scan(request: &ScanRequest<'_>, part: Range<u32>) -> Vec<Candidate> {
    let mut scan = Scan {
        request,
        candidates: Vec::new(),
        least: TopK::new(request.count),
        sums: [0; BLOCK],
        mosts: [0.0; BLOCK],
    };
    let mut single = Vec::with_capacity(2 * BLOCK);
    for first in part.clone().step_by(BLOCK) {
        let mut alive = request.live.word(first / 64);
        if alive.count_ones() >= WORTH_READING {
            scan.block(first..part.end.min(first.saturating_add(BLOCK as u32)), alive);
            continue;
        }
        while alive != 0 {
            single.push(first + alive.trailing_zeros());
            alive &= alive - 1;
        }
        if single.len() >= BLOCK {
            scan.single(&single[..BLOCK]);
            single.drain(..BLOCK);
        }
    }
    scan.single(&single);
    scan.candidates.retain(|candidate| candidate.most >= request.threshold.get());
    scan.candidates
}

/// A scan of rows in blocks.
struct Scan<'a> {
    request: &'a ScanRequest<'a>,
    candidates: Vec<Candidate>,
    /// The lowest scores that the best rows may have.
    least: TopK,
    sums: [i32; BLOCK],
    mosts: [f32; BLOCK],
}

impl Scan<'_> {
    /// Scans consecutive rows, some of which are live.
    fn block(&mut self, block: Range<u32>, alive: u64) {
        let ScanRequest { rows, query, kernel, threshold, .. } = self.request;
        let (first, count) = (block.start, block.len());
        let (sums, mosts) = (&mut self.sums[..count], &mut self.mosts[..count]);
        kernel.products(&query.codes, rows.codes(block.clone()), sums);
        most_of(query, rows.distance, sums, rows.grids(block), mosts);
        let enough = threshold.get();
        for at in 0..count {
            // NaN counts as infinite, since nothing is known of the row.
            let possible = self.mosts[at] >= enough || self.mosts[at].is_nan();
            if possible && alive >> at & 1 == 1 {
                self.keep(first + at as u32, at);
            }
        }
        self.raise();
    }

    /// Scans single rows, at most as many as a block has.
    fn single(&mut self, single: &[u32]) {
        let ScanRequest { rows, query, kernel, threshold, .. } = self.request;
        let sums = &mut self.sums[..single.len()];
        rows.prefetch_grids(single);
        kernel.products_of(&query.codes, rows.all_codes(), single, sums);
        for (at, &row) in single.iter().enumerate() {
            most_of(query, rows.distance, &sums[at..=at], rows.grids(row..row + 1), &mut self.mosts[at..=at]);
        }
        let enough = threshold.get();
        for (at, &row) in single.iter().enumerate() {
            if self.mosts[at] >= enough || self.mosts[at].is_nan() {
                self.keep(row, at);
            }
        }
        self.raise();
    }

    /// Keeps the row with the sum at a place.
    fn keep(&mut self, row: u32, at: usize) {
        let ScanRequest { rows, query, .. } = self.request;
        let (most, grid) = (self.mosts[at], rows.grid(row));
        let (product, missed) = query.product(self.sums[at], grid);
        let surely = rows.distance.score_of(product - missed, query.length(), grid.length);
        // Such a row is compared in full.
        self.least.offer(Hit { score: if surely.is_nan() { f32::NEG_INFINITY } else { surely }, row });
        self.candidates.push(Candidate { row, most: if most.is_nan() { f32::INFINITY } else { most } });
    }

    /// Shares the threshold with the other threads.
    fn raise(&self) {
        if let Some(worst) = self.least.worst() {
            self.request.threshold.raise(worst.score);
        }
    }
}

/// Returns the highest possible score of some rows. The loop has no branches, so that it uses wide registers.
fn most_of(query: &QueryCodes, distance: Distance, sums: &[i32], grids: &[[u8; GRID]], mosts: &mut [f32]) {
    let each = sums.iter().zip(grids).zip(mosts);
    let upper = |sum: i32, grid: RowGrid| {
        let (product, missed) = query.product(sum, grid);
        product + missed
    };
    match distance {
        Distance::Euclidean => each.for_each(|((&sum, grid), most)| {
            let grid = RowGrid::read(grid);
            *most = distance.score_of(upper(sum, grid), query.length(), grid.length);
        }),
        Distance::Cosine | Distance::Dot => {
            each.for_each(|((&sum, grid), most)| *most = upper(sum, RowGrid::read(grid)));
        }
    }
}
