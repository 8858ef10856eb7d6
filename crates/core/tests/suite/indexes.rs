//! The indexes beside plain computations of the same thing, and under damage.

use std::sync::atomic::{AtomicUsize, Ordering};

use logothete_core::keyword::KeywordIndex;
use logothete_core::search::{FusionKind, Ranking, fuse};
use logothete_core::segment::{RowSet, whole_segment};
use logothete_core::vector::{
    AnnGraph, Distance, IvfLists, VectorIndex, Vectors, merge_vectors, write_ann_graph, write_ivf_lists, write_vectors,
};
use proptest::prelude::*;
use rstest::rstest;

fn written(vectors: &Vectors, distance: Distance) -> Vec<u8> {
    whole_segment(|to| write_vectors(vectors, distance, to)).expect("a segment")
}

fn linked(index: &VectorIndex<Vec<u8>>) -> Vec<u8> {
    whole_segment(|to| Ok(write_ann_graph(index, to, &|| false)?.expect("it has codes"))).expect("a graph")
}

fn listed(index: &VectorIndex<Vec<u8>>) -> Vec<u8> {
    whole_segment(|to| Ok(write_ivf_lists(index, to, &|| false)?.expect("it has codes"))).expect("lists")
}

fn rows(count: usize, mask: u64) -> RowSet {
    let mut live = RowSet::new(count as u32);
    (0..count as u32).filter(|row| mask >> (row % 64) & 1 == 1).for_each(|row| live.insert(row));
    live
}

/// A score from its definition.
fn plain_score(distance: Distance, query: &[f32], row: &[f32]) -> f64 {
    let pairs = || query.iter().zip(row).map(|(a, b)| (f64::from(*a), f64::from(*b)));
    let norm = |vector: &[f32]| vector.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>().sqrt();
    let product: f64 = pairs().map(|(a, b)| a * b).sum();
    match distance {
        Distance::Dot => product,
        Distance::Euclidean => 1.0 / (1.0 + pairs().map(|(a, b)| (a - b).powi(2)).sum::<f64>().sqrt()),
        Distance::Cosine => {
            let length = norm(query) * norm(row);
            if length > 0.0 { product / length } else { 0.0 }
        }
    }
}

/// Vectors around a few centres, as those of texts are.
fn clustered(rows: usize, dimensions: usize) -> Vectors {
    let mut state = 11_u64;
    let mut next = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 40) as f32 / (1 << 23) as f32 - 1.0
    };
    let centres: Vec<Vec<f32>> = (0..20).map(|_| (0..dimensions).map(|_| next()).collect()).collect();
    let mut vectors = Vectors::new(dimensions);
    for row in 0..rows {
        let vector: Vec<f32> = centres[row % 20].iter().map(|value| value + 0.2 * next()).collect();
        vectors.push(&vector).expect("finite");
    }
    vectors
}

/// Over several parts, on several threads, with rows that say the same: the same rows in the same order as all in full.
#[rstest]
#[case::cosine(Distance::Cosine)]
#[case::dot(Distance::Dot)]
#[case::euclidean(Distance::Euclidean)]
fn among_many_rows_none_is_missed(#[case] distance: Distance) {
    const ROWS: usize = 20_000;
    let mut vectors = clustered(ROWS - 1, 24);
    let repeated = vectors.iter().nth(3).expect("a row").to_vec();
    vectors.push(&repeated).expect("finite");
    let index = VectorIndex::open(written(&vectors, distance)).expect("a whole segment");
    let kept: Vec<&[f32]> = vectors.iter().collect();
    let every_third = (0..ROWS as u32).filter(|row| row % 3 == 0).fold(RowSet::new(ROWS as u32), |mut set, row| {
        set.insert(row);
        set
    });
    let few = rows(ROWS, 1 << 19);
    for (live, from) in [(RowSet::all(ROWS as u32), 3), (every_third, 12), (few, 19)] {
        let query = kept[from];
        let mut expected: Vec<(f64, usize)> = (0..ROWS)
            .filter(|&row| live.contains(row as u32))
            .map(|row| (plain_score(distance, query, kept[row]), row))
            .collect();
        expected.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        let hits = index.search(query, &live, 10);
        let found: Vec<usize> = hits.iter().map(|hit| hit.row as usize).collect();
        let wanted: Vec<usize> = expected[..10].iter().map(|(_, row)| *row).collect();
        assert_eq!(found, wanted, "{distance:?} {hits:?} {:?}", &expected[..10]);
    }
}

