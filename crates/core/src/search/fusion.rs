//! Fusion: several rankings joined into one.

use std::collections::HashMap;
use std::hash::Hash;

use serde::{Deserialize, Serialize};

use super::LegScore;

/// What is made of the scores of a leg before they are added up by weight.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum FusionKind {
    /// Each is divided by the best of its leg (Fox and Shaw, 1994).
    #[default]
    Scores,
    /// One over the rank and [`RANKS`], so that scores do not count (Cormack, Clarke and Büttcher, 2009).
    Ranks,
    /// A cosine stays as it is; a score that may exceed 1 becomes S / (S + [`SQUASHED`]). So a leg whose best is poor counts little.
    Calibrated,
}

/// What is added to a rank in [`FusionKind::Ranks`].
pub const RANKS: f32 = 60.0;
/// The score that counts as a half in [`FusionKind::Calibrated`].
pub const SQUASHED: f32 = 8.0;

impl FusionKind {
    /// Returns what the hit at a position counts, from 0 to 1. `best` is the score of the first hit, above 0.
    fn share(self, place: usize, score: f32, best: f32) -> f32 {
        match self {
            Self::Scores => score.max(0.0) / best,
            Self::Ranks => (RANKS + 1.0) / (RANKS + 1.0 + place as f32),
            Self::Calibrated if best > 1.0 => score.max(0.0) / (score.max(0.0) + SQUASHED),
            Self::Calibrated => score.max(0.0),
        }
    }
}

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

/// Fuses rankings by a weighted mean of what `kind` makes of their scores.
///
/// An item that a leg did not find scores 0 there. A leg that found nothing, or nothing above 0, does not count. Among equal scores, the item with the better rank in any leg comes first, then the lower key.
/// Costs a step a hit.
pub fn fuse<K: Copy + Eq + Hash + Ord>(kind: FusionKind, rankings: &[Ranking<K>]) -> Vec<Fused<K>> {
    let counting = |ranking: &&Ranking<K>| ranking.hits.first().is_some_and(|best| best.1 > 0.0);
    // Divided before they are added, so that the sum of large weights stays finite.
    let largest = rankings.iter().filter(counting).map(|ranking| ranking.weight).fold(0.0, f32::max);
    let relative = |ranking: &Ranking<K>| if largest > 0.0 { ranking.weight / largest } else { 0.0 };
    let total: f32 = rankings.iter().filter(counting).map(&relative).sum();
    let mut found: HashMap<K, Fused<K>> = HashMap::new();
    for leg in rankings {
        let best = leg.hits.first().map_or(0.0, |hit| hit.1);
        let weight = if best > 0.0 && total > 0.0 { relative(leg) / total } else { 0.0 };
        for (place, &(key, score)) in leg.hits.iter().enumerate() {
            let item = found.entry(key).or_insert_with(|| Fused { key, score: 0.0, legs: Vec::new() });
            item.score += if weight > 0.0 { weight * kind.share(place, score, best) } else { 0.0 };
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
    use proptest::prelude::*;

    use super::*;

    fn leg(name: &str, weight: f32, hits: &[(u32, f32)]) -> Ranking<u32> {
        Ranking { name: name.to_owned(), weight, hits: hits.to_vec() }
    }

    fn order(kind: FusionKind, rankings: &[Ranking<u32>]) -> Vec<u32> {
        fuse(kind, rankings).into_iter().map(|item| item.key).collect()
    }

    #[test]
    fn a_leg_that_found_little_counts_little_where_scores_are_calibrated() {
        let sure = leg("vector", 1.0, &[(1, 0.8), (2, 0.7)]);
        let unsure = leg("keyword", 1.0, &[(2, 1.2), (3, 1.1)]);
        assert_eq!(order(FusionKind::Calibrated, &[sure.clone(), unsure.clone()]), [2, 1, 3]);
        assert_eq!(order(FusionKind::Scores, &[sure.clone(), unsure.clone()]), [2, 1, 3]);
        let third = &fuse(FusionKind::Scores, &[sure.clone(), unsure.clone()])[2];
        let calibrated = &fuse(FusionKind::Calibrated, &[sure, unsure])[2];
        assert!(third.score > 0.45 && calibrated.score < 0.1, "{third:?} {calibrated:?}");
    }

    #[test]
    fn ranks_do_not_look_at_scores() {
        let one = [leg("a", 1.0, &[(1, 0.9), (2, 0.1), (3, 0.05)]), leg("b", 1.0, &[(2, 30.0), (3, 29.0)])];
        let other = [leg("a", 1.0, &[(1, 0.3), (2, 0.29), (3, 0.28)]), leg("b", 1.0, &[(2, 3.0), (3, 0.1)])];
        let scores = |rankings| fuse(FusionKind::Ranks, rankings).iter().map(|item| item.score).collect::<Vec<f32>>();
        assert_eq!(scores(&one), scores(&other));
    }

    proptest! {
        #[test]
        fn empty_and_weightless_legs_change_nothing(
            hits in prop::collection::vec(0.01_f32..2.0, 1..12), weight in 0.001_f32..1e6, kind in 0_usize..3, huge in prop::bool::ANY,
        ) {
            let kind = [FusionKind::Scores, FusionKind::Ranks, FusionKind::Calibrated][kind];
            let mut scores = hits;
            scores.sort_by(|a, b| b.total_cmp(a));
            let ranking: Vec<(u32, f32)> = (0_u32..).zip(scores).collect();
            let alone = fuse(kind, &[leg("a", weight, &ranking)]);
            let other_weight = if huge { f32::MAX } else { 1.0 };
            let both = fuse(kind, &[leg("a", weight, &ranking), leg("empty", other_weight, &[]), leg("zero", 0.0, &[(0, 5.0)])]);
            prop_assert!(both.iter().all(|item| (0.0..=1.0).contains(&item.score)));
            let scores = |all: &[Fused<u32>]| all.iter().map(|item| (item.key, item.score)).collect::<Vec<_>>();
            prop_assert_eq!(scores(&both), scores(&alone));
        }
    }

    #[test]
    fn equal_scores_keep_the_order_of_the_leg() {
        // Scores below 0 count as 0 in the fusion.
        let hits = vec![(7, 0.5), (9, -0.1), (1, -0.2), (4, -0.3)];
        let fused = fuse(FusionKind::Scores, &[Ranking { name: "vector".to_owned(), weight: 1.0, hits }]);
        assert_eq!(
            fused.iter().map(|item| (item.key, item.score)).collect::<Vec<_>>(),
            [(7, 1.0), (9, 0.0), (1, 0.0), (4, 0.0)]
        );
    }
}
