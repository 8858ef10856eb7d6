//! Vectors in fewer dimensions.

use rayon::prelude::*;

use crate::random::Random;
use crate::vector::means::product;

/// The directions are found from so many vectors at most.
const MAX_SAMPLE: usize = 4_096;
/// The number of times that the directions are turned towards those of most variance.
const ROUNDS: usize = 12;
/// The rows that are added up at a time. It is fixed, so that sums are the same on any number of threads.
const BLOCK: usize = 512;

/// Returns vectors that lie one after another in fewer dimensions: their products with the `wanted` directions in which they vary most about their mean
/// (Pearson, 1901), found by orthogonal iteration (Bauer, 1957). The same vectors and seed give the same numbers on any number of threads.
///
/// Costs two products of each sampled vector with each direction, twelve times, and one of each vector at the end.
pub(super) fn reduced(vectors: &[f32], dimensions: usize, wanted: usize, seed: u64) -> Vec<f32> {
    let rows = vectors.len() / dimensions.max(1);
    let wanted = wanted.min(dimensions);
    let mean = mean(vectors, dimensions);
    let step = rows.div_ceil(MAX_SAMPLE).max(1);
    let sample: Vec<f32> = vectors
        .chunks_exact(dimensions)
        .step_by(step)
        .flat_map(|row| row.iter().zip(&mean).map(|(a, b)| a - b))
        .collect();
    let mut random = Random::new(seed);
    let mut directions: Vec<f32> = (0..wanted * dimensions).map(|_| (random.share() * 2.0 - 1.0) as f32).collect();
    orthonormalise(&mut directions, dimensions);
    for _ in 0..ROUNDS {
        directions = turned(&sample, &directions, dimensions);
        orthonormalise(&mut directions, dimensions);
    }
    let row = |row: &[f32]| -> Vec<f32> {
        let centred: Vec<f32> = row.iter().zip(&mean).map(|(a, b)| a - b).collect();
        directions.chunks_exact(dimensions).map(|direction| product(direction, &centred)).collect()
    };
    vectors.par_chunks_exact(dimensions).flat_map_iter(row).collect()
}

fn mean(vectors: &[f32], dimensions: usize) -> Vec<f32> {
    let rows = (vectors.len() / dimensions.max(1)).max(1);
    let mut sums = vec![0.0_f64; dimensions];
    for row in vectors.chunks_exact(dimensions) {
        sums.iter_mut().zip(row).for_each(|(sum, number)| *sum += f64::from(*number));
    }
    sums.into_iter().map(|sum| (sum / rows as f64) as f32).collect()
}

/// Returns the directions multiplied with the covariance of some rows.
fn turned(rows: &[f32], directions: &[f32], dimensions: usize) -> Vec<f32> {
    let of_block = |block: &[f32]| -> Vec<f32> {
        let mut sums = vec![0.0_f32; directions.len()];
        for row in block.chunks_exact(dimensions) {
            for (direction, sum) in directions.chunks_exact(dimensions).zip(sums.chunks_exact_mut(dimensions)) {
                let share = product(direction, row);
                sum.iter_mut().zip(row).for_each(|(sum, number)| *sum += share * number);
            }
        }
        sums
    };
    let blocks: Vec<Vec<f32>> = rows.par_chunks(BLOCK * dimensions).map(of_block).collect();
    let mut all = vec![0.0_f32; directions.len()];
    for block in blocks {
        all.iter_mut().zip(block).for_each(|(sum, number)| *sum += number);
    }
    all
}

/// Makes directions stand at right angles with length 1 (Gram and Schmidt). One that has nothing of its own becomes zero.
fn orthonormalise(directions: &mut [f32], dimensions: usize) {
    for at in 0..directions.len() / dimensions {
        let (before, rest) = directions.split_at_mut(at * dimensions);
        let own = &mut rest[..dimensions];
        let length_before = product(own, own).sqrt();
        // A second time, since the first loses precision.
        for _ in 0..2 {
            for other in before.chunks_exact(dimensions) {
                let share = product(other, own);
                own.iter_mut().zip(other).for_each(|(number, part)| *number -= share * part);
            }
        }
        let length = product(own, own).sqrt();
        let by = if length > 1e-4 * length_before && length > f32::MIN_POSITIVE { 1.0 / length } else { 0.0 };
        own.iter_mut().for_each(|number| *number *= by);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::reduced;

    #[test]
    fn what_varies_most_is_kept() {
        // Long along the second axis, short along the first, nothing along the third.
        let vectors: Vec<f32> = (0..40).flat_map(|at| [(at % 3) as f32, 10.0 * (at % 7) as f32, 5.0]).collect();
        let kept = reduced(&vectors, 3, 1, 7);
        let mean = 10.0 * (0..40).map(|at| (at % 7) as f32).sum::<f32>() / 40.0;
        for (at, number) in kept.iter().enumerate() {
            let expected = 10.0 * (at % 7) as f32 - mean;
            assert!((number.abs() - expected.abs()).abs() < 0.5, "{number} and {expected}");
        }
    }

    proptest! {
        #[test]
        fn distances_stay_when_all_dimensions_are_kept(values in prop::collection::vec(-1.0_f32..1.0, 20..80)) {
            let dimensions = 4;
            let values = &values[..values.len() / dimensions * dimensions];
            let kept = reduced(values, dimensions, dimensions, 3);
            let distance = |of: &[f32], a: usize, b: usize| -> f32 {
                (0..dimensions).map(|at| (of[a * dimensions + at] - of[b * dimensions + at]).powi(2)).sum()
            };
            for a in 0..values.len() / dimensions {
                for b in 0..a {
                    prop_assert!((distance(values, a, b) - distance(&kept, a, b)).abs() < 1e-2);
                }
            }
        }
    }
}