/// With all rows, most of them and few of them: nearly all that the exact search finds, with the same scores.
#[rstest]
#[case::cosine(Distance::Cosine)]
#[case::dot(Distance::Dot)]
#[case::euclidean(Distance::Euclidean)]
fn graph_and_lists_find_what_the_exact_search_finds(#[case] distance: Distance) {
    const ROWS: usize = 12_000;
    let vectors = clustered(ROWS, 24);
    let index = VectorIndex::open(written(&vectors, distance)).expect("a whole segment");
    let graph = AnnGraph::open(linked(&index)).expect("a graph");
    let lists = IvfLists::open(listed(&index)).expect("lists");
    graph.verify().and(lists.verify()).expect("unchanged");
    assert_eq!((graph.rows(), lists.rows()), (ROWS as u32, ROWS as u32));
    let kept: Vec<&[f32]> = vectors.iter().collect();
    for one_in in [1, 2, 3, 8, 500] {
        let mut live = RowSet::new(ROWS as u32);
        (0..ROWS as u32).filter(|row| row % one_in == 0).for_each(|row| live.insert(row));
        let (mut found, mut by_lists, mut wanted) = (0, 0, 0);
        for from in (0..ROWS).step_by(ROWS / 50) {
            let query: Vec<f32> = kept[from].iter().map(|value| value * 1.01 + 0.01).collect();
            let right = index.search(&query, &live, 10);
            let hits = graph.search(&index, &query, &live, 10);
            assert!(hits.windows(2).all(|pair| pair[0] > pair[1]) && hits.iter().all(|hit| live.contains(hit.row)));
            let from_lists = lists.search(&index, &query, &live, 10);
            wanted += right.len();
            found += right.iter().filter(|hit| hits.contains(hit)).count();
            by_lists += right.iter().filter(|hit| from_lists.contains(hit)).count();
        }
        assert!(found * 100 >= wanted * 95, "{distance:?}, one in {one_in}: {found} of {wanted}");
        assert!(by_lists * 100 >= wanted * 90, "{distance:?}, lists, one in {one_in}: {by_lists} of {wanted}");
    }
}

#[test]
fn graphs_and_lists_do_not_depend_on_the_number_of_threads() {
    let index = VectorIndex::open(written(&clustered(3_000, 16), Distance::Cosine)).expect("a whole segment");
    let on = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        pool.install(|| (linked(&index), listed(&index)))
    };
    assert_eq!(on(1), on(3));
}

/// With enough rows that they are not scanned.
#[test]
fn damaged_graphs_and_lists_are_found_out_and_searched_without_harm() {
    const ROWS: usize = 4_000;
    let vectors = clustered(ROWS, 12);
    let index = VectorIndex::open(written(&vectors, Distance::Euclidean)).expect("a whole segment");
    let query = vectors.iter().nth(7).expect("a row").to_vec();
    let live = RowSet::all(ROWS as u32);
    let mut state = 3_u64;
    let mut next = |below: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % below
    };
    for (bytes, is_graph) in [(linked(&index), true), (listed(&index), false)] {
        for round in 0..120 {
            let mut changed = bytes.clone();
            // The numbers in front say most, and are changed as often as all the others.
            let at = if round % 2 == 0 { next(200) } else { next(bytes.len()) };
            changed[at] = changed[at].wrapping_add(1 + next(255) as u8);
            let found = if is_graph {
                AnnGraph::open(changed).map(|graph| (graph.verify(), graph.search(&index, &query, &live, 5)))
            } else {
                IvfLists::open(changed).map(|lists| (lists.verify(), lists.search(&index, &query, &live, 5)))
            };
            if let Ok((verified, hits)) = found {
                assert!(verified.is_err(), "byte {at}");
                assert!(hits.iter().all(|hit| live.contains(hit.row)), "byte {at}");
            }
        }
        let shorter = bytes[..next(bytes.len())].to_vec();
        assert!(if is_graph { AnnGraph::open(shorter).is_err() } else { IvfLists::open(shorter).is_err() });
    }
}

