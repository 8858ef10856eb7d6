//! Pipelines that users compose: legs with rules, transforms and checks of their own.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use logothete::config::{Config, GeneratorRole};
use logothete::eval::read_questions;
use logothete::search::{Leg, LegHit, LegQuestion, Rule, Transform, TransformKind};
use logothete::trace::TraceDetails;
use logothete::verify::Verdict;
use logothete::{
    Check, ClaimToCheck, Corpus, Error, ErrorKind, MemorySource, Objection, Pipeline, Result, SearchRequest,
};
use logothete_simulator::ScriptedGenerator;
use rstest::rstest;

/// A corpus of four short notices.
pub async fn corpus(pipeline: Pipeline) -> Corpus {
    let source = MemorySource::new("quays")
        .with("fog.md", "# Fog\n\nIn fog the watch rings the bell on the mole each minute.\n")
        .with("ice.md", "# Ice\n\nIce is broken at six by the tug on duty.\n")
        .with("dues.md", "# Dues\n\nDues are paid at the window of the harbour office, which takes 40 marks.\n")
        .with("rope.md", "# Ropes\n\nRopes are dried in the loft when the wind is in the east.\n");
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(source).await.expect("a build");
    corpus
}

/// Finds the document of ropes, whatever is asked, and counts how often it was asked.
struct Ropes(Arc<AtomicUsize>);

impl Leg for Ropes {
    fn name(&self) -> &'static str {
        "ropes"
    }

    fn find(&self, _: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        self.0.fetch_add(1, Ordering::Relaxed);
        Ok(vec![LegHit::document("rope.md", 1.0)])
    }
}

#[rstest]
#[case("Who rings the bell in fog?", 0)]
#[case("Who rings the bell at the berth?", 1)]
#[case("berth", 1)]
#[tokio::test]
async fn a_leg_with_rules_runs_for_some_questions(#[case] question: &str, #[case] runs: usize) {
    let asked = Arc::new(AtomicUsize::new(0));
    let pipeline = Pipeline::default()
        .with_leg(Ropes(asked.clone()), 1.0)
        .with_leg_when("ropes", [Rule::Words("berth".to_owned()), Rule::Words("quay".to_owned())]);
    let corpus = corpus(pipeline).await;
    let found = corpus.search(SearchRequest::new(question).traced()).await.expect("a search");
    assert_eq!(asked.load(Ordering::Relaxed), runs);
    let ran = found.passages.iter().any(|passage| passage.legs.contains_key("ropes"));
    assert_eq!(ran, runs > 0);
    let said = found.trace.records.iter().any(|record| {
        matches!(&record.details, TraceDetails::LeftOut { note }
            if note == "The leg “ropes” runs only when the question has “berth”, or the question has “quay”.")
    });
    assert_eq!((said, found.notes.len()), (runs == 0, 0), "{:?}", found.trace);
}

#[test]
fn code_and_configuration_say_the_same() {
    let written = "[search]\nlegs = { headings = 0.3 }\nwhen = { headings = [{ words = \"berth\" }] }";
    let config = Config::parse(written).expect("settings");
    let coded = Pipeline::default()
        .configured(|config| {
            config.search.legs.insert("headings".to_owned(), 0.3);
        })
        .with_leg_when("headings", [Rule::Words("berth".to_owned())]);
    assert_eq!(&config, coded.config());
    assert_eq!(config.search.plan().legs[2].when, [Rule::Words("berth".to_owned())]);
}

#[rstest]
#[case("[search]\nwhen = { headings = [{ words = \"berth\" }] }", "the leg “headings” has rules and no weight")]
#[case("[search]\nwhen = { vector = [{ language = \"tlh\" }] }", "“tlh” is not the code of a language")]
#[case("[search]\nwhen = { vector = [{ wrds = \"berth\" }] }", "wrds")]
fn rules_that_cannot_be_are_named(#[case] written: &str, #[case] said: &str) {
    let error = Config::parse(written).and_then(|config| config.validate()).expect_err("a mistake").to_string();
    assert!(error.contains(said), "{error}");
}

