//! Groups of vectors that are alike: first over all of them, then within each group.

use std::sync::atomic::{AtomicUsize, Ordering};

use rayon::prelude::*;

use super::mixture::{Mixture, Points};
use super::reduce::reduced;
use crate::vector::Vectors;
use crate::vector::means::Means;

/// The most vectors that are grouped at once. More are divided first.
const LOCAL: usize = 512;
/// The most points that large divisions are found from.
const MAX_SAMPLE: usize = 4_096;
/// The numbers of clouds that are tried: up to a third of the vectors, and fewer when many are divided.
const COUNTS: [usize; 14] = [1, 2, 3, 4, 5, 6, 8, 12, 16, 24, 32, 48, 64, 96];
const MAX_DIVISIONS: usize = 32;

/// How vectors are grouped.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct GroupSettings {
    /// The number of dimensions that vectors are looked at in.
    pub dimensions: usize,
    /// The most vectors of a group; larger ones are grouped again.
    pub max_parts: usize,
    /// A vector belongs to a group besides its own if that has at least this share in it, from 0 to 1.
    pub min_share: f64,
    /// Where the random numbers begin.
    pub seed: u64,
}

impl Default for GroupSettings {
    fn default() -> Self {
        Self { dimensions: 10, max_parts: 24, min_share: 0.2, seed: 1 }
    }
}

/// Groups of vectors.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Groups {
    /// The positions of the vectors of each group, ascending. Each vector is in at least one; the groups are in the order of their members.
    pub groups: Vec<Vec<u32>>,
    /// Whether they stand apart: `false` means that all are one cloud, and that the groups are parts of it.
    pub separate: bool,
}

/// Groups vectors by Gaussian mixtures in their principal directions, first over all, then within what was found, until no group is too large. The number of
/// groups is the best by the Bayesian information criterion. The same vectors and settings give the same groups on any number of threads.
///
/// Costs a few hundred products of each vector with a direction and with the centre of a group: two seconds for 10,000 vectors of 384 dimensions on one core.
pub fn groups(vectors: &Vectors, settings: &GroupSettings) -> Groups {
    let rows: Vec<u32> = (0..vectors.len() as u32).collect();
    if rows.len() < 2 {
        return Groups { groups: if rows.is_empty() { Vec::new() } else { vec![rows] }, separate: false };
    }
    let (parts, several) = divided(vectors, &rows, settings);
    let apart = AtomicUsize::new(0);
    let mut groups = within(vectors, parts, rows.len(), settings, &apart);
    groups.sort();
    groups.dedup();
    // Of many vectors, the groups may stand apart only within the large divisions.
    let separate = several || apart.into_inner() * 2 > rows.len();
    Groups { groups, separate }
}

/// Divides the parts that are too large again. Adds to `apart` the vectors of those parts, small enough to be grouped at once, that were several clouds.
fn within(
    vectors: &Vectors,
    parts: Vec<Vec<u32>>,
    all: usize,
    settings: &GroupSettings,
    apart: &AtomicUsize,
) -> Vec<Vec<u32>> {
    let most = settings.max_parts.max(2);
    let each = |part: Vec<u32>| match part.len() {
        length if length <= most => vec![part],
        // Nothing was divided: the vectors are one cloud, or all alike.
        length if length == all => {
            let halves = halved(vectors, &part, settings);
            within(vectors, halves, usize::MAX, settings, apart)
        }
        length => {
            let (parts, several) = divided(vectors, &part, settings);
            // Parts of such a part are counted with it.
            if several && length <= LOCAL {
                apart.fetch_add(length, Ordering::Relaxed);
                return within(vectors, parts, length, settings, &AtomicUsize::new(0));
            }
            within(vectors, parts, length, settings, apart)
        }
    };
    parts.into_par_iter().flat_map(each).collect()
}

