//! Question sets and measures.

use logothete_core::document::{Location, Pages, Span};
use logothete_core::eval::{
    JudgedPlace, JudgedRanking, Relevant, average_precision_of_scores, ndcg_of_scores, read_questions,
};
use proptest::prelude::*;
use rstest::rstest;

fn ranking(found: impl IntoIterator<Item = Vec<usize>>) -> JudgedRanking {
    JudgedRanking { places: found.into_iter().map(|ranks| JudgedPlace { grade: 1, ranks }).collect() }
}

fn relevant(json: &str) -> Relevant {
    serde_json::from_str(json).expect("a place")
}

#[rstest]
#[case(r#"{"document": "a.pdf"}"#, true)]
#[case(r#"{"document": "b.pdf"}"#, false)]
#[case(r#"{"document": "a.pdf", "page": 3}"#, true)]
#[case(r#"{"document": "a.pdf", "page": 4}"#, false)]
#[case(r#"{"document": "a.pdf", "section": "visitors' MOORINGS"}"#, true)]
#[case(r#"{"document": "a.pdf", "section": "Moorings"}"#, false)]
#[case(r#"{"document": "a.pdf", "contains": "forty  moorings"}"#, true)]
#[case(r#"{"document": "a.pdf", "page": 3, "contains": "fifty"}"#, false)]
fn everything_a_place_names_must_agree(#[case] place: &str, #[case] expected: bool) {
    let mut location = Location::new("a.pdf", Span::default());
    location.section = ["Part 7", "Visitors’ moorings"].map(str::to_owned).to_vec();
    location.pages = Some(Pages { first: 2, last: 3 });
    assert_eq!(relevant(place).is_at(&location, "There are Forty\nmoorings."), expected);
}

#[test]
fn a_place_with_a_page_is_not_met_by_a_document_without_pages() {
    let location = Location::new("a.txt", Span::default());
    assert!(!relevant(r#"{"document": "a.txt", "page": 1}"#).is_at(&location, ""));
}

#[test]
fn a_set_is_read_with_all_that_it_says() {
    let line =
        r#"{"id":"q1","question":"Where?","relevant":[{"document":"a"}],"kind":"fact","split":"dev","answer":"here"}"#;
    let questions = read_questions(&format!("\n{line}\n\n")).expect("a set");
    assert_eq!((questions.len(), questions[0].other["kind"].as_str()), (1, Some("fact")));
    let again = serde_json::to_string(&questions[0]).expect("JSON");
    assert_eq!(read_questions(&again).expect("a set"), questions);
}

proptest! {
    #[test]
    fn measures_stay_in_range_and_more_passages_never_hurt(
        found in prop::collection::vec(prop::collection::btree_set(1usize..30, 0..4), 1..5),
        count in 1usize..20,
    ) {
        let found = ranking(found.into_iter().map(|ranks| ranks.into_iter().collect()));
        let measures = [found.recall(count), found.precision(count), found.ndcg(count), found.reciprocal_rank(), found.average_precision()];
        for value in measures {
            prop_assert!((0.0..=1.0).contains(&value));
        }
        prop_assert!(found.recall(count) <= found.recall(count + 1));
    }

    #[test]
    fn moving_a_relevant_item_up_never_lowers_a_measure(rank in 2usize..20, others in prop::collection::vec(1usize..20, 0..3)) {
        let with = |rank: usize| ranking(std::iter::once(vec![rank]).chain(others.iter().map(|&other| vec![other])));
        let (low, high) = (with(rank), with(rank - 1));
        prop_assert!(high.ndcg(10) >= low.ndcg(10));
        prop_assert!(high.reciprocal_rank() >= low.reciprocal_rank());
        prop_assert!(high.average_precision() >= low.average_precision() - 1e-12);
    }
}

#[derive(serde::Deserialize)]
struct Case {
    grades: Vec<u32>,
    scores: Vec<f64>,
    missing: Vec<u32>,
    count: usize,
    ndcg: f64,
    average_precision: f64,
}

/// The values are those of scikit-learn; see `bench/reference/rankings.py`.
#[test]
fn measures_agree_with_another_implementation() {
    let cases: Vec<Case> = serde_json::from_str(include_str!("rankings.json")).expect("cases");
    let close = |ours: f64, theirs: f64| (ours - theirs).abs() < 1e-9;
    let mut without_ties = 0;
    for (at, case) in cases.iter().enumerate() {
        let Case { grades, scores, missing, count, .. } = case;
        let all: Vec<f64> = grades.iter().chain(missing).copied().map(f64::from).collect();
        let lowest = scores.iter().copied().fold(f64::MAX, f64::min);
        let all_scores: Vec<f64> =
            scores.iter().copied().chain((1..=missing.len()).map(|behind| lowest - behind as f64)).collect();
        let ndcg = ndcg_of_scores(&all, &all_scores, *count);
        assert!(close(ndcg, case.ndcg), "case {at}: {ndcg}, not {}", case.ndcg);
        let relevant: Vec<bool> = grades.iter().map(|grade| *grade > 0).collect();
        let there = relevant.iter().filter(|relevant| **relevant).count();
        let share = there as f64 / (there + missing.len()) as f64;
        let precision = average_precision_of_scores(&relevant, scores) * share;
        assert!(close(precision, case.average_precision), "case {at}: {precision}, not {}", case.average_precision);

        let mut order: Vec<usize> = (0..scores.len()).collect();
        order.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]));
        if order.windows(2).any(|pair| scores[pair[0]] == scores[pair[1]]) {
            continue;
        }
        // Without ties, a ranking has the same values.
        without_ties += 1;
        let there = order.iter().enumerate().filter(|(_, item)| relevant[**item]);
        let places = there.map(|(rank, item)| JudgedPlace { grade: grades[*item], ranks: vec![rank + 1] });
        let missing = missing.iter().map(|grade| JudgedPlace { grade: *grade, ranks: Vec::new() });
        let ranking = JudgedRanking { places: places.chain(missing).collect() };
        assert!(close(ranking.ndcg(*count), case.ndcg), "case {at}: {}, not {}", ranking.ndcg(*count), case.ndcg);
        assert!(close(ranking.average_precision(), case.average_precision), "case {at}");
    }
    assert!(without_ties >= 20, "{without_ties}");
}
