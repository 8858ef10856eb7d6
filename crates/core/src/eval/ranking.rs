//! Measures of a ranking.

/// A ranking, seen from the places that should be in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JudgedRanking {
    /// The relevant places.
    pub places: Vec<JudgedPlace>,
}

/// A relevant place, and where a ranking has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JudgedPlace {
    /// How relevant it is; 1 where nothing else is said.
    pub grade: u32,
    /// The ranks of the passages that have it, counted from 1, ascending. It counts once, at the first, so that overlapping passages
    /// gain nothing twice.
    pub ranks: Vec<usize>,
}

impl JudgedRanking {
    /// Returns the share of the places among the first `count` ranks.
    pub fn recall(&self, count: usize) -> f64 {
        let hit = self.first_ranks().filter(|(rank, _)| *rank <= count).count();
        hit as f64 / self.places.len().max(1) as f64
    }

    /// Returns the share of the first `count` ranks that have a relevant place.
    pub fn precision(&self, count: usize) -> f64 {
        let is_right = |rank: &usize| self.places.iter().any(|place| place.ranks.contains(rank));
        (1..=count).filter(is_right).count() as f64 / count.max(1) as f64
    }

    /// Returns the rank of the first relevant place; `None` if there is none.
    pub fn first_rank(&self) -> Option<usize> {
        self.first_ranks().map(|(rank, _)| rank).min()
    }

    /// Returns one over the rank of the first relevant place; 0 if there is none.
    pub fn reciprocal_rank(&self) -> f64 {
        self.first_rank().map_or(0.0, |rank| 1.0 / rank as f64)
    }

    /// Returns the average precision: the mean over the places of the precision at the rank of each, which is 0 for one that is not
    /// found.
    pub fn average_precision(&self) -> f64 {
        let mut ranks: Vec<usize> = self.first_ranks().map(|(rank, _)| rank).collect();
        ranks.sort_unstable();
        // Several places of one passage are no more than right.
        let precision = |(at, rank): (usize, &usize)| ((at + 1) as f64 / *rank as f64).min(1.0);
        ranks.iter().enumerate().map(precision).fold(0.0, |sum, one| sum + one) / self.places.len().max(1) as f64
    }

    /// Returns the normalised discounted cumulative gain at `count` (Järvelin and Kekäläinen, 2002), the gain of a place being its grade.
    ///
    /// A passage may have several places and gains for each, but never more than the best ranking, which has one place at each rank.
    pub fn ndcg(&self, count: usize) -> f64 {
        let gain = |(rank, grade): (usize, u32)| f64::from(grade) * discount(rank);
        let gained = self.first_ranks().filter(|(rank, _)| *rank <= count).map(gain).fold(0.0, |sum, gain| sum + gain);
        let ideal = ideal(self.places.iter().map(|place| f64::from(place.grade)), count);
        if ideal > 0.0 { (gained / ideal).min(1.0) } else { 0.0 }
    }

    fn first_ranks(&self) -> impl Iterator<Item = (usize, u32)> {
        self.places.iter().filter_map(|place| Some((*place.ranks.first()?, place.grade)))
    }
}

fn discount(rank: usize) -> f64 {
    1.0 / ((rank + 1) as f64).log2()
}

/// Returns the discounted gain of the best ranking.
fn ideal(gains: impl Iterator<Item = f64>, count: usize) -> f64 {
    let mut gains: Vec<f64> = gains.collect();
    gains.sort_by(|a, b| b.total_cmp(a));
    gains.iter().take(count).enumerate().map(|(at, gain)| gain * discount(at + 1)).sum()
}

