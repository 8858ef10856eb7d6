//! The indexes beside plain computations of the same thing, and under damage.

use std::collections::HashMap;

use logothete_core::keyword::{KeywordIndex, KeywordWriter, Statistics, query_terms, search};
use logothete_core::search::{Leg, RowSet, fuse};
use logothete_core::text::words;
use logothete_core::vector::{VectorIndex, Vectors, write_vectors};
use proptest::prelude::*;

fn index(texts: &[String]) -> KeywordIndex<Vec<u8>> {
    let mut writer = KeywordWriter::new();
    texts.iter().for_each(|text| writer.push(text));
    KeywordIndex::open(writer.finish()).expect("a whole segment")
}

/// BM25 from its formula, with nothing precomputed.
fn plain_scores(texts: &[String], live: &RowSet, query: &[String]) -> HashMap<u32, f64> {
    let terms: Vec<(u32, Vec<String>)> = texts
        .iter()
        .enumerate()
        .filter(|(row, _)| live.contains(*row as u32))
        .map(|(row, text)| (row as u32, words(text).map(|word| word.term).collect()))
        .collect();
    let rows = terms.len() as f64;
    let mean = (terms.iter().map(|(_, terms)| terms.len()).sum::<usize>() as f64 / rows.max(1.0)).max(1.0);
    let mut scores = HashMap::new();
    for term in query {
        let frequency = terms.iter().filter(|(_, terms)| terms.contains(term)).count() as f64;
        let weight = (1.0 + (rows - frequency + 0.5) / (frequency + 0.5)).ln();
        for (row, terms) in &terms {
            let count = terms.iter().filter(|other| *other == term).count() as f64;
            if count > 0.0 {
                let norm = 1.2 * (0.25 + 0.75 * terms.len() as f64 / mean);
                *scores.entry(*row).or_insert(0.0) += weight * 2.2 * count / (count + norm);
            }
        }
    }
    scores
}

fn rows(count: usize, mask: u64) -> RowSet {
    let mut live = RowSet::new(count as u32);
    (0..count as u32).filter(|row| mask >> (row % 64) & 1 == 1).for_each(|row| live.insert(row));
    live
}

fn texts() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec("([abcde]{1,2} ){0,12}", 1..20)
}