/// Returns the numbers of some vectors, in fewer dimensions.
fn points(vectors: &Vectors, rows: &[u32], settings: &GroupSettings) -> (Vec<f32>, usize) {
    let numbers: Vec<f32> = rows.iter().filter_map(|row| vectors.get(*row as usize)).flatten().copied().collect();
    let dimensions = settings.dimensions.clamp(1, vectors.dimensions().max(1)).min(rows.len().div_ceil(2));
    (reduced(&numbers, vectors.dimensions(), dimensions, seed_of(rows, settings)), dimensions)
}

fn seed_of(rows: &[u32], settings: &GroupSettings) -> u64 {
    let first = rows.first().copied().unwrap_or_default();
    settings.seed ^ (u64::from(first) << 32) ^ rows.len() as u64
}

/// Divides some vectors into the groups that a mixture finds, and returns whether it found several.
fn divided(vectors: &Vectors, rows: &[u32], settings: &GroupSettings) -> (Vec<Vec<u32>>, bool) {
    let (numbers, dimensions) = points(vectors, rows, settings);
    let most = if rows.len() > LOCAL { MAX_DIVISIONS } else { rows.len().div_ceil(3) };
    let counts: Vec<usize> = COUNTS.into_iter().filter(|count| *count <= most).collect();
    let step = rows.len().div_ceil(MAX_SAMPLE).max(1);
    let sample: Vec<f32> = numbers.chunks_exact(dimensions).step_by(step).flatten().copied().collect();
    let seed = seed_of(rows, settings);
    let found = Mixture::best(Points::new(&sample, dimensions), &counts, seed).filter(|mixture| mixture.count() > 1);
    let Some(mixture) = found else {
        return match rows.len() > LOCAL {
            // It is one cloud seen from afar. From near, its parts may be several.
            true => (near_each_other(&numbers, dimensions, rows), false),
            false => (vec![rows.to_vec()], false),
        };
    };
    let own: Vec<Vec<usize>> =
        numbers.par_chunks_exact(dimensions).map(|point| mixture.clouds_of(point, settings.min_share)).collect();
    let mut parts: Vec<Vec<u32>> = vec![Vec::new(); mixture.count()];
    for (row, clouds) in rows.iter().zip(&own) {
        clouds.iter().for_each(|cloud| parts[*cloud].push(*row));
    }
    // A vector that is alone goes to the cloud that is next for it.
    for (row, point) in rows.iter().zip(numbers.chunks_exact(dimensions)) {
        let Some(alone) = parts.iter().position(|part| part[..] == [*row]) else { continue };
        parts[alone].clear();
        let is_elsewhere = parts.iter().any(|part| part.contains(row));
        let next = mixture.clouds_of(point, 0.0).into_iter().find(|cloud| !parts[*cloud].is_empty());
        match next {
            Some(next) if !is_elsewhere => {
                let at = parts[next].partition_point(|other| other < row);
                parts[next].insert(at, *row);
            }
            Some(_) => {}
            None => parts[alone].push(*row),
        }
    }
    parts.retain(|part| !part.is_empty());
    let several = parts.len() > 1;
    (parts, several)
}

/// Divides many vectors of one cloud into parts that are near each other (Lloyd, 1982), small enough to be grouped at once if they are of equal size.
fn near_each_other(numbers: &[f32], dimensions: usize, rows: &[u32]) -> Vec<Vec<u32>> {
    let means = Means::find(numbers, dimensions, (2 * rows.len()).div_ceil(LOCAL));
    let nearest: Vec<u32> = numbers.par_chunks_exact(dimensions).map(|point| means.nearest(point)).collect();
    let mut parts: Vec<Vec<u32>> = vec![Vec::new(); means.count()];
    rows.iter().zip(nearest).for_each(|(row, nearest)| parts[nearest as usize].push(*row));
    parts.retain(|part| !part.is_empty());
    parts
}

