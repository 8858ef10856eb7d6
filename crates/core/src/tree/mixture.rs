//! Gaussian mixtures: which part of a set of points belongs to which of several clouds, and how many clouds there are.

use crate::random::Random;

/// The number of times that a mixture is fitted anew at most, and the gain of the mean log-likelihood below which it is left.
const MAX_ROUNDS: usize = 25;
const MIN_GAIN: f64 = 1e-3;
/// The search for a number of clouds ends when so many larger ones in a row were worse.
const MAX_WORSE: usize = 5;
/// No cloud is thinner than this share of the variance of all points.
const MIN_VARIANCE: f64 = 1e-3;
/// A cloud needs so many points for each dimension to have a variance for each. With fewer it has one for all.
const POINTS_A_DIMENSION: usize = 4;

/// Points that lie one after another.
#[derive(Clone, Copy)]
pub(super) struct Points<'a> {
    numbers: &'a [f32],
    dimensions: usize,
}

impl<'a> Points<'a> {
    pub(super) fn new(numbers: &'a [f32], dimensions: usize) -> Self {
        Self { numbers, dimensions: dimensions.max(1) }
    }

    pub(super) fn count(self) -> usize {
        self.numbers.len() / self.dimensions
    }

    fn iter(self) -> impl Iterator<Item = &'a [f32]> {
        self.numbers.chunks_exact(self.dimensions)
    }

    fn point(self, at: usize) -> &'a [f32] {
        &self.numbers[at * self.dimensions..][..self.dimensions]
    }

    /// Returns the mean variance of a dimension.
    fn variance(self) -> f64 {
        let count = self.count().max(1) as f64;
        let (mut sums, mut squares) = (vec![0.0_f64; self.dimensions], 0.0_f64);
        for point in self.iter() {
            for (sum, number) in sums.iter_mut().zip(point) {
                *sum += f64::from(*number);
                squares += f64::from(*number).powi(2);
            }
        }
        let of_means: f64 = sums.iter().map(|sum| (sum / count).powi(2)).sum();
        ((squares / count - of_means) / self.dimensions as f64).max(0.0)
    }
}

/// A mixture of clouds whose axes are those of the space.
#[derive(Clone, Debug)]
pub(super) struct Mixture {
    dimensions: usize,
    /// The share of the points of each cloud.
    weights: Vec<f64>,
    means: Vec<f64>,
    /// A variance for each dimension of each cloud; all alike if the clouds are round.
    variances: Vec<f64>,
    is_round: bool,
    /// The mean logarithm of the likelihood of a point.
    likelihood: f64,
}

impl Mixture {
    /// Fits mixtures of some numbers of clouds, ascending, and returns the best by the Bayesian information criterion (Schwarz, 1978). The search ends when five
    /// larger numbers in a row were worse: of several clouds that are equally far from each other, two or three are no better described than all together. `None` means that there are no points, or that they do not vary.
    pub(super) fn best(points: Points<'_>, counts: &[usize], seed: u64) -> Option<Self> {
        let mut best: Option<(f64, Self)> = None;
        let mut worse = 0;
        for &count in counts.iter().filter(|count| **count <= points.count()) {
            let mixture = Self::fit(points, count, seed)?;
            let criterion = mixture.criterion(points.count());
            if best.as_ref().is_none_or(|(least, _)| criterion < *least) {
                best = Some((criterion, mixture));
                worse = 0;
            } else {
                worse += 1;
            }
            if worse == MAX_WORSE {
                break;
            }
        }
        best.map(|(_, mixture)| mixture)
    }

    /// Fits a mixture by expectation and maximisation (Dempster, Laird and Rubin, 1977). The clouds are round if there are few points for each. `None` means
    /// that the points do not vary.
    ///
    /// Costs a product of each point with each cloud, up to 25 times.
    pub(super) fn fit(points: Points<'_>, count: usize, seed: u64) -> Option<Self> {
        let (dimensions, variance) = (points.dimensions, points.variance());
        if count == 0 || points.count() < count || variance <= f64::from(f32::EPSILON) {
            return None;
        }
        let is_round = points.count() < count * dimensions * POINTS_A_DIMENSION;
        let mut mixture = Self {
            dimensions,
            weights: vec![1.0 / count as f64; count],
            means: beginnings(points, count, seed),
            variances: vec![variance; count * dimensions],
            is_round,
            likelihood: f64::NEG_INFINITY,
        };
        for _ in 0..MAX_ROUNDS {
            let before = mixture.likelihood;
            mixture = mixture.fitted(points, variance * MIN_VARIANCE);
            if mixture.likelihood - before < MIN_GAIN {
                break;
            }
        }
        Some(mixture)
    }

