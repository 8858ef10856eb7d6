//! What is made of the results of questions: outcomes, runs, comparisons, documents that have changed, and the choice of settings.

use std::collections::{BTreeMap, BTreeSet};

use logothete_core::eval::{JudgedPlace, JudgedRanking};
use logothete_core::eval::{
    MEASURES, MeasureGroup, Mismatch, Outcome, QuestionScore, Run, SHORT_MEASURES, SetQuestion, Tried, Tuner, compare,
    mismatches, read_questions, score_ranking,
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};

fn score(fields: Value) -> QuestionScore {
    let mut all = json!({
        "id": "q1", "question": "Where is the bell?", "refuse": false, "refused": false, "cited": null, "said": null, "first_rank": null,
        "metrics": {},
    });
    if let (Value::Object(all), Value::Object(fields)) = (&mut all, fields) {
        all.extend(fields);
    }
    serde_json::from_value(all).expect("a score")
}

#[rstest]
#[case(json!({ "cited": true, "metrics": { "first_cited": 1.0 } }), Outcome::CitedRight, true)]
#[case(json!({ "cited": true, "said": true, "metrics": { "first_cited": 1.0 } }), Outcome::CitedRight, true)]
#[case(json!({ "cited": true, "metrics": { "first_cited": 0.0 } }), Outcome::CitedNotFirst, false)]
#[case(json!({ "cited": true, "said": false, "metrics": { "first_cited": 1.0 } }), Outcome::CitedNotSaid, false)]
#[case(json!({ "cited": false, "said": true }), Outcome::CitedWrong, false)]
#[case(json!({ "cited": false, "refused": true }), Outcome::RefusedWrong, false)]
#[case(json!({ "refuse": true, "refused": true }), Outcome::RefusedRight, true)]
#[case(json!({ "refuse": true }), Outcome::AnsweredWrong, false)]
#[case(json!({ "first_rank": 4 }), Outcome::Found, true)]
#[case(json!({}), Outcome::NotFound, false)]
fn every_question_has_one_outcome(#[case] fields: Value, #[case] expected: Outcome, #[case] is_right: bool) {
    let outcome = score(fields).outcome();
    assert_eq!((outcome, outcome.is_right()), (expected, is_right));
    assert_eq!(Outcome::ALL.iter().filter(|known| known.name() == outcome.name()).count(), 1);
}

#[test]
fn measures_have_names_of_their_own_and_say_what_they_mean() {
    let names: BTreeSet<&str> = MEASURES.iter().map(|measure| measure.name).collect();
    assert_eq!(names.len(), MEASURES.len());
    assert!(SHORT_MEASURES.iter().all(|name| names.contains(name)));
    assert!(MEASURES.iter().all(|measure| measure.meaning.split(' ').count() >= 2));
    // Those of a group stand together, as the tables show them.
    let mut groups: Vec<MeasureGroup> = MEASURES.iter().map(|measure| measure.group).collect();
    groups.dedup();
    assert_eq!(groups, [MeasureGroup::Search, MeasureGroup::Answers, MeasureGroup::Cost]);
}

/// Two places at ranks 1 and 3, and one of two places at rank 2: recall is 1/4, 1/2, 3/4.
#[test]
fn recall_rises_with_the_number_of_passages() {
    let ranking = |ranks: &[Option<usize>]| JudgedRanking {
        places: ranks.iter().map(|rank| JudgedPlace { grade: 1, ranks: rank.iter().copied().collect() }).collect(),
    };
    let first = score_ranking("a", &ranking(&[Some(1), Some(3)]));
    let second = score_ranking("b", &ranking(&[Some(2), None]));
    assert_eq!((first.first_rank, second.metrics["hit@1"], second.metrics["recall@10"]), (Some(1), 0.0, 0.5));
    let unanswerable = score(json!({ "id": "c", "refuse": true }));
    let run = Run::new("one", vec![first, second, unanswerable]);
    assert_eq!(run.recall_curve(4), [0.25, 0.5, 0.75, 0.75]);
    assert!(Run::new("none", vec![score(json!({ "refuse": true }))]).recall_curve(3).is_empty());
}

