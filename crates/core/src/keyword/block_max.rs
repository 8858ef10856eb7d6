//! The best rows of a segment, without looking at most of the others.
//!
//! Terms are sorted by the most that they can add. Those that cannot together reach the worst row kept so far bring no
//! candidates, and are only looked up for those of the others (Turtle and Flood, 1995); and blocks whose bounds cannot reach
//! it are passed over unread (Ding and Suel, 2011). What is returned, and its order, is what scoring every row would give:
//! a row's score is always added up over all its terms in the order of the query.

use super::bm25::Scorer;
use super::postings::{Cursor, END};
use crate::segment::{Hit, TopK};

/// A term's list, and how it scores.
pub(super) struct Scored<'a> {
    pub cursor: Cursor<'a>,
    pub scorer: Scorer,
    most: f32,
    /// The block whose bound is known, and the bound.
    known: (usize, f32),
}

impl<'a> Scored<'a> {
    pub(super) fn new(cursor: Cursor<'a>, scorer: Scorer) -> Self {
        let most = scorer.most(cursor.pairs().iter().copied());
        Self { cursor, scorer, most, known: (usize::MAX, 0.0) }
    }

    /// The most that it can add in a block.
    fn most_in(&mut self, block: usize) -> f32 {
        if self.known.0 != block {
            self.known = (block, self.scorer.most(self.cursor.pairs_of(block)));
        }
        self.known.1
    }
}

/// The score of a row that the cursors may have passed to, added up in the order of the lists.
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

/// The `count` best rows that are allowed, best first; ties by row.
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
    // From those that can add least to those that can add most.
    let mut order: Vec<usize> = (0..lists.len()).collect();
    order.sort_by(|&a, &b| lists[a].most.total_cmp(&lists[b].most));
    // What the lists up to each can add together.
    let mut together: Vec<f32> = Vec::with_capacity(order.len());
    for &at in &order {
        together.push(together.last().copied().unwrap_or(0.0) + lists[at].most);
    }
    // Candidates come from the lists from this place in the order on.
    let (mut from, mut enough) = (0, f32::NEG_INFINITY);
    while from < order.len() {
        let row = order[from..].iter().map(|&at| lists[at].cursor.row()).min().unwrap_or(END);
        if row == END {
            break;
        }
        let below = if from > 0 { together[from - 1] } else { 0.0 };
        // What can be reached in the blocks that the row is in, and how far that holds.
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
            // Lists below are left where they are: they are looked up.
            if lists[at].cursor.row() == row {
                lists[at].cursor.next();
            }
        }
    }
    best.into_sorted()
}

/// Whether a row may score more than enough, as far as its terms tell one after the other.
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
    // Sums in another order may differ by their rounding.
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
