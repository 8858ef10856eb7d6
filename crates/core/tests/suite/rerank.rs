//! Reranking: what is measured of candidates, the features that are made of it, and the model that reads them.

use logothete_core::keyword::{
    FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords, PreparedQuery, Query,
};
use logothete_core::rerank::{
    FEATURES, Facts, FeatureRow, Linear, Measured, Question, RankedList, densities, features, learned, normalised,
};
use logothete_core::segment::{RowSet, whole_segment};
use logothete_core::text::Language;
use proptest::prelude::*;
use rstest::rstest;

/// A query over some texts, a row each.
struct Texts {
    index: KeywordIndex<Vec<u8>>,
    live: RowSet,
    counts: LiveCounts,
}

impl Texts {
    fn new(texts: &[&str]) -> Self {
        let mut writer = KeywordWriter::new(FieldWeights::default());
        texts.iter().for_each(|text| writer.push(&Fields::body(text), Some(Language::English)));
        let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("an index");
        let live = RowSet::all(texts.len() as u32);
        let counts = LiveCounts::new(&index, &live);
        Self { index, live, counts }
    }

    fn live(&self) -> LiveKeywords<'_, Vec<u8>> {
        LiveKeywords { index: &self.index, live: &self.live, counts: &self.counts }
    }

    fn prepared(&self, query: &str) -> PreparedQuery {
        PreparedQuery::new(&Query::plain(query), &[self.live()])
    }
}

const NOTICES: [&str; 4] = [
    "The north channel is dredged to six metres. Pilots take the channel at high water.",
    "Ice was seen in the channel. The north wind brought it.",
    "Dues are paid at the office.",
    "A pilot boards north of the buoy. Much later, and at the very end of this notice, it names a channel.",
];

#[test]
fn the_words_of_rows_are_counted_as_a_search_scores_them() {
    let texts = Texts::new(&NOTICES);
    let query = texts.prepared("pilots of the north channel");
    let rows: Vec<u32> = (0..4).collect();
    let counts = query.frequencies(&texts.index, &rows);
    assert_eq!(counts, [[1, 1, 2], [0, 1, 1], [0, 0, 0], [1, 1, 1]]);
    let hits = query.search(texts.live(), None, 4);
    assert_eq!(hits.len(), 3, "the third notice has none of the words");
    for hit in hits {
        let length = texts.index.length(hit.row);
        let score = query.score(&counts[hit.row as usize], length, query.mean_length());
        assert!((score - hit.score).abs() < 1e-4, "row {}: {score} and {}", hit.row, hit.score);
    }
}

#[test]
fn words_that_stand_early_and_together_count_more() {
    let texts = Texts::new(&NOTICES);
    let standings = texts.prepared("the north channel").standings(&texts.index, &[0, 1, 2, 3]);
    assert_eq!(standings.iter().map(|row| row.adjacent).collect::<Vec<_>>(), [1.0, 0.0, 0.0, 0.0]);
    assert!(standings[0].early > standings[1].early && standings[1].early > standings[3].early, "{standings:?}");
    assert_eq!(standings[2].early, 0.0);
}

#[test]
fn a_section_is_measured_as_a_whole() {
    let texts = Texts::new(&NOTICES);
    let query = texts.prepared("ice pilots");
    let question = Question::new(&query, &[2.0, 0.0]);
    let counts = query.frequencies(&texts.index, &[0, 1]);
    let (east, north) = ([1.0, 0.0], [0.0, 1.0]);
    let chunk = |at: usize, vector| Measured { frequencies: &counts[at], words: 12, vector };
    let facts = question.measure(chunk(0, &north), &[chunk(0, &north), chunk(1, &east)], 2.0);
    assert_eq!((facts.vector, facts.section_best, facts.section_first), (0.0, 1.0, 0.0));
    assert!((facts.section_vector - 0.5_f32.sqrt()).abs() < 1e-6, "{facts:?}");
    assert!(facts.coverage < 1.0, "the first chunk has no ice");
    assert_eq!(facts.section_coverage, 1.0);
    // A chunk without a vector, as of a damaged segment, is measured by its words.
    assert_eq!(question.measure(chunk(0, &[]), &[], 1.0).vector, 0.0);
}

#[test]
fn density_is_the_nearness_to_the_nearest() {
    let vectors: Vec<Vec<f32>> = [[1.0, 0.0], [1.0, 0.1], [-1.0, 0.0]].map(|vector| normalised(vector.to_vec())).into();
    let found = densities(&vectors.iter().map(Vec::as_slice).collect::<Vec<_>>());
    assert!(found[0] > found[2] && found[1] > found[2], "{found:?}");
    assert_eq!(densities(&[&[1.0]]), [0.0]);
    assert!(densities(&[]).is_empty());
}

