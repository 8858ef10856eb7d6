//! Pages and pictures of evaluations.

use logothete::eval::{FoundPassage, FoundSource, QuestionDetails, QuestionScore, Relevant, Run, compare};
use logothete_report::{Evaluation, evaluation_page};
use proptest::prelude::*;
use serde_json::json;

use crate::unknown;

/// A question with ten passages, all of whose texts say something.
fn score(number: usize, text: &str) -> QuestionScore {
    let hit = f64::from(u8::from(!number.is_multiple_of(3)));
    let mut score: QuestionScore = serde_json::from_value(json!({
        "id": format!("q{number}"), "question": format!("What of {text}?"), "refuse": number.is_multiple_of(7), "refused": false,
        "cited": true, "said": null, "first_rank": 1 + number % 4, "place_ranks": [1 + number % 4], "confidence": 0.7, "min_confidence": 0.5,
        "metrics": { "hit@3": hit, "ndcg@10": hit * 0.9, "first_cited": hit, "right": hit },
    }))
    .expect("a score");
    let place = format!("{text}.pdf, page {number}");
    let passage = |right| FoundPassage {
        document: text.to_owned(),
        place: place.clone(),
        score: 0.5,
        text: format!("{text} ").repeat(280 / (text.len() + 1)),
        right,
    };
    let relevant: Relevant = serde_json::from_value(json!({ "document": text, "section": text })).expect("a place");
    score.details = QuestionDetails {
        wanted: vec![relevant],
        expected: Some(text.to_owned()),
        passages: (0..10).map(|at| passage(at == 0)).collect(),
        answer: format!("{text} [1]"),
        sources: vec![FoundSource { marker: 1, place: place.clone(), quotation: text.to_owned(), right: true }],
    };
    score.stages = [("ask".to_owned(), 3.0 + number as f64 / 10.0)].into();
    score
}

fn run(name: &str, count: usize, text: &str) -> Run {
    Run::new(name, (0..count).map(|number| score(number, text)).collect())
}

#[test]
fn a_report_of_500_questions_is_small() {
    let first = run("harbour", 500, "lorem ipsum dolor sit amet consetetur sadipscing");
    let page = evaluation_page(&[Evaluation { first: &first, others: &[], comparisons: &[] }]);
    assert!(page.len() < 5_000_000, "{}", page.len());
    assert_eq!(page.matches("<details class=\"question").count(), 500);
    assert!(page.contains("prefers-color-scheme: dark") && page.contains("max-width: 760px"));
}

#[test]
fn pictures_say_what_they_show() {
    let (first, other) = (run("harbour", 40, "text"), run("search.keyword=2", 40, "text"));
    let others = [other];
    let evaluation = Evaluation { first: &first, others: &others, comparisons: &[] };
    let plots = evaluation.plots();
    assert_eq!(
        plots.iter().map(|plot| plot.name).collect::<Vec<_>>(),
        ["measures", "recall", "scores", "reliability", "times"]
    );
    for plot in &plots {
        let svg = plot.svg().expect("a picture");
        assert!(svg.contains("harbour"), "{} has no title", plot.name);
        assert!(
            ["scores", "reliability"].contains(&plot.name)
                || (svg.contains("as configured") && svg.contains("search.keyword=2")),
            "{}",
            plot.name
        );
        let png = plot.png().expect("a picture");
        assert!(png.starts_with(b"\x89PNG") && png.len() > 4_000, "{} is empty", plot.name);
    }
    // A run without answers has nothing to say of scores and times.
    let mut bare = run("ranking", 3, "text");
    bare.stages.clear();
    bare.per_question.iter_mut().for_each(|score| score.confidence = None);
    let evaluation = Evaluation { first: &bare, others: &[], comparisons: &[] };
    assert_eq!(evaluation.plots().iter().map(|plot| plot.name).collect::<Vec<_>>(), ["measures", "recall"]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]
    #[test]
    fn no_question_or_document_becomes_markup(
        evil in "(<script>|</style>|</svg>|\"><img src=x>|&#60;|<!--|\\]\\]>|'|[a-z ]{1,6}|\u{202e}){1,8}"
    ) {
        let first = run(&evil, 9, &evil);
        let others = [run("other", 8, &evil)];
        let comparisons = compare(&first, &others);
        let page = evaluation_page(&[Evaluation { first: &first, others: &others, comparisons: &comparisons }]);
        prop_assert!(unknown(&page).is_empty(), "{:?}", unknown(&page));
        prop_assert_eq!(page.matches("</style>").count(), 1);
        let reordered = page.contains('\u{202e}');
        prop_assert!(!reordered);
    }
}