#[test]
fn questions_are_told_which_documents_are_gone_or_changed() {
    let set = [
        r#"{"id": "1", "question": "A?", "relevant": [{"document": "berths.md", "content_hash": "abcd"}]}"#,
        r#"{"id": "2", "question": "B?", "relevant": [{"document": "berths.md", "content_hash": "ffff"}]}"#,
        r#"{"id": "3", "question": "C?", "relevant": [{"document": "bridge.md"}, {"document": "brige.md"}]}"#,
        r#"{"id": "4", "question": "D?", "relevant": [{"document": "brige.md"}]}"#,
        r#"{"id": "5", "question": "E?", "relevant": [{"document": "something-else.pdf"}]}"#,
        r#"{"id": "6", "question": "F?", "refuse": true}"#,
    ];
    let questions = read_questions(&set.join("\n")).expect("questions");
    let documents = [("berths.md", "abcdef01"), ("bridge.md", "12345678")];
    let documents = documents.into_iter().map(|(name, hash)| (name.to_owned(), hash.to_owned())).collect();
    let mismatch = |document: &str, questions: &[&str], changed: bool, nearest: Option<&str>| Mismatch {
        document: document.to_owned(),
        questions: questions.iter().map(|id| (*id).to_owned()).collect(),
        changed,
        nearest: nearest.map(str::to_owned),
    };
    let expected = [
        mismatch("berths.md", &["2"], true, None),
        mismatch("brige.md", &["3", "4"], false, Some("bridge.md")),
        mismatch("something-else.pdf", &["5"], false, None),
    ];
    assert_eq!(mismatches(&questions, &documents), expected);
}

#[test]
fn a_changed_question_says_what_came_first_before_and_after() {
    let run = |name: &str, rank: usize, place: Option<&str>| {
        let mut one = score(json!({ "first_rank": rank, "metrics": { "mrr": 1.0 / rank as f64 } }));
        one.details.passages = place
            .map(|place| logothete_core::eval::FoundPassage {
                document: place.to_owned(),
                place: place.to_owned(),
                score: 1.0,
                text: String::new(),
                right: false,
            })
            .into_iter()
            .collect();
        Run::new(name, vec![one])
    };
    let comparisons = compare(&run("before", 2, Some("bell.md")), &[run("after", 1, None)]);
    let changed = &comparisons[0].changed[0];
    assert_eq!((changed.ranks, changed.first_places.clone()), ([Some(2), Some(1)], [Some("bell.md".to_owned()), None]));
    assert_eq!(changed.measures["mrr"], [0.5, 1.0]);
}

fn about(documents: &[usize]) -> Vec<SetQuestion> {
    let question = |(at, document): (usize, &usize)| {
        let json = json!({ "id": format!("q{at}"), "question": "Where?", "relevant": [{ "document": format!("{document}.md") }] });
        serde_json::from_value(json).expect("a question")
    };
    documents.iter().enumerate().map(question).collect()
}

fn tried(key: &str, values: usize) -> Tried {
    Tried { key: key.to_owned(), values: (0..values).map(|value| value.to_string()).collect() }
}

/// Tunes until nothing is left to measure; `value` gives the measure of a question under some values.
fn tuned(
    settings: Vec<Tried>,
    questions: &[SetQuestion],
    measure: &str,
    value: impl Fn(&[(&str, &str)], usize) -> f64,
) -> (Tuner, usize) {
    let mut tuner = Tuner::new(settings, measure, questions);
    let mut steps = 0;
    while let Some(choice) = tuner.next() {
        let set: Vec<(&str, &str)> = tuner.values(&choice).collect();
        let scores = questions.iter().enumerate();
        let scores =
            scores.map(|(at, question)| score(json!({ "id": question.id, "metrics": { measure: value(&set, at) } })));
        let run = Run::new("one", scores.collect());
        tuner.add(choice, &run);
        steps += 1;
        assert!(steps < 10_000, "it ends");
    }
    (tuner, steps)
}

#[test]
fn less_of_some_measures_is_better() {
    let questions = about(&(0..20).collect::<Vec<_>>());
    let value = |set: &[(&str, &str)], _: usize| if set.contains(&("a", "1")) { 0.1 } else { 0.4 };
    let (tuner, _) = tuned(vec![tried("a", 3)], &questions, "wrongly_refused", value);
    let tuned = tuner.finish().expect("a conclusion");
    assert_eq!(tuned.best, [("a".to_owned(), Some("1".to_owned()))]);
    assert!((tuned.before - 0.4).abs() < 1e-9 && (tuned.after - 0.1).abs() < 1e-9 && (tuned.gain - 0.3).abs() < 1e-9);
    assert!(tuned.is_real);
}