    /// Returns the mixture fitted once more. Its likelihood is that of this one.
    fn fitted(&self, points: Points<'_>, min_variance: f64) -> Self {
        let (count, dimensions) = (self.count(), self.dimensions);
        let mut weights = vec![0.0_f64; count];
        let (mut sums, mut squares) = (vec![0.0_f64; count * dimensions], vec![0.0_f64; count * dimensions]);
        let (mut shares, mut likelihood) = (vec![0.0_f64; count], 0.0);
        let constants = self.constants();
        for point in points.iter() {
            likelihood += self.share_out(point, &constants, &mut shares);
            for (cloud, share) in shares.iter().enumerate().filter(|(_, share)| **share > 1e-9) {
                weights[cloud] += share;
                let place = cloud * dimensions..(cloud + 1) * dimensions;
                let both = sums[place.clone()].iter_mut().zip(&mut squares[place]);
                for ((sum, square), number) in both.zip(point) {
                    let number = f64::from(*number);
                    *sum += share * number;
                    *square += share * number * number;
                }
            }
        }
        let mut next = self.clone();
        next.likelihood = likelihood / points.count() as f64;
        for (cloud, &weight) in weights.iter().enumerate() {
            next.weights[cloud] = (weight / points.count() as f64).max(f64::MIN_POSITIVE);
            // A cloud that has lost its points stays where it is, and weighs nothing.
            if weight < 1e-6 {
                continue;
            }
            let place = cloud * dimensions..(cloud + 1) * dimensions;
            for at in place.clone() {
                next.means[at] = sums[at] / weight;
                next.variances[at] = (squares[at] / weight - next.means[at].powi(2)).max(min_variance);
            }
            if self.is_round {
                let mean = next.variances[place.clone()].iter().sum::<f64>() / dimensions as f64;
                next.variances[place].fill(mean);
            }
        }
        next
    }

    /// Returns what does not depend on a point of the logarithm of the density of each cloud.
    fn constants(&self) -> Vec<f64> {
        let of_cloud = |(cloud, weight): (usize, &f64)| {
            let variances = &self.variances[cloud * self.dimensions..][..self.dimensions];
            let logarithms: f64 = variances.iter().map(|variance| (std::f64::consts::TAU * variance).ln()).sum();
            weight.ln() - 0.5 * logarithms
        };
        self.weights.iter().enumerate().map(of_cloud).collect()
    }

    /// Writes the share of each cloud in a point, and returns the logarithm of its likelihood.
    fn share_out(&self, point: &[f32], constants: &[f64], shares: &mut [f64]) -> f64 {
        let clouds = self.means.chunks_exact(self.dimensions).zip(self.variances.chunks_exact(self.dimensions));
        for ((share, constant), (mean, variances)) in shares.iter_mut().zip(constants).zip(clouds) {
            let far = point.iter().zip(mean).zip(variances);
            let far: f64 = far.map(|((number, mean), variance)| (f64::from(*number) - mean).powi(2) / variance).sum();
            *share = constant - 0.5 * far;
        }
        let highest = shares.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let mut sum = 0.0;
        for share in shares.iter_mut() {
            *share = (*share - highest).exp();
            sum += *share;
        }
        shares.iter_mut().for_each(|share| *share /= sum);
        highest + sum.ln()
    }

    /// Returns the number of clouds.
    pub(super) fn count(&self) -> usize {
        self.weights.len()
    }

