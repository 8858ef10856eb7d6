//! Centres of vectors: each vector belongs to the nearest, and each centre is the mean of those that belong to it (Lloyd, 1982).

use rayon::prelude::*;

use super::codes::{QueryCodes, RowGrid, write_row};
use super::kernel::Kernel;

/// The number of times that the centres move.
const ROUNDS: usize = 8;

/// Centres of a number of dimensions each.
#[derive(Clone, Debug, PartialEq)]
pub struct Means {
    pub dimensions: usize,
    pub numbers: Vec<f32>,
    /// Half the squared length of each centre.
    halves: Vec<f32>,
}

impl Means {
    /// Creates centres from their numbers.
    pub fn new(dimensions: usize, numbers: Vec<f32>) -> Self {
        let halves = numbers.chunks_exact(dimensions.max(1)).map(|centre| product(centre, centre) / 2.0).collect();
        Self { dimensions, numbers, halves }
    }

    /// Finds at most `count` centres of vectors that lie one after another. The same vectors give the same centres on any
    /// number of threads. Compares each vector with each centre, a few times.
    pub fn find(vectors: &[f32], dimensions: usize, count: usize) -> Self {
        let nearest = |means: &Self| vectors.par_chunks_exact(dimensions).map(|vector| means.nearest(vector)).collect();
        Self::moved(vectors, dimensions, count, nearest)
    }

    /// As [`find`](Self::find), but compares in eight bits a number: several times as fast for vectors of 64 numbers or more.
    pub fn find_by_codes(vectors: &[f32], dimensions: usize, count: usize) -> Self {
        let nearest = |means: &Self| CentreCodes::new(means).nearest_of(vectors.par_chunks_exact(dimensions));
        Self::moved(vectors, dimensions, count, nearest)
    }

    /// Finds centres by moving them a few times. `nearest` returns the nearest centre of each vector.
    fn moved(vectors: &[f32], dimensions: usize, count: usize, nearest: impl Fn(&Self) -> Vec<u32>) -> Self {
        let rows = vectors.len() / dimensions.max(1);
        let count = count.min(rows).max(1);
        // The first centres are vectors far apart in their order.
        let first = (0..count).flat_map(|at| {
            let row = at * rows / count;
            vectors[row * dimensions..(row + 1) * dimensions].iter().copied()
        });
        let mut means = Self::new(dimensions, first.collect());
        for _ in 0..ROUNDS {
            let nearest = nearest(&means);
            let (mut sums, mut counts) = (vec![0.0_f64; count * dimensions], vec![0_u32; count]);
            for (vector, &centre) in vectors.chunks_exact(dimensions).zip(&nearest) {
                let sum = &mut sums[centre as usize * dimensions..][..dimensions];
                sum.iter_mut().zip(vector).for_each(|(sum, &number)| *sum += f64::from(number));
                counts[centre as usize] += 1;
            }
            let mut numbers = means.numbers.clone();
            for (at, &members) in counts.iter().enumerate().filter(|(_, members)| **members > 0) {
                let place = at * dimensions..(at + 1) * dimensions;
                let mean = sums[place.clone()].iter().map(|sum| (sum / f64::from(members)) as f32);
                numbers[place].iter_mut().zip(mean).for_each(|(number, mean)| *number = mean);
            }
            means = Self::new(dimensions, numbers);
        }
        means
    }

    /// Returns the number of centres.
    pub fn count(&self) -> usize {
        self.halves.len()
    }

    pub fn centre(&self, at: usize) -> &[f32] {
        &self.numbers[at * self.dimensions..(at + 1) * self.dimensions]
    }

    /// Returns the nearness of each centre to a vector: higher is nearer.
    pub fn near<'a>(&'a self, vector: &'a [f32]) -> impl Iterator<Item = f32> + 'a {
        let centres = self.numbers.chunks_exact(self.dimensions.max(1)).zip(&self.halves);
        centres.map(|(centre, half)| product(centre, vector) - half)
    }

    /// Returns the nearest centre, the first of several.
    pub fn nearest(&self, vector: &[f32]) -> u32 {
        let mut best = (f32::NEG_INFINITY, 0);
        for (at, near) in self.near(vector).enumerate() {
            if near > best.0 {
                best = (near, at as u32);
            }
        }
        best.1
    }
}

/// Centres in eight bits a number, to find the nearest of many vectors.
pub struct CentreCodes {
    codes: Vec<u8>,
    grids: Vec<RowGrid>,
    halves: Vec<f32>,
}

impl CentreCodes {
    /// Rounds centres.
    pub fn new(means: &Means) -> Self {
        let mut codes = Vec::new();
        let centres = means.numbers.chunks_exact(means.dimensions.max(1));
        let grids = centres.map(|centre| write_row(centre, &mut codes)).collect();
        Self { codes, grids, halves: means.halves.clone() }
    }

    /// Returns the nearest centre of each vector, as nearly as eight bits tell. The result is the same on any processor.
    pub fn nearest_of<V: AsRef<[f32]>>(&self, vectors: impl IndexedParallelIterator<Item = V>) -> Vec<u32> {
        let kernel = Kernel::best();
        let nearest = |sums: &mut Vec<i32>, vector: V| {
            let vector = QueryCodes::new(vector.as_ref());
            sums.resize(self.grids.len(), 0);
            kernel.products(&vector.codes, &self.codes, sums);
            let mut best = (f32::NEG_INFINITY, 0);
            for ((at, sum), (grid, half)) in (0_u32..).zip(sums).zip(self.grids.iter().zip(&self.halves)) {
                let near = vector.product(*sum, *grid).0 - half;
                if near > best.0 {
                    best = (near, at);
                }
            }
            best.1
        };
        vectors.map_init(Vec::new, nearest).collect()
    }
}

/// Returns the product of two vectors, in sixteen sums at once.
pub fn product(a: &[f32], b: &[f32]) -> f32 {
    const LANES: usize = 16;
    let mut sums = [0.0_f32; LANES];
    let ((a_lanes, a_rest), (b_lanes, b_rest)) = (a.as_chunks::<LANES>(), b.as_chunks::<LANES>());
    for (a, b) in a_lanes.iter().zip(b_lanes) {
        for lane in 0..LANES {
            sums[lane] += a[lane] * b[lane];
        }
    }
    sums.iter().sum::<f32>() + a_rest.iter().zip(b_rest).map(|(a, b)| a * b).sum::<f32>()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_nearest_by_codes_is_as_near_as_rounding_tells(
            vectors in prop::collection::vec(prop::collection::vec(-1.0_f32..1.0, 80), 12..40), centres in 1_usize..9,
        ) {
            let all = vectors.concat();
            let means = Means::find(&all, 80, centres);
            let by_codes = CentreCodes::new(&means).nearest_of(vectors.par_iter());
            for (vector, by_codes) in vectors.iter().zip(by_codes) {
                let near: Vec<f32> = means.near(vector).collect();
                let nearest = near.iter().copied().fold(f32::NEG_INFINITY, f32::max);
                prop_assert!(nearest - near[by_codes as usize] < 0.3, "{} for {nearest}", near[by_codes as usize]);
            }
            let found = Means::find_by_codes(&all, 80, centres);
            prop_assert_eq!(found.count(), centres);
            prop_assert_eq!(found, Means::find_by_codes(&all, 80, centres), "the same vectors give the same centres");
        }
    }
}
