//! Fusion: several rankings joined into one.

use std::collections::HashMap;
use std::hash::Hash;

use super::LegScore;

/// The ranking of one leg, best first.
#[derive(Clone, Debug)]
pub struct Ranking<K> {
    /// The leg's name, such as `keyword`.
    pub name: String,
    /// The weight of the leg; 0 leaves it out of the fused score.
    pub weight: f32,
    /// The hits, best first, with their scores.
    pub hits: Vec<(K, f32)>,
}

/// An item of the fused ranking.
#[derive(Clone, Debug, PartialEq)]
pub struct Fused<K> {
    /// The key of the item.
    pub key: K,
    /// The fused score, between 0 and 1.
    pub score: f32,
    /// The rank and score in each leg that found it, in the order of the legs.
    pub legs: Vec<(String, LegScore)>,
}

/// Fuses rankings by a weighted mean of their scores, each leg's divided by its best one.
///
/// The method is the weighted sum of normalised scores of Fox and Shaw (1994). An item that a leg did not find scores 0 there. A leg
/// that found nothing does not count. Among equal scores, the item with the better rank in any leg comes first, then the lower key.
/// Costs a step a hit.
pub fn fuse<K: Copy + Eq + Hash + Ord>(rankings: &[Ranking<K>]) -> Vec<Fused<K>> {
    let counting = |ranking: &&Ranking<K>| ranking.hits.first().is_some_and(|best| best.1 > 0.0);
    let total: f32 = rankings.iter().filter(counting).map(|ranking| ranking.weight).sum();
    let mut found: HashMap<K, Fused<K>> = HashMap::new();
    for leg in rankings {
        let best = leg.hits.first().map_or(0.0, |hit| hit.1);
        let share = if best > 0.0 && total > 0.0 { leg.weight / total / best } else { 0.0 };
        for (place, &(key, score)) in leg.hits.iter().enumerate() {
            let item = found.entry(key).or_insert_with(|| Fused { key, score: 0.0, legs: Vec::new() });
            item.score += score.max(0.0) * share;
            item.legs.push((leg.name.clone(), LegScore { rank: place + 1, score }));
        }
    }
    // Rounding may take the sum of all shares a little above 1.
    let bounded = |item: Fused<K>| Fused { score: item.score.min(1.0), ..item };
    let mut fused: Vec<Fused<K>> = found.into_values().map(bounded).collect();
    let best_rank = |item: &Fused<K>| item.legs.iter().map(|(_, leg)| leg.rank).min();
    fused.sort_unstable_by(|a, b| {
        b.score.total_cmp(&a.score).then_with(|| best_rank(a).cmp(&best_rank(b))).then_with(|| a.key.cmp(&b.key))
    });
    fused
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_scores_keep_the_order_of_the_leg() {
        // Scores below 0 count as 0 in the fusion.
        let hits = vec![(7, 0.5), (9, -0.1), (1, -0.2), (4, -0.3)];
        let fused = fuse(&[Ranking { name: "vector".to_owned(), weight: 1.0, hits }]);
        assert_eq!(
            fused.iter().map(|item| (item.key, item.score)).collect::<Vec<_>>(),
            [(7, 1.0), (9, 0.0), (1, 0.0), (4, 0.0)]
        );
    }
}