#[test]
fn questions_about_one_document_show_nothing_about_others() {
    let questions = about(&[7; 20]);
    let value = |set: &[(&str, &str)], _: usize| if set.is_empty() { 0.1 } else { 0.9 };
    let (tuner, _) = tuned(vec![tried("a", 1)], &questions, "mrr", value);
    let tuned = tuner.finish().expect("a conclusion");
    assert_eq!((tuned.folds, tuned.documents, tuned.is_real, tuned.interval), (0, 1, false, None));
}

#[test]
fn nothing_is_concluded_before_the_configured_settings_are_measured() {
    let mut tuner = Tuner::new(vec![tried("a", 2)], "mrr", &about(&[1, 2]));
    assert_eq!((tuner.next(), tuner.finish()), (Some(vec![None]), None));
    tuner.add(vec![Some(0)], &Run::new("one", vec![score(json!({ "id": "q0", "metrics": { "mrr": 1.0 } }))]));
    assert_eq!((tuner.next(), tuner.finish(), tuner.choices()), (Some(vec![None]), None, 1));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    /// However the results are, it ends, tries no choice twice, and what it reports agrees with what was measured.
    #[test]
    fn tuning_is_sound(
        documents in proptest::collection::vec(0..6_usize, 1..25),
        sizes in proptest::collection::vec(0..4_usize, 1..4),
        seed in 0..1_000_u64,
    ) {
        let questions = about(&documents);
        let settings: Vec<Tried> = sizes.iter().enumerate().map(|(at, size)| tried(&format!("s{at}"), *size)).collect();
        let value = |set: &[(&str, &str)], at: usize| {
            let mixed = set.iter().fold(seed + at as u64, |sum, (key, value)| {
                sum.wrapping_mul(31).wrapping_add(key.len() as u64 + value.bytes().map(u64::from).sum::<u64>())
            });
            (mixed.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40) as f64 / f64::from(1 << 24)
        };
        let (tuner, steps) = tuned(settings.clone(), &questions, "mrr", value);
        let all: usize = settings.iter().map(|setting| setting.values.len() + 1).product();
        prop_assert!(steps <= all && steps == tuner.choices());
        let tuned = tuner.finish().expect("a conclusion");
        prop_assert!(tuned.after + 1e-9 >= tuned.before, "the best is no worse than the configured one");
        let different: BTreeSet<&usize> = documents.iter().collect();
        prop_assert_eq!(tuned.documents, different.len());
        prop_assert_eq!(tuned.folds, if different.len() > 1 { different.len().min(5) } else { 0 });
        prop_assert!((0.0..=1.0).contains(&tuned.probability));
        let set: Vec<(&str, &str)> =
            tuned.best.iter().filter_map(|(key, value)| Some((key.as_str(), value.as_deref()?))).collect();
        let mean = (0..questions.len()).map(|at| value(&set, at)).sum::<f64>() / questions.len() as f64;
        prop_assert!((mean - tuned.after).abs() < 1e-9);
    }

    /// Each mismatch is named once, with every question that it concerns.
    #[test]
    fn mismatches_are_complete(named in proptest::collection::vec((0..5_usize, "[ab]{0,2}"), 0..12), known in proptest::collection::btree_map(0..5_usize, "[ab]{2}", 0..5)) {
        let line = |(at, (document, hash)): (usize, &(usize, String))| {
            let hash = if hash.is_empty() { Value::Null } else { Value::String(hash.clone()) };
            let place = json!({ "document": format!("{document}.md"), "content_hash": hash });
            serde_json::from_value::<SetQuestion>(json!({ "id": at.to_string(), "question": "?", "relevant": [place] })).expect("a question")
        };
        let questions: Vec<SetQuestion> = named.iter().enumerate().map(line).collect();
        let documents: BTreeMap<String, String> = known.iter().map(|(name, hash)| (format!("{name}.md"), hash.clone())).collect();
        let found = mismatches(&questions, &documents);
        let wrong = named.iter().filter(|(document, hash)| known.get(document).is_none_or(|is| !is.starts_with(hash.as_str()))).count();
        prop_assert_eq!(found.iter().map(|one| one.questions.len()).sum::<usize>(), wrong);
        let names: BTreeSet<(&str, bool)> = found.iter().map(|one| (one.document.as_str(), one.changed)).collect();
        prop_assert_eq!(names.len(), found.len());
    }
}