fn any_facts() -> impl Strategy<Value = Facts> {
    let number = prop_oneof![4 => -2.0_f32..20.0, 1 => Just(f32::NAN), 1 => Just(f32::INFINITY)];
    (number.clone(), number.clone(), number, 0_u32..30, 0_u32..30).prop_map(
        |(fused, keyword, vector, place, chunks)| Facts {
            fused,
            keyword,
            vector,
            density: vector,
            place,
            section_chunks: chunks,
            ..Facts::default()
        },
    )
}

proptest! {
    #[test]
    fn features_and_probabilities_are_finite(facts in prop::collection::vec(any_facts(), 0..20), asks: bool) {
        let rows = features(&facts, asks);
        prop_assert_eq!(rows.len(), facts.len());
        prop_assert!(rows.iter().flatten().all(|value| value.is_finite()), "{:?}", rows);
        for row in &rows {
            let chance = learned().probability(row);
            prop_assert!((0.0..=1.0).contains(&chance), "{}", chance);
        }
    }

    #[test]
    fn shares_are_what_tells_a_candidate_from_the_mean(facts in prop::collection::vec(any_facts(), 2..12)) {
        let rows = features(&facts, true);
        let odds = |row: &FeatureRow| {
            let sum: f32 = learned().weights.iter().zip(row).map(|(weight, value)| weight * value).sum();
            learned().slope * sum
        };
        let mean = rows.iter().map(odds).sum::<f32>() / rows.len() as f32;
        for row in &rows {
            let shares: f32 = learned().shares(row, &rows).iter().map(|(_, share)| share).sum();
            let expected = odds(row) - mean;
            prop_assert!((shares - expected).abs() < 0.01 * (1.0 + expected.abs()), "{} and {}", shares, expected);
        }
    }
}

/// Lists in which the right candidate has the highest value of one feature, and the others say nothing.
fn lists(telling: usize) -> Vec<RankedList> {
    let value = |seed: usize| ((seed * 7_919 + 13) % 101) as f32 / 101.0;
    let list = |number: usize| {
        let row =
            |at: usize| -> FeatureRow { std::array::from_fn(|feature| value(number * 1_009 + at * 61 + feature * 17)) };
        let candidates: Vec<FeatureRow> = (0..8).map(row).collect();
        let best = (0..8).max_by(|&a, &b| candidates[a][telling].total_cmp(&candidates[b][telling])).unwrap_or(0);
        RankedList { candidates, right: (0..8).map(|at| at == best).collect() }
    };
    (0..40).map(list).collect()
}

#[rstest]
#[case(5)]
#[case(20)]
fn a_fit_finds_the_feature_that_tells(#[case] telling: usize) {
    let lists = lists(telling);
    let model = Linear::fit(&lists);
    // The fused score has a weight of its own, whatever was learned.
    let strongest = (1..FEATURES).max_by(|&a, &b| model.weights[a].total_cmp(&model.weights[b]));
    assert_eq!(strongest, Some(telling));
    assert_eq!(Linear::fit(&lists), model, "the same lists give the same model");
    let json = serde_json::to_string(&model).expect("JSON");
    assert_eq!(Linear::read(&json).expect("a model"), model);
    // Lists that teach nothing change nothing.
    let silent = RankedList { candidates: vec![[1.0; FEATURES]; 3], right: vec![false; 3] };
    assert_eq!(Linear::fit(&[lists, vec![silent]].concat()), model);
}

#[test]
fn a_calibrated_score_is_a_probability() {
    let lists = lists(9);
    let model = Linear::fit(&lists);
    let all: Vec<f32> = lists.iter().flat_map(|list| &list.candidates).map(|row| model.probability(row)).collect();
    let mean = all.iter().sum::<f32>() / all.len() as f32;
    assert!((mean - 1.0 / 8.0).abs() < 0.01, "one of eight is right, and the mean probability is {mean}");
}

#[rstest]
#[case("no JSON", "no model")]
#[case(r#"{"features": ["a"], "weights": [1.0], "slope": 1.0, "shift": 0.0}"#, "other features")]
fn what_is_no_model_is_refused(#[case] json: &str, #[case] message: &str) {
    let error = Linear::read(json).expect_err("no model").to_string();
    assert!(error.contains(message), "{error}");
}

#[test]
fn the_model_of_the_library_fits_its_features() {
    assert_eq!(learned().weights.len(), FEATURES);
    assert!(learned().weights[0] > 0.0, "a better fused score is better");
}
