//! Question sets and measures.

use logothete_core::document::{BlockKind, DocumentBuilder, Location, Pages, Span};
use logothete_core::eval::{
    Drafter, JudgedPlace, JudgedRanking, Relevant, average_precision_of_scores, ndcg_of_scores, read_queries,
    read_questions, write_questions,
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

#[test]
fn drafts_ask_for_what_the_document_says() {
    let mut builder = DocumentBuilder::new("pilots.md", "text/markdown");
    builder.heading(1, "Pilots");
    builder.heading(2, "Ordering a pilot");
    builder.block(BlockKind::Paragraph, "A pilot is ordered at the signal tower, by radio or by telephone. The fee is 75 crowns for a day. The rule was made on 3 May 2019.");
    builder.heading(2, "Boarding");
    builder.block(BlockKind::Paragraph, "The cutter is the boat that takes the pilot to the ship.");
    builder
        .table(1, &[vec!["Berth", "Greatest draught"], vec!["Berth 7", "7.9 metres"], vec!["Berth 8", "8.4 metres"]]);
    let document = builder.finish();
    let mut drafter = Drafter::default();
    drafter.add(&document, "0123456789abcdef0123");
    let drafts = drafter.finish(20, 3);
    let asked: Vec<(&str, Option<&str>)> =
        drafts.iter().map(|draft| (draft.question.question.as_str(), draft.question.answer.as_deref())).collect();
    for expected in [
        ("How does ordering a pilot work?", None),
        ("The fee is how many crowns for a day?", Some("75 crowns")),
        ("The rule was made on what date?", Some("3 May 2019")),
        ("What is the cutter?", None),
        ("What is the greatest draught of Berth 7?", Some("7.9 metres")),
    ] {
        assert!(asked.contains(&expected), "{expected:?} is not in {asked:?}");
    }
    let near: Vec<&str> =
        drafts.iter().filter(|draft| draft.question.refuse).map(|draft| draft.question.question.as_str()).collect();
    assert!(near.contains(&"What is the greatest draught of Berth 9?"), "{near:?}");
    let first = drafts.iter().find(|draft| draft.question.answer.as_deref() == Some("75 crowns")).expect("a draft");
    let place = &first.question.relevant[0];
    assert_eq!(
        (place.section.as_deref(), place.content_hash.as_deref()),
        (Some("Ordering a pilot"), Some("0123456789abcdef"))
    );
    assert!(document.slice(first.passage.expect("a passage")).contains("75 crowns"));
}

proptest! {
    /// Whatever a document says, drafts can be written and read again, their answers are in their sources, and no two are the same.
    #[test]
    fn drafts_are_sound(
        heading in "(How to |The )?[A-Za-zÄß]{0,9} [a-z0-9.?: ]{0,20}",
        sentence in "[A-Z][a-zé]{0,8} (is a|is|costs|on|in) (£|3 May )?[0-9]{0,4}[ .,%|]{0,2}[a-z]{0,8}s? [a-z]{0,6} [a-z]{0,6}[.]",
        cells in proptest::collection::vec("[A-Za-z0-9 –|]{0,12}", 6),
        count in 0..12_usize,
    ) {
        let mut drafter = Drafter::default();
        for name in ["a.md", "b.md"] {
            let mut builder = DocumentBuilder::new(name, "text/markdown");
            builder.heading(1, &heading);
            builder.block(BlockKind::Paragraph, &format!("{sentence} {}", "more of the words of it ".repeat(4)));
            builder.block(BlockKind::ListItem, &sentence);
            builder.table(1, &cells.chunks(2).map(<[String]>::to_vec).collect::<Vec<_>>());
            drafter.add(&builder.finish(), "");
        }
        let drafts: Vec<_> = drafter.finish(count, 2).into_iter().map(|draft| draft.question).collect();
        prop_assert!(drafts.iter().filter(|question| !question.refuse).count() <= count);
        let read = read_questions(&write_questions(&drafts)).expect("a set");
        prop_assert_eq!(&read, &drafts);
        for question in drafts.iter().filter(|question| !question.refuse) {
            let source = question.other["source"].as_str().unwrap_or_default();
            prop_assert!(question.answer.as_deref().is_none_or(|answer| source.contains(answer)), "{:?}", question);
        }
        let mut asked: Vec<&str> = drafts.iter().map(|question| question.question.as_str()).collect();
        asked.sort_unstable();
        asked.dedup();
        prop_assert_eq!(asked.len(), drafts.len());
    }
}

#[test]
fn queries_need_no_judgement() {
    let text = "How deep is it?\n\n{\"id\": \"a\", \"question\": \"When?\", \"draft\": true, \"refuse\": true}\n";
    let queries = read_queries(text).expect("queries");
    let facts: Vec<(&str, bool, bool)> =
        queries.iter().map(|query| (query.id.as_str(), query.is_judged(), query.is_draft())).collect();
    assert_eq!(facts, [("q1", false, false), ("a", true, true)]);
    let error = read_queries("{\"id\": \"a\"}").expect_err("no question");
    assert_eq!(error.place(), Some("line 1"));
}
