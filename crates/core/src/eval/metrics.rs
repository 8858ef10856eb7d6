//! Measures of a ranking, from the ranks of the relevant items.
//!
//! `found[i]` has the ranks of relevant item `i`, counted from 1, ascending. An item counts once, at its first rank, so
//! overlapping passages gain nothing twice.

/// Returns the share of the relevant items among the first `count` ranks.
pub fn recall(found: &[Vec<usize>], count: usize) -> f64 {
    let hit = found.iter().filter(|ranks| ranks.first().is_some_and(|&rank| rank <= count)).count();
    hit as f64 / found.len().max(1) as f64
}

/// Returns one over the rank of the first relevant item; 0 if there is none.
pub fn reciprocal_rank(found: &[Vec<usize>]) -> f64 {
    first_ranks(found).min().map_or(0.0, |rank| 1.0 / rank as f64)
}

/// Returns the normalised discounted cumulative gain at `count` (Järvelin and Kekäläinen, 2002), with a gain of 1 for each
/// relevant item.
///
/// A passage may contain several relevant items and gains for each, but never more than the best ranking, which has one item at
/// each rank.
pub fn ndcg(found: &[Vec<usize>], count: usize) -> f64 {
    let discount = |rank: usize| 1.0 / ((rank + 1) as f64).log2();
    let gained: f64 = first_ranks(found).filter(|&rank| rank <= count).map(discount).sum();
    let ideal: f64 = (1..=found.len().min(count)).map(discount).sum();
    if ideal > 0.0 { (gained / ideal).min(1.0) } else { 0.0 }
}

fn first_ranks(found: &[Vec<usize>]) -> impl Iterator<Item = usize> {
    found.iter().filter_map(|ranks| ranks.first().copied())
}

#[cfg(test)]
mod tests {
    use super::{ndcg, recall, reciprocal_rank};

    #[test]
    fn a_ranking_worked_out_by_hand() {
        // Item one at ranks 2 and 3, item two at rank 4, item three nowhere.
        let found = vec![vec![2, 3], vec![4], vec![]];
        assert!((recall(&found, 3) - 1.0 / 3.0).abs() < 1e-12);
        assert!((recall(&found, 10) - 2.0 / 3.0).abs() < 1e-12);
        assert!((reciprocal_rank(&found) - 0.5).abs() < 1e-12);
        let gained = 1.0 / 3f64.log2() + 1.0 / 5f64.log2();
        let ideal = 1.0 + 1.0 / 3f64.log2() + 1.0 / 2.0;
        assert!((ndcg(&found, 10) - gained / ideal).abs() < 1e-12);
    }

    #[test]
    fn nothing_found_is_zero() {
        assert_eq!((recall(&[vec![]], 5), reciprocal_rank(&[vec![]]), ndcg(&[vec![]], 5)), (0.0, 0.0, 0.0));
    }
}