    /// Returns the clouds that have at least a share of a point, the largest share first; always one.
    pub(super) fn clouds_of(&self, point: &[f32], min_share: f64) -> Vec<usize> {
        let mut shares = vec![0.0; self.count()];
        self.share_out(point, &self.constants(), &mut shares);
        let mut order: Vec<usize> = (0..shares.len()).collect();
        order.sort_by(|a, b| shares[*b].total_cmp(&shares[*a]).then(a.cmp(b)));
        let enough = order.iter().take_while(|cloud| shares[**cloud] >= min_share).count();
        order.truncate(enough.max(1));
        order
    }

    /// Returns the information criterion: less is better.
    fn criterion(&self, points: usize) -> f64 {
        let of_cloud = self.dimensions + 1 + if self.is_round { 1 } else { self.dimensions };
        let parameters = (self.count() * of_cloud - 1) as f64;
        parameters * (points as f64).ln() - 2.0 * self.likelihood * points as f64
    }
}

/// Returns points to begin with, far from each other: each is drawn by its squared distance from those before (Arthur and Vassilvitskii, 2007).
fn beginnings(points: Points<'_>, count: usize, seed: u64) -> Vec<f64> {
    let mut random = Random::new(seed);
    let mut means: Vec<f64> = Vec::with_capacity(count * points.dimensions);
    let mut far = vec![f64::INFINITY; points.count()];
    let mut next = random.below(points.count());
    for _ in 0..count {
        let begun = points.point(next);
        means.extend(begun.iter().map(|number| f64::from(*number)));
        let mut sum = 0.0;
        for (far, point) in far.iter_mut().zip(points.iter()) {
            let distance: f64 = point.iter().zip(begun).map(|(a, b)| f64::from(a - b).powi(2)).sum();
            *far = far.min(distance);
            sum += *far;
        }
        let mut left = random.share() * sum;
        next = far
            .iter()
            .position(|far| {
                left -= far;
                left < 0.0
            })
            .unwrap_or_else(|| random.below(points.count()));
    }
    means
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Clouds of points about some places, every place in turn.
    fn clouds(places: &[[f32; 2]], points: usize, width: f32) -> Vec<f32> {
        let mut random = Random::new(5);
        let mut near = || (0..4).map(|_| random.share() as f32 - 0.5).sum::<f32>() * width;
        (0..points)
            .flat_map(|at| {
                let [x, y] = places[at % places.len()];
                [x + near(), y + near()]
            })
            .collect()
    }

    #[test]
    fn as_many_clouds_are_found_as_there_are() {
        for places in [&[[0.0, 0.0]][..], &[[0.0, 0.0], [9.0, 1.0]], &[[0.0, 0.0], [9.0, 1.0], [4.0, 8.0], [-6.0, 5.0]]]
        {
            let numbers = clouds(places, 400, 1.0);
            let points = Points::new(&numbers, 2);
            let mixture = Mixture::best(points, &[1, 2, 3, 4, 5, 6, 8], 1).expect("a mixture");
            assert_eq!(mixture.count(), places.len());
            let own = |at: usize| mixture.clouds_of(points.point(at), 0.2);
            for at in places.len()..400 {
                assert_eq!(own(at), own(at % places.len()), "point {at}");
            }
        }
    }

    #[test]
    fn a_point_between_two_clouds_belongs_to_both() {
        let numbers = clouds(&[[0.0, 0.0], [8.0, 0.0]], 200, 2.0);
        let mixture = Mixture::fit(Points::new(&numbers, 2), 2, 1).expect("a mixture");
        let middle: Vec<f32> = (0..2).map(|at| ((mixture.means[at] + mixture.means[2 + at]) / 2.0) as f32).collect();
        assert_eq!(mixture.clouds_of(&middle, 0.1).len(), 2);
        assert_eq!(mixture.clouds_of(&[0.0, 0.0], 0.1).len(), 1);
    }

    #[test]
    fn points_that_do_not_vary_have_no_mixture() {
        assert!(Mixture::best(Points::new(&[0.5; 40], 2), &[1, 2], 1).is_none());
        assert!(Mixture::best(Points::new(&[], 2), &[1, 2], 1).is_none());
        let numbers: Vec<f32> = (0..6).map(|at| at as f32).collect();
        let mixture = Mixture::fit(Points::new(&numbers, 2), 3, 1).expect("a cloud for each point");
        assert!(mixture.variances.iter().all(|variance| *variance > 0.0));
    }
}