/// Divides vectors of one cloud into two parts of the same size along the direction in which they vary most.
fn halved(vectors: &Vectors, rows: &[u32], settings: &GroupSettings) -> Vec<Vec<u32>> {
    let one = GroupSettings { dimensions: 1, ..settings.clone() };
    let (along, _) = points(vectors, rows, &one);
    let mut order: Vec<usize> = (0..rows.len()).collect();
    order.sort_by(|a, b| along[*a].total_cmp(&along[*b]).then(a.cmp(b)));
    let half = |part: &[usize]| -> Vec<u32> {
        let mut own: Vec<u32> = part.iter().map(|at| rows[*at]).collect();
        own.sort_unstable();
        own
    };
    let (low, high) = order.split_at(order.len() / 2);
    vec![half(low), half(high)]
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::random::Random;

    /// Vectors about some directions, every direction in turn.
    fn about(directions: usize, count: usize, dimensions: usize, width: f32) -> Vectors {
        let mut random = Random::new(9);
        let mut draw = |by: f32| -> Vec<f32> { (0..dimensions).map(|_| (random.share() as f32 - 0.5) * by).collect() };
        let centres: Vec<Vec<f32>> = (0..directions).map(|_| draw(2.0)).collect();
        let mut vectors = Vectors::new(dimensions);
        for at in 0..count {
            let near: Vec<f32> = centres[at % directions].iter().zip(draw(width)).map(|(a, b)| a + b).collect();
            vectors.push(&near).expect("a vector");
        }
        vectors
    }

    #[test]
    fn vectors_of_one_subject_are_in_one_group() {
        let vectors = about(6, 120, 32, 0.4);
        let found = groups(&vectors, &GroupSettings::default());
        assert!(found.separate);
        for group in &found.groups {
            let subjects: Vec<u32> = group.iter().map(|row| row % 6).collect();
            assert!(subjects.iter().all(|subject| *subject == subjects[0]), "{:?}", found.groups);
        }
        assert_eq!(found.groups.len(), 6, "{:?}", found.groups);
    }

    #[test]
    fn many_vectors_are_divided_first_and_alike_on_any_number_of_threads() {
        let vectors = about(40, 2_000, 24, 0.5);
        let on = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
            pool.install(|| groups(&vectors, &GroupSettings::default()))
        };
        let found = on(1);
        assert_eq!(found, on(3));
        assert!(found.groups.iter().all(|group| group.len() <= 24) && found.separate);
        assert!((80..600).contains(&found.groups.len()), "{}", found.groups.len());
        let pure = found.groups.iter().filter(|group| group.iter().all(|row| row % 40 == group[0] % 40)).count();
        assert!(pure * 10 >= found.groups.len() * 9, "{pure} of {}", found.groups.len());
    }

    #[test]
    fn vectors_that_are_all_alike_or_zero_are_parts_of_one_cloud() {
        for number in [0.0, 0.3] {
            let mut vectors = Vectors::new(4);
            (0..50).for_each(|_| vectors.push(&[number; 4]).expect("a vector"));
            let found = groups(&vectors, &GroupSettings::default());
            assert!(!found.separate && found.groups.iter().all(|group| group.len() <= 24), "{found:?}");
            assert_eq!(found.groups.concat().len(), 50);
        }
        let mut one = Vectors::new(4);
        assert_eq!(groups(&one, &GroupSettings::default()), Groups::default());
        one.push(&[1.0; 4]).expect("a vector");
        assert_eq!(groups(&one, &GroupSettings::default()).groups, [[0]]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        #[test]
        fn every_vector_is_in_a_group_and_no_group_is_too_large(
            numbers in prop::collection::vec(-1.0_f32..1.0, 3..900), max_parts in 2_usize..30, seed in 0_u64..9,
        ) {
            let mut vectors = Vectors::new(3);
            numbers.chunks_exact(3).for_each(|row| vectors.push(row).expect("a vector"));
            let found = groups(&vectors, &GroupSettings { max_parts, seed, ..GroupSettings::default() });
            let mut seen = vec![false; vectors.len()];
            for group in &found.groups {
                prop_assert!(group.len() <= max_parts && group.is_sorted_by(|a, b| a < b));
                group.iter().for_each(|row| seen[*row as usize] = true);
            }
            prop_assert!(seen.into_iter().all(|seen| seen));
        }
    }
}