proptest! {
    #[test]
    fn keyword_scores_are_those_of_the_formula(texts in texts(), mask: u64, query in "([abcde]{1,2} ){1,4}") {
        let (index, live) = (index(&texts), rows(texts.len(), mask));
        let terms = query_terms(&query);
        let statistics = Statistics::gather(&[(&index, &live)], &terms);
        let hits = search(&index, &live, &terms, &statistics, texts.len());
        let expected = plain_scores(&texts, &live, &terms);
        prop_assert_eq!(hits.len(), expected.len());
        for hit in &hits {
            prop_assert!((f64::from(hit.score) - expected[&hit.row]).abs() < 1e-4);
        }
        prop_assert!(hits.windows(2).all(|pair| pair[0] > pair[1]));
    }

    #[test]
    fn two_segments_score_as_one(texts in texts(), cut: usize, query in "([abcde]{1,2} ){1,4}") {
        let cut = cut % texts.len();
        let whole = index(&texts);
        let (first, second) = (index(&texts[..cut]), index(&texts[cut..]));
        let all = |index: &KeywordIndex<Vec<u8>>| RowSet::all(index.rows());
        let terms = query_terms(&query);
        let one = Statistics::gather(&[(&whole, &all(&whole))], &terms);
        let two = Statistics::gather(&[(&first, &all(&first)), (&second, &all(&second))], &terms);
        let expected: HashMap<u32, f32> =
            search(&whole, &all(&whole), &terms, &one, 99).into_iter().map(|hit| (hit.row, hit.score)).collect();
        let mut found = HashMap::new();
        found.extend(search(&first, &all(&first), &terms, &two, 99).into_iter().map(|hit| (hit.row, hit.score)));
        found.extend(search(&second, &all(&second), &terms, &two, 99).into_iter().map(|hit| (hit.row + cut as u32, hit.score)));
        prop_assert_eq!(found, expected);
    }

    #[test]
    fn vector_search_agrees_with_sorting_all_cosines(
        dimensions in 1usize..40,
        seeds in prop::collection::vec(prop::collection::vec(-1.0f32..1.0, 40), 1..30),
        mask: u64,
        count in 1usize..12,
    ) {
        let mut vectors = Vectors::new(dimensions);
        for seed in &seeds {
            vectors.push(&seed[..dimensions]).expect("finite");
        }
        let index = VectorIndex::open(write_vectors(&vectors)).expect("a whole segment");
        let live = rows(seeds.len(), mask);
        let query = &seeds[0][..dimensions];
        let norm = |vector: &[f32]| vector.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>().sqrt();
        let cosine = |other: &[f32]| {
            let dot: f64 = query.iter().zip(other).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum();
            let length = norm(query) * norm(other);
            if length > 0.0 { dot / length } else { 0.0 }
        };
        let mut expected: Vec<f64> =
            (0..seeds.len()).filter(|row| live.contains(*row as u32)).map(|row| cosine(&seeds[row][..dimensions])).collect();
        expected.sort_by(|a, b| b.total_cmp(a));
        expected.truncate(count);
        let hits = index.search(query, &live, count);
        prop_assert_eq!(hits.len(), if norm(query) > 0.0 { expected.len() } else { 0 });
        for (hit, expected) in hits.iter().zip(&expected) {
            prop_assert!(live.contains(hit.row));
            prop_assert!((f64::from(hit.score) - expected).abs() < 1e-4, "{} is not {expected}", hit.score);
        }
    }

    #[test]
    fn any_changed_byte_is_found_and_nothing_panics(texts in texts(), at: usize, bit in 0u8..8, cut: usize) {
        let mut writer = KeywordWriter::new();
        texts.iter().for_each(|text| writer.push(text));
        let mut vectors = Vectors::new(3);
        texts.iter().for_each(|text| vectors.push(&[text.len() as f32, 1.0, -2.0]).expect("finite"));
        let terms: Vec<String> = words("a b c ab").map(|word| word.term).collect();
        for (bytes, keywords) in [(writer.finish(), true), (write_vectors(&vectors), false)] {
            let mut flipped = bytes.clone();
            let at = at % bytes.len();
            flipped[at] ^= 1 << bit;
            let shorter = bytes[..cut % bytes.len()].to_vec();
            if keywords {
                prop_assert!(KeywordIndex::open(shorter).is_err());
                if let Ok(index) = KeywordIndex::open(flipped) {
                    // Damage that only a full read finds must still leave searching safe.
                    let live = RowSet::all(index.rows());
                    let statistics = Statistics::gather(&[(&index, &live)], &terms);
                    search(&index, &live, &terms, &statistics, 5);
                    prop_assert!(index.verify().is_err());
                }
            } else {
                prop_assert!(VectorIndex::open(shorter).is_err());
                if let Ok(index) = VectorIndex::open(flipped) {
                    index.search(&[1.0, 1.0, 1.0], &RowSet::all(index.rows()), 5);
                    prop_assert!(index.verify().is_err());
                }
            }
        }
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
            Leg { name: "keyword".into(), weight, hits: sorted(first.clone()) },
            Leg { name: "vector".into(), weight: 1.0 - weight, hits: sorted(second.clone()) },
        ];
        let fused = fuse(&legs);
        let keys: std::collections::BTreeSet<u32> = first.keys().chain(second.keys()).copied().collect();
        prop_assert_eq!(fused.len(), keys.len());
        prop_assert!(fused.windows(2).all(|pair| pair[0].score >= pair[1].score));
        prop_assert!(fused.iter().all(|item| (0.0..=1.0001).contains(&item.score) && !item.legs.is_empty()));
    }
}

#[test]
fn one_leg_alone_keeps_its_order() {
    let legs = [
        Leg { name: "keyword".into(), weight: 0.5, hits: vec![(3u32, 8.0), (1, 4.0)] },
        Leg { name: "vector".into(), weight: 0.5, hits: Vec::new() },
    ];
    let fused = fuse(&legs);
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
    let bytes = write_vectors(&Vectors::new(2));
    let error = KeywordIndex::open(bytes).err().expect("it holds vectors");
    assert!(error.to_string().contains("another kind"), "{error}");
}