/// A segment of the first version of the format: a header, and the rows.
#[test]
fn a_segment_of_the_first_version_is_searched() {
    let mut bytes = vec![0; 64];
    for number in [1.0_f32, 0.0, 0.6, 0.8, 0.0, 1.0] {
        bytes.extend(number.to_le_bytes());
    }
    bytes[..8].copy_from_slice(b"LOGOSEG\n");
    bytes[8] = 1;
    bytes[12] = 1;
    bytes[16] = 64 + 24;
    bytes[24] = 3;
    bytes[28] = 2;
    let body = crc32fast::hash(&bytes[64..]);
    bytes[32..36].copy_from_slice(&body.to_le_bytes());
    let head = crc32fast::hash(&bytes[..60]);
    bytes[60..64].copy_from_slice(&head.to_le_bytes());
    let index = VectorIndex::open(bytes).expect("an old segment");
    index.verify().expect("unchanged");
    let hits = index.search(&[0.0, 2.0], &RowSet::all(3), 2);
    assert_eq!(hits.iter().map(|hit| (hit.row, hit.score)).collect::<Vec<_>>(), [(2, 1.0), (1, 0.8)]);
}

#[test]
fn building_an_index_ends_when_it_is_stopped() {
    let index = VectorIndex::open(written(&clustered(600, 24), Distance::Cosine)).expect("a segment");
    for most in [0, 1, 7] {
        let asked = AtomicUsize::new(0);
        let stop = || asked.fetch_add(1, Ordering::Relaxed) >= most;
        let mut bytes = Vec::new();
        assert!(write_ann_graph(&index, &mut bytes, &stop).expect("written").is_none());
        assert!(write_ivf_lists(&index, &mut bytes, &|| true).expect("written").is_none());
        assert!(bytes.is_empty());
        assert_eq!(asked.load(Ordering::Relaxed), most + 1, "it is not asked again");
    }
}

