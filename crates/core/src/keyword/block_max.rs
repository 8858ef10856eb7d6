//! Finds the best rows of a segment, and skips most of the others.
//!
//! Terms are sorted by their highest possible score. Terms whose scores together cannot reach the worst kept row bring no
//! candidates; they are only looked up for the candidates of the others (Turtle and Flood, 1995). Blocks whose bounds cannot
//! reach it are skipped unread (Ding and Suel, 2011). The result and its order equal those of scoring every row, because a
//! row's score always sums its terms in the order of the query.

use super::bm25::Scorer;
use super::postings::{Cursor, END};
use crate::segment::{Hit, TopK};

/// A term's list, with its scores.
pub(super) struct Scored<'a> {
    pub cursor: Cursor<'a>,
    pub scorer: Scorer,
    most: f32,
    /// The block whose bound was computed, and that bound.
    known: (usize, f32),
}

impl<'a> Scored<'a> {
    pub(super) fn new(cursor: Cursor<'a>, scorer: Scorer) -> Self {
        let most = scorer.most(cursor.pairs().iter().copied());
        Self { cursor, scorer, most, known: (usize::MAX, 0.0) }
    }

    /// Returns the highest score of the term in a block.
    fn most_in(&mut self, block: usize) -> f32 {
        if self.known.0 != block {
            self.known = (block, self.scorer.most(self.cursor.pairs_of(block)));
        }
        self.known.1
    }
}

/// Returns the score of a row at or before the cursors, summed in the order of the lists.
pub(super) fn score_of(lists: &mut [Scored<'_>], row: u32, length: u32) -> f32 {
    let mut score = 0.0;
    for list in lists {
        list.cursor.advance(row);
        if list.cursor.row() == row {
            score += list.scorer.score(list.cursor.frequency(), length);
        }
    }
    score
}

/// Returns the `count` best allowed rows, best first; ties by row.
pub(super) fn top_k(
    lists: &mut [Scored<'_>],
    length: impl Fn(u32) -> u32,
    allowed: impl Fn(u32) -> bool,
    count: usize,
) -> Vec<Hit> {
    let mut best = TopK::new(count);
    if count == 0 {
        return Vec::new();
    }
    // From the lowest possible score to the highest.
    let mut order: Vec<usize> = (0..lists.len()).collect();
    order.sort_by(|&a, &b| lists[a].most.total_cmp(&lists[b].most));
    // The highest possible sums of the lists up to each one.
    let mut together: Vec<f32> = Vec::with_capacity(order.len());
    for &at in &order {
        together.push(together.last().copied().unwrap_or(0.0) + lists[at].most);
    }
    // Candidates come from the lists at this place and after it.
    let (mut from, mut enough) = (0, f32::NEG_INFINITY);
    while from < order.len() {
        let row = order[from..].iter().map(|&at| lists[at].cursor.row()).min().unwrap_or(END);
        if row == END {
            break;
        }
        let below = if from > 0 { together[from - 1] } else { 0.0 };
        // The highest score in the current blocks, and the row up to which it holds.
        let (mut most, mut until) = (below, END);
        for &at in &order[from..] {
            let list = &mut lists[at];
            let here = list.cursor.row();
            if here == row {
                let block = list.cursor.block();
                most += list.most_in(block);
                until = until.min(list.cursor.last_of(block).saturating_add(1));
            } else {
                until = until.min(here);
            }
        }
        if most <= enough {
            for &at in &order[from..] {
                if lists[at].cursor.row() == row {
                    lists[at].cursor.advance(until.max(row + 1));
                }
            }
            continue;
        }
        if allowed(row) && reaches(lists, &order[..from], &order[from..], &together, row, length(row), enough) {
            let score = score_of(lists, row, length(row));
            best.offer(Hit { score, row });
            if let Some(worst) = best.worst().filter(|worst| worst.score > enough) {
                enough = worst.score;
                while from < order.len() && together[from] <= enough {
                    from += 1;
                }
            }
        }
        for &at in &order {
            // The lists below are looked up, and do not move here.
            if lists[at].cursor.row() == row {
                lists[at].cursor.next();
            }
        }
    }
    best.into_sorted()
}

/// Returns `true` if a row may still score more than `enough`, term by term.
fn reaches(
    lists: &mut [Scored<'_>],
    below: &[usize],
    above: &[usize],
    together: &[f32],
    row: u32,
    length: u32,
    enough: f32,
) -> bool {
    let mut score = 0.0;
    for &at in above {
        let list = &mut lists[at];
        if list.cursor.row() == row {
            score += list.scorer.score(list.cursor.frequency(), length);
        }
    }
    // Sums in another order may round differently.
    let short = |score: f32| score * (1.0 + 1e-5) <= enough;
    for (place, &at) in below.iter().enumerate().rev() {
        if short(score + together[place]) {
            return false;
        }
        let list = &mut lists[at];
        let rest = if place > 0 { together[place - 1] } else { 0.0 };
        let block = list.cursor.block_for(row);
        if short(score + rest + list.most_in(block)) {
            return false;
        }
        list.cursor.advance(row);
        if list.cursor.row() == row {
            score += list.scorer.score(list.cursor.frequency(), length);
        }
    }
    !short(score)
}