/// What the harbour's people call things.
struct Slang;

impl Transform for Slang {
    fn name(&self) -> &'static str {
        "slang"
    }

    fn queries(&self, question: &str) -> Result<Vec<String>> {
        Ok(match question {
            text if text.contains("fail") => return Err(Error::new(ErrorKind::NotFound, "there is no dictionary")),
            text if text.contains("panic") => panic!("the dictionary is torn"),
            text if text.contains("damage") => vec![text.replace("damage", "dues at the window"), "!?".to_owned()],
            _ => Vec::new(),
        })
    }
}

#[tokio::test]
async fn a_transform_of_ones_own_is_searched_for_too() {
    let corpus = corpus(Pipeline::default().with_transform(Slang)).await;
    let question = "Where do I settle the damage?";
    let found = corpus.search(SearchRequest::new(question).traced()).await.expect("a search");
    assert_eq!(found.passages[0].location.document, "dues.md");
    assert_eq!(found.parts.len(), 1, "a query without words is none: {:?}", found.parts);
    assert_eq!(found.parts[0].query, "Where do I settle the dues at the window?");
    let kinds: Vec<&str> = found
        .trace
        .records
        .iter()
        .filter_map(|record| match &record.details {
            TraceDetails::Transform { kind, .. } => Some(kind.as_str()),
            _ => None,
        })
        .collect();
    assert_eq!(kinds, ["slang"]);

    let reply = corpus.ask(question).await.expect("an answer");
    assert!(reply.answer.answer.contains("window of the harbour office"), "{reply}");
    let both = corpus.ask("Who rings the bell in fog, and where do I settle the damage?").await.expect("an answer");
    assert!(both.answer.answer.contains("bell on the mole") && both.answer.answer.contains("window"), "{both}");

    let plain = corpus.search("Who breaks the ice?").await.expect("a search");
    assert!(plain.parts.is_empty() && plain.notes.is_empty());
}

#[tokio::test]
async fn a_transform_counts_in_an_evaluation_and_for_a_model() {
    let generator =
        ScriptedGenerator::new("scripted", |_| "Dues are paid at the window of the harbour office. [1]".to_owned());
    let with = Pipeline::default().with_transform(Slang);
    let corpus_of_model = corpus(with.clone().with_generator_for(GeneratorRole::Answer, generator)).await;
    let question = "Where do I settle the damage?";
    let reply = corpus_of_model.ask(question).await.expect("an answer");
    assert_eq!(reply.passages[0].location.document, "dues.md");

    let line = r#"{"id": "1", "question": "Where do I settle the damage?", "relevant": [{"document": "dues.md"}]}"#;
    let run = corpus(with).await.evaluate("own", read_questions(line).expect("a question")).await.expect("a run");
    assert!((run.metrics["hit@1"] - 1.0).abs() < 1e-6, "{run:?}");
}

#[rstest]
#[case("fail", "The transform “slang” failed, and the question was searched as it is: there is no dictionary.")]
#[case(
    "panic",
    "The transform “slang” failed, and the question was searched as it is: the transform panicked: the dictionary is torn."
)]
#[tokio::test]
async fn a_transform_that_fails_leaves_the_question(#[case] word: &str, #[case] note: &str) {
    let corpus = corpus(Pipeline::default().with_transform(Slang)).await;
    let found = corpus.search(format!("Who rings the bell in fog, {word}?")).await.expect("a search");
    assert_eq!(found.passages[0].location.document, "fog.md");
    assert_eq!(found.notes, [note]);
}

#[tokio::test]
async fn a_transform_that_is_missing_is_named() {
    let pipeline = Pipeline::default().configured(|config| config.search.transform = TransformKind::Own);
    let error = corpus(pipeline).await.search("fog").await.expect_err("no transform");
    assert_eq!(error.place(), Some("[search] transform"));
    assert!(error.message().contains("give it one by with_transform"), "{error}");
}

