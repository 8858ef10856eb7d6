//! Question sets and measures.

use logothete_core::document::{Location, Pages, Span};
use logothete_core::eval::{Relevant, ndcg, read_questions, recall, reciprocal_rank};
use proptest::prelude::*;
use rstest::rstest;

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
        let found: Vec<Vec<usize>> = found.into_iter().map(|ranks| ranks.into_iter().collect()).collect();
        for value in [recall(&found, count), ndcg(&found, count), reciprocal_rank(&found)] {
            prop_assert!((0.0..=1.0).contains(&value));
        }
        prop_assert!(recall(&found, count) <= recall(&found, count + 1));
    }

    #[test]
    fn moving_a_relevant_item_up_never_lowers_a_measure(rank in 2usize..20, others in prop::collection::vec(1usize..20, 0..3)) {
        let ranking = |rank: usize| -> Vec<Vec<usize>> {
            std::iter::once(vec![rank]).chain(others.iter().map(|&other| vec![other])).collect()
        };
        let (low, high) = (ranking(rank), ranking(rank - 1));
        prop_assert!(ndcg(&high, 10) >= ndcg(&low, 10));
        prop_assert!(reciprocal_rank(&high) >= reciprocal_rank(&low));
    }
}