proptest! {
    #[test]
    fn vector_search_agrees_with_looking_at_every_row(
        dimensions in 1usize..40,
        seeds in prop::collection::vec(prop::collection::vec(-1.0f32..1.0, 40), 1..30),
        mask: u64,
        count in 1usize..12,
        distance in prop::sample::select(vec![Distance::Cosine, Distance::Dot, Distance::Euclidean]),
        size in prop::sample::select(vec![1e-30f32, 1e-3, 1.0, 1e4]),
    ) {
        let mut vectors = Vectors::new(dimensions);
        for seed in &seeds {
            vectors.push(&seed[..dimensions].iter().map(|value| value * size).collect::<Vec<_>>()).expect("finite");
        }
        let index = VectorIndex::open(written(&vectors, distance)).expect("a whole segment");
        prop_assert_eq!(index.distance(), distance);
        let live = rows(seeds.len(), mask);
        let query: Vec<f32> = seeds[0][..dimensions].iter().map(|value| value * size).collect();
        let kept: Vec<&[f32]> = vectors.iter().collect();
        let mut expected: Vec<f64> = (0..seeds.len())
            .filter(|row| live.contains(*row as u32))
            .map(|row| plain_score(distance, &query, kept[row]))
            .collect();
        expected.sort_by(|a, b| b.total_cmp(a));
        expected.truncate(count);
        let hits = index.search(&query, &live, count);
        let nowhere = distance == Distance::Cosine && query.iter().all(|&value| value == 0.0);
        prop_assert_eq!(hits.len(), if nowhere { 0 } else { expected.len() });
        for (hit, expected) in hits.iter().zip(&expected) {
            prop_assert!(live.contains(hit.row));
            let near = 1e-4 * expected.abs().max(1e-3);
            prop_assert!((f64::from(hit.score) - expected).abs() <= near, "{} is not {expected}", hit.score);
        }
        prop_assert!(hits.windows(2).all(|pair| pair[0] > pair[1]));
    }

    #[test]
    fn what_was_read_out_and_written_again_is_the_same(rows in prop::collection::vec(prop::collection::vec(-9.0f32..9.0, 5), 1..9)) {
        let mut vectors = Vectors::new(5);
        rows.iter().for_each(|row| vectors.push(row).expect("finite"));
        let bytes = written(&vectors, Distance::Cosine);
        let index = VectorIndex::open(bytes.clone()).expect("a whole segment");
        let mut again = Vectors::new(5);
        (0..index.rows()).for_each(|row| again.push(&index.row(row).expect("a row")).expect("finite"));
        prop_assert_eq!(written(&again, Distance::Cosine), bytes);
    }

    #[test]
    fn any_changed_byte_is_found(rows in 1usize..40, at: usize, bit in 0u8..8, cut: usize) {
        let bytes = written(&clustered(rows, 5), Distance::Cosine);
        let mut flipped = bytes.clone();
        flipped[at % bytes.len()] ^= 1 << bit;
        prop_assert!(VectorIndex::open(bytes[..cut % bytes.len()].to_vec()).is_err());
        if let Ok(index) = VectorIndex::open(flipped) {
            // Damage that only a full read finds must still leave searching safe.
            index.search(&[1.0, -1.0, 1.0, 0.5, 0.0], &RowSet::all(index.rows()), 5);
            prop_assert!(index.verify().is_err());
        }
    }

    #[test]
    fn merged_segments_are_those_of_all_their_rows(
        sizes in prop::collection::vec(1usize..30, 1..4),
        mask: u64,
        distance in prop::sample::select(vec![Distance::Cosine, Distance::Dot, Distance::Euclidean]),
    ) {
        let parts: Vec<Vectors> = sizes.iter().map(|&size| clustered(size, 7)).collect();
        let segments: Vec<_> = parts.iter().map(|part| VectorIndex::open(written(part, distance)).expect("whole")).collect();
        let live: Vec<RowSet> = sizes.iter().map(|&size| rows(size, mask)).collect();
        let mut all = Vectors::new(7);
        for (part, live) in parts.iter().zip(&live) {
            let kept = part.iter().enumerate().filter(|(row, _)| live.contains(*row as u32));
            kept.for_each(|(_, vector)| all.push(vector).expect("finite"));
        }
        let pairs: Vec<_> = segments.iter().zip(&live).collect();
        let merged = whole_segment(|to| merge_vectors(&pairs, to)).expect("a segment");
        prop_assert_eq!(merged, written(&all, distance));
    }

    #[test]
    fn fusion_ranks_every_hit_once_and_stays_in_range(
        first in prop::collection::btree_map(0u32..30, 0.0f32..9.0, 0..12),
        second in prop::collection::btree_map(0u32..30, -1.0f32..1.0, 0..12),
        weight in 0.0f32..1.0,
    ) {
        let sorted = |hits: std::collections::BTreeMap<u32, f32>| {
            let mut hits: Vec<(u32, f32)> = hits.into_iter().collect();
            hits.sort_by(|a, b| b.1.total_cmp(&a.1));
            hits
        };
        let legs = [
            Ranking { name: "keyword".into(), weight, hits: sorted(first.clone()) },
            Ranking { name: "vector".into(), weight: 1.0 - weight, hits: sorted(second.clone()) },
        ];
        let fused = fuse(FusionKind::Scores, &legs);
        let keys: std::collections::BTreeSet<u32> = first.keys().chain(second.keys()).copied().collect();
        prop_assert_eq!(fused.len(), keys.len());
        prop_assert!(fused.windows(2).all(|pair| pair[0].score >= pair[1].score));
        prop_assert!(fused.iter().all(|item| (0.0..=1.0001).contains(&item.score) && !item.legs.is_empty()));
    }
}

#[test]
fn one_leg_alone_keeps_its_order() {
    let legs = [
        Ranking { name: "keyword".into(), weight: 0.5, hits: vec![(3u32, 8.0), (1, 4.0)] },
        Ranking { name: "vector".into(), weight: 0.5, hits: Vec::new() },
    ];
    let fused = fuse(FusionKind::Scores, &legs);
    let scores: Vec<(u32, f32)> = fused.iter().map(|item| (item.key, item.score)).collect();
    assert_eq!(scores, [(3, 1.0), (1, 0.5)]);
}

#[test]
fn vectors_that_are_no_vectors_are_refused() {
    let mut vectors = Vectors::new(2);
    assert!(vectors.push(&[1.0]).is_err());
    assert!(vectors.push(&[1.0, f32::NAN]).expect_err("NaN").to_string().contains("component 1"));
    assert!(vectors.is_empty());
}

#[test]
fn the_other_kind_of_segment_is_refused() {
    let bytes = written(&Vectors::new(2), Distance::Cosine);
    let error = KeywordIndex::open(bytes).expect_err("it holds vectors");
    assert!(error.to_string().contains("another kind"), "{error}");
}