/// The house does not name sums of money, and is not sure of what it says about bells.
struct House;

impl Check for House {
    fn name(&self) -> &'static str {
        "house"
    }

    fn check(&self, claim: &ClaimToCheck<'_>) -> Result<Option<Objection>> {
        assert!(!claim.quotations.is_empty() || claim.verdict != Verdict::Supported, "{claim:?}");
        match claim.text {
            text if text.contains("marks") => Ok(Some(Objection::unsupported("sums are told at the window"))),
            text if text.contains("bell") => Err(Error::new(ErrorKind::System, "the list of bells is locked")),
            text if text.contains("tug") => panic!("no tugs"),
            _ => Ok(None),
        }
    }
}

#[rstest]
#[case(
    "How many marks does the window of the harbour office take?",
    Verdict::Unsupported,
    "the check “house” objects: sums are told at the window"
)]
#[case("Who rings the bell in fog?", Verdict::Partly, "the check “house” failed: the list of bells is locked")]
#[case("Who breaks the ice at six?", Verdict::Partly, "the check “house” failed: the check panicked: no tugs")]
#[tokio::test]
async fn a_check_of_ones_own_judges_an_answer(#[case] question: &str, #[case] verdict: Verdict, #[case] reason: &str) {
    let reply = corpus(Pipeline::default().with_check(House)).await.ask(question).await.expect("an answer");
    let claim = &reply.answer.claims[0];
    assert_eq!((claim.verdict, claim.reason.as_deref()), (verdict, Some(reason)), "{reply}");
}

#[tokio::test]
async fn what_a_check_objects_to_is_left_out_or_the_answer_is_refused() {
    let pipeline = |policy: &str| {
        let config = Config::parse(&format!("[answer]\nunsupported = \"{policy}\"")).expect("settings");
        Pipeline::from_config(&config).expect("a pipeline").with_check(House)
    };
    let question = "How many marks does the window of the harbour office take?";
    let dropped = corpus(pipeline("drop")).await.ask(question).await.expect("an answer").answer;
    assert!(dropped.is_refusal() && !dropped.answer.contains("40 marks"), "{dropped:?}");
    assert_eq!(dropped.note.as_deref(), Some("1 sentence left out that a check objects to."));
    let refused = corpus(pipeline("refuse")).await.ask(question).await.expect("an answer").answer;
    assert_eq!(refused.answer, "There is an answer, but a check objects to 1 sentence of it; it is not shown.");
    assert!(refused.is_refusal() && refused.sources.is_empty());
}

#[tokio::test]
async fn a_check_judges_what_a_model_writes_and_texts_that_are_checked() {
    let reply =
        "Dues are paid at the window of the harbour office, which takes 40 marks. [1] Ropes are dried in the loft. [2]";
    let pipeline = Pipeline::default().with_check(House);
    let corpus = corpus(pipeline.with_generator(ScriptedGenerator::new("scripted", |_| reply.to_owned()))).await;
    let told = Arc::new(std::sync::Mutex::new(Vec::new()));
    let heard = told.clone();
    let reply = corpus
        .ask_streaming("How many marks does the window take, where are ropes dried?", move |event| {
            if let logothete::answer::AskEvent::Claim(claim) = event {
                heard.lock().expect("a lock").push(claim.verdict);
            }
        })
        .await
        .expect("an answer");
    assert_eq!(
        reply.answer.claims[0].reason.as_deref(),
        Some("the check “house” objects: sums are told at the window")
    );
    assert!(told.lock().expect("a lock").contains(&Verdict::Unsupported));

    let report = corpus
        .check("text.md", "Dues are paid at the window of the harbour office, which takes 40 marks.")
        .await
        .expect("a report");
    assert_eq!(report.claims[0].verdict, Verdict::Unsupported);
    assert_eq!(report.claims[0].reason.as_deref(), Some("the check “house” objects: sums are told at the window"));
}