/// Returns the normalised discounted cumulative gain at `count` of items with scores. Items of one score share the mean of their gains, as
/// if the order of equals were drawn by lot (McSherry and Najork, 2008).
pub fn ndcg_of_scores(grades: &[f64], scores: &[f64], count: usize) -> f64 {
    let mut gained = 0.0;
    let mut rank = 1;
    for tied in ties(scores) {
        let mean = tied.iter().map(|at| grades[*at]).sum::<f64>() / tied.len() as f64;
        gained += (rank..rank + tied.len()).filter(|rank| *rank <= count).map(discount).sum::<f64>() * mean;
        rank += tied.len();
    }
    let ideal = ideal(grades.iter().copied(), count);
    if ideal > 0.0 { gained / ideal } else { 0.0 }
}

/// Returns the average precision of items with scores: the sum over the scores, from the highest, of the precision among the items down to
/// this score, weighted by the recall that the score adds. Items of one score are taken together.
pub fn average_precision_of_scores(relevant: &[bool], scores: &[f64]) -> f64 {
    let all = relevant.iter().filter(|relevant| **relevant).count();
    let (mut seen, mut found, mut sum) = (0, 0, 0.0);
    for tied in ties(scores) {
        let more = tied.iter().filter(|at| relevant[**at]).count();
        seen += tied.len();
        found += more;
        sum += more as f64 * found as f64 / seen as f64;
    }
    sum / all.max(1) as f64
}

/// Returns the positions of the items by score, the highest first; those of one score together.
fn ties(scores: &[f64]) -> Vec<Vec<usize>> {
    let mut order: Vec<usize> = (0..scores.len()).collect();
    order.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]));
    order.chunk_by(|a, b| scores[*a] == scores[*b]).map(<[usize]>::to_vec).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ranking(places: &[(u32, &[usize])]) -> JudgedRanking {
        JudgedRanking {
            places: places.iter().map(|(grade, ranks)| JudgedPlace { grade: *grade, ranks: ranks.to_vec() }).collect(),
        }
    }

    fn close(a: f64, b: f64) -> bool {
        (a - b).abs() < 1e-12
    }

    #[test]
    fn a_ranking_worked_out_by_hand() {
        // Item one at ranks 2 and 3, item two at rank 4, item three nowhere.
        let ranking = ranking(&[(1, &[2, 3]), (1, &[4]), (1, &[])]);
        assert!(close(ranking.recall(3), 1.0 / 3.0) && close(ranking.recall(10), 2.0 / 3.0));
        assert!(close(ranking.precision(1), 0.0) && close(ranking.precision(4), 0.75));
        assert!(close(ranking.reciprocal_rank(), 0.5));
        assert!(close(ranking.average_precision(), (1.0 / 2.0 + 2.0 / 4.0) / 3.0));
        let gained = 1.0 / 3f64.log2() + 1.0 / 5f64.log2();
        let ideal = 1.0 + 1.0 / 3f64.log2() + 1.0 / 2.0;
        assert!(close(ranking.ndcg(10), gained / ideal));
    }

    #[test]
    fn grades_count_and_several_places_of_a_passage_are_no_more_than_right() {
        let graded = ranking(&[(3, &[2]), (1, &[1])]);
        let ideal = 3.0 + 1.0 / 3f64.log2();
        assert!(close(graded.ndcg(10), (3.0 / 3f64.log2() + 1.0) / ideal));
        let both = ranking(&[(1, &[1]), (1, &[1])]);
        assert!(close(both.ndcg(10), 1.0) && close(both.average_precision(), 1.0) && close(both.precision(1), 1.0));
    }

    #[test]
    fn nothing_found_is_zero() {
        for nothing in [ranking(&[(1, &[])]), JudgedRanking::default()] {
            let measures = [nothing.recall(5), nothing.reciprocal_rank(), nothing.ndcg(5), nothing.average_precision()];
            assert_eq!((measures, nothing.first_rank()), ([0.0; 4], None));
            assert!(measures.iter().all(|measure| measure.is_sign_positive()), "no measure is printed as -0");
        }
        assert_eq!((ndcg_of_scores(&[0.0], &[1.0], 5), average_precision_of_scores(&[false], &[1.0])), (0.0, 0.0));
    }
}
