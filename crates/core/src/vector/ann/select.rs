//! Selects the links of a node among near nodes.

use crate::segment::Hit;
use crate::vector::code_scorer::{CodeScorer, NormAugmentation};
use crate::vector::rows::Rows;

/// Selects at most `count` nodes, the nearest first. A node that is nearer to a selected one than to the centre is left out,
/// because a walk reaches it over that one (Malkov and Yashunin, 2018, algorithm 4).
pub fn select(
    rows: &Rows<'_>,
    lifted: NormAugmentation,
    near: &[Hit],
    row_of: impl Fn(u32) -> u32,
    count: usize,
) -> Vec<u32> {
    let (mut picked, mut picked_rows, mut scores) = (Vec::with_capacity(count), Vec::with_capacity(count), Vec::new());
    for hit in near {
        if picked.len() == count {
            break;
        }
        let row = row_of(hit.row);
        CodeScorer::row(rows, row, lifted).compare(&picked_rows, &mut scores);
        if scores.iter().all(|&score| score < hit.score) {
            picked.push(hit.row);
            picked_rows.push(row);
        }
    }
    picked
}
