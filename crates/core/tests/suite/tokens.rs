//! The index of token vectors against exact late interaction.

use logothete_core::ErrorKind;
use logothete_core::segment::{RowSet, whole_segment};
use logothete_core::vector::{TokenIndex, TokenIndexWriter, Vectors, max_similarity};
use proptest::prelude::*;
use rstest::rstest;

/// Numbers that look random and are the same each time.
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> f32 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 40) as f32 / (1 << 23) as f32) - 1.0
    }

    fn vector(&mut self, dimensions: usize) -> Vec<f32> {
        (0..dimensions).map(|_| self.next() + self.next() + self.next()).collect()
    }
}

/// Passages of tokens that scatter about common words, as those of a model do.
fn passages(count: usize, dimensions: usize, numbers: &mut Numbers) -> Vec<Vectors> {
    let words: Vec<Vec<f32>> = (0..200).map(|_| numbers.vector(dimensions)).collect();
    (0..count)
        .map(|passage| {
            let mut tokens = Vectors::new(dimensions);
            for token in 0..20 {
                let word = &words[(passage * 7 + token * token * 13 + token) % words.len()];
                let noise = numbers.vector(dimensions);
                let vector: Vec<f32> = word.iter().zip(noise).map(|(word, noise)| word + 0.6 * noise).collect();
                tokens.push(&vector).expect("finite numbers");
            }
            tokens
        })
        .collect()
}

/// A query of some tokens of a passage, a little off.
fn query(passage: &Vectors, numbers: &mut Numbers) -> Vectors {
    let mut query = Vectors::new(passage.dimensions());
    for token in passage.iter().step_by(4) {
        let noise = numbers.vector(passage.dimensions());
        let vector: Vec<f32> = token.iter().zip(noise).map(|(token, noise)| token + 0.4 * noise).collect();
        query.push(&vector).expect("finite numbers");
    }
    query
}

fn bytes(passages: &[Vectors], bits: u32) -> Vec<u8> {
    let dimensions = passages.first().map_or(8, Vectors::dimensions);
    let mut writer = TokenIndexWriter::new(dimensions, bits).expect("settings");
    passages.iter().for_each(|passage| writer.push(passage).expect("a row"));
    whole_segment(|to| writer.write(to)).expect("a segment")
}

fn index(passages: &[Vectors], bits: u32) -> TokenIndex<Vec<u8>> {
    TokenIndex::open(bytes(passages, bits)).expect("an index")
}

/// The best rows by exact scores.
fn exact(passages: &[Vectors], query: &Vectors, count: usize) -> Vec<u32> {
    let mut scored: Vec<(f32, u32)> =
        (0..).zip(passages).map(|(row, passage)| (max_similarity(query, passage), row)).collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0));
    scored.into_iter().take(count).map(|(_, row)| row).collect()
}

#[rstest]
#[case(1, 0.75, 0.3)]
#[case(2, 0.9, 0.15)]
#[case(4, 0.95, 0.03)]
fn most_of_the_best_rows_are_found_and_scores_are_nearly_exact(
    #[case] bits: u32,
    #[case] min_recall: f32,
    #[case] off: f32,
) {
    let mut numbers = Numbers(7);
    let passages = passages(1_500, 64, &mut numbers);
    let index = index(&passages, bits);
    let live = RowSet::all(index.rows());
    let (mut found, mut wanted) = (0, 0);
    for at in (0..passages.len()).step_by(50) {
        let query = query(&passages[at], &mut numbers);
        let best = exact(&passages, &query, 10);
        let hits = index.search(&query, None, Some(&live), 10);
        assert_eq!(hits.len(), 10);
        assert!(hits.is_sorted_by(|a, b| a.score >= b.score));
        assert_eq!(hits[0].row as usize, at, "the passage that the query was made of");
        found += hits.iter().filter(|hit| best.contains(&hit.row)).count();
        wanted += best.len();
        for hit in &hits {
            let plain = max_similarity(&query, &passages[hit.row as usize]);
            assert!((hit.score - plain).abs() < off * plain, "{} for {plain}", hit.score);
        }
        let rows: Vec<u32> = hits.iter().map(|hit| hit.row).collect();
        assert_eq!(index.scores(&query, None, &rows), hits.iter().map(|hit| hit.score).collect::<Vec<_>>());
    }
    let recall = found as f32 / wanted as f32;
    assert!(recall >= min_recall, "{recall}");
}

#[test]
fn a_token_needs_few_bytes_beside_centres_and_directions() {
    let passages = passages(400, 128, &mut Numbers(3));
    let tokens = 400 * 20;
    let centres = 4 * (4.0 * f64::from(tokens).sqrt()) as usize * 128;
    let directions = 4 * 128 * 128;
    let each = (bytes(&passages, 2).len() - centres - directions) as f64 / f64::from(tokens);
    assert!(each < 40.0, "{each} bytes a token");
}

#[test]
fn only_live_rows_are_found_and_weights_count() {
    let mut numbers = Numbers(11);
    let passages = passages(300, 32, &mut numbers);
    let index = index(&passages, 2);
    let query = query(&passages[5], &mut numbers);
    let mut live = RowSet::all(index.rows());
    let first = index.search(&query, None, Some(&live), 1)[0];
    assert_eq!(first.row, 5);
    let mut others = RowSet::new(index.rows());
    (0..300).filter(|row| *row != 5).for_each(|row| others.insert(row));
    live.intersect_with(&others);
    assert!(index.search(&query, None, Some(&live), 20).iter().all(|hit| hit.row != 5));
    let twice = index.scores(&query, Some(&vec![2.0; query.len()]), &[5])[0];
    assert!((twice - 2.0 * first.score).abs() < 1e-3);
    assert!(index.scores(&query, Some(&[]), &[5])[0].abs() < 1e-6, "a token without a weight counts nothing");
    assert_eq!(index.scores(&query, None, &[300, u32::MAX]), [0.0, 0.0]);
}

#[test]
fn rows_without_tokens_and_empty_indexes_are_searched() {
    let mut empty = Vectors::new(16);
    empty.push(&[0.0; 16]).expect("zeros");
    let some = passages(3, 16, &mut Numbers(2));
    let rows = [Vectors::new(16), some[0].clone(), empty, some[1].clone()];
    let found = index(&rows, 2);
    assert_eq!((found.rows(), found.tokens(), found.decoded(0).len(), found.decoded(1).len()), (4, 40, 0, 20));
    let hits = found.search(&some[1], None, None, 9);
    assert_eq!((hits[0].row, hits.len()), (3, 2));
    let nothing = index(&[], 4);
    assert_eq!(nothing.rows(), 0);
    assert!(nothing.search(&Vectors::new(8), None, None, 3).is_empty());
    assert!(found.search(&Vectors::new(7), None, None, 3).is_empty(), "other dimensions find nothing");
}

#[test]
fn what_cannot_be_kept_is_refused() {
    assert_eq!(TokenIndexWriter::new(8, 3).expect_err("three bits").kind(), ErrorKind::InvalidRequest);
    assert!(TokenIndexWriter::new(0, 2).is_err());
    let mut writer = TokenIndexWriter::new(8, 2).expect("settings");
    let mut other = Vectors::new(4);
    other.push(&[1.0; 4]).expect("a vector");
    assert_eq!(writer.push(&other).expect_err("other dimensions").kind(), ErrorKind::Mismatch);
}

#[test]
fn the_same_rows_give_the_same_bytes() {
    let passages = passages(120, 24, &mut Numbers(5));
    assert_eq!(bytes(&passages, 2), bytes(&passages, 2));
    let index = index(&passages, 4);
    index.verify().expect("a sound index");
    let near = max_similarity(&index.decoded(7), &passages[7]) / 20.0;
    assert!(near > 0.98, "{near}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn damage_is_found_and_nothing_panics(at in 0_usize..6_000, flip in 1_u8..=255, cut in 0_usize..200) {
        let mut damaged = bytes(&passages(12, 16, &mut Numbers(9)), 2);
        let whole = damaged.len();
        damaged.truncate(whole - cut.min(whole));
        let at = at % damaged.len().max(1);
        damaged[at] ^= flip;
        let query = passages(1, 16, &mut Numbers(4)).remove(0);
        if let Ok(index) = TokenIndex::open(damaged) {
            prop_assert!(index.verify().is_err());
            let _ = index.search(&query, None, None, 5);
            let _ = index.decoded(3);
        }
    }
}
