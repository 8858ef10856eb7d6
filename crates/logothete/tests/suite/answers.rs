//! Search and answers on the demo's documents: what is cited is there, and how good it is.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use logothete::answer::Status;
use logothete::document::Date;
use logothete::eval::{Run, read_questions};
use logothete::trace::Trace;
use logothete::verify::Verdict;
use logothete::{Config, Corpus, ErrorKind, MemorySource, Pipeline, SearchRequest};
use rstest::rstest;
use tempfile::TempDir;

fn demo() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo")
}

/// The demo's documents, built once for all tests.
fn built() -> &'static Path {
    static BUILT: OnceLock<TempDir> = OnceLock::new();
    let build = async |folder: &Path| {
        let corpus = Pipeline::default().open(folder).await.expect("a corpus");
        corpus.build(demo().join("documents")).await.expect("a build");
    };
    let folder = BUILT.get_or_init(|| {
        // Nothing drops a static, so the folder stays; it goes with the target folder.
        let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a temporary folder");
        // A runtime cannot run inside that of a test, so this one has a thread.
        std::thread::scope(|scope| {
            let run =
                || tokio::runtime::Builder::new_current_thread().build().map(|own| own.block_on(build(folder.path())));
            scope.spawn(run).join().expect("it builds").expect("a runtime");
        });
        folder
    });
    folder.path()
}

/// A corpus of the demo's documents, and the folder around it.
pub async fn corpus() -> (Corpus, TempDir) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let own = folder.path().join("h.corpus");
    copy(built(), &own);
    (Pipeline::default().open(own).await.expect("a corpus"), folder)
}

/// Copies a folder with what is in it.
fn copy(from: &Path, to: &Path) {
    std::fs::create_dir(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("a folder") {
        let entry = entry.expect("an entry");
        let place = to.join(entry.file_name());
        match entry.file_type().expect("a type").is_dir() {
            true => copy(&entry.path(), &place),
            false => drop(std::fs::copy(entry.path(), place).expect("a copy")),
        }
    }
}

async fn run(split: &str) -> Run {
    let text = std::fs::read_to_string(demo().join("questions.jsonl")).expect("the questions");
    let mut questions = read_questions(&text).expect("a question set");
    assert_eq!(questions.len(), 132);
    questions.retain(|question| question.split.as_deref() == Some(split));
    let (corpus, _folder) = corpus().await;
    corpus.evaluate(split, questions).await.expect("an evaluation")
}

#[rstest]
#[case("dev")]
#[case("test")]
#[tokio::test]
async fn quality_stays_above_its_floor(#[case] split: &str) {
    let run = run(split).await;
    for (measure, value) in &run.metrics {
        println!("{split} {measure:<15} {value:.3}");
    }
    assert!(
        run.metrics["first_cited"] >= 0.7,
        "a right place is cited first for {:.2} of the answerable questions",
        run.metrics["first_cited"]
    );
    assert!(run.metrics["doubted"] >= 0.3, "{:.2} of the unanswerable questions are doubted", run.metrics["doubted"]);
    assert!(run.metrics["recall@10"] >= 0.8);
}

#[tokio::test]
async fn every_quotation_is_in_its_document_and_every_claim_is_checked() {
    let (corpus, _folder) = corpus().await;
    let text = std::fs::read_to_string(demo().join("questions.jsonl")).expect("the questions");
    for question in read_questions(&text).expect("a question set") {
        let answer = corpus.ask(&question.question).await.expect("an answer or a refusal");
        assert_eq!(answer.answer.is_refusal(), answer.answer.sources.is_empty(), "{}", question.id);
        for source in &answer.answer.sources {
            let bytes = std::fs::read(demo().join("documents").join(&source.location.document)).expect("the document");
            let document = logothete::parse(&source.location.document, &bytes).expect("readable");
            assert_eq!(document.slice(source.location.span), source.quotation, "{}", question.id);
            assert_eq!(document.pages(source.location.span), source.location.pages);
            assert!(source.matches.iter().all(|span| source.quotation.get(span.range()).is_some()));
        }
        for claim in &answer.answer.claims {
            assert!(claim.verdict.is_borne_out(), "{}: {}", question.id, claim.text);
            assert!(claim.citations.iter().all(|marker| (1..=answer.answer.sources.len()).contains(marker)));
        }
    }
}

#[rstest]
#[case("Which berth is used by ferries, and what does the tug Steadfast cost per hour?", &["Berth 8", "410.00"])]
#[case("What is the greatest draught at Berth 7?", &["7.9 metres"])]
#[tokio::test]
async fn parts_are_answered_apart_and_corrections_go_first(#[case] question: &str, #[case] expected: &[&str]) {
    let (corpus, _folder) = corpus().await;
    let answer = corpus.ask(SearchRequest::new(question).traced()).await.expect("an answer");
    for words in expected {
        assert!(answer.answer.answer.contains(words), "{answer}");
    }
    let json = serde_json::to_value(&answer.trace).expect("JSON");
    let stages: Vec<&str> = json.as_array().expect("a list").iter().filter_map(|step| step["stage"].as_str()).collect();
    assert_eq!(stages.contains(&"split"), expected.len() > 1);
    assert_eq!((stages.first(), stages.last()), (Some(&"ask"), Some(&"check")));
    // Each search is a step with steps of its own, all of them parts of the question.
    let records = &answer.trace.records;
    assert_eq!(stages.iter().filter(|stage| **stage == "search").count(), expected.len());
    assert!(records.iter().skip(1).all(|record| record.parent.is_some_and(|parent| parent < record.id)));
    assert!(
        records
            .iter()
            .all(|record| record.start_ms + record.took_ms <= records[0].start_ms + records[0].took_ms + 0.01)
    );
    assert_eq!(serde_json::from_value::<Trace>(json.clone()).expect("a trace").records.len(), records.len());
}

#[tokio::test]
async fn what_is_computed_over_a_table_cites_its_rows() {
    let (corpus, _folder) = corpus().await;
    let question = "How many bollards are there on Gasworks Quay in all?";
    let reply = corpus.ask(SearchRequest::new(question).traced()).await.expect("an answer").answer;
    let claim = &reply.claims[0];
    assert_eq!((reply.status, claim.verdict, claim.citations.len()), (Status::Answered, Verdict::Computed, 3));
    assert!(claim.text.contains("33") && reply.confidence.is_none(), "{reply:?}");
    for source in &reply.sources {
        let text = corpus.parsed(&source.location.document).await.expect("a document").text;
        // A row is quoted as the document has it.
        assert_eq!(&text[source.location.span.range()], source.quotation);
    }
}

#[tokio::test]
async fn what_is_not_sure_says_what_is_missing() {
    let (corpus, _folder) = corpus().await;
    let reply = corpus.ask("How many tonnes does Crane 3 lift?").await.expect("an answer");
    assert_eq!((reply.answer.status, reply.answer.is_refusal()), (Status::Closest, false));
    assert!(reply.answer.confidence.is_some_and(|confidence| (0.0..1.0).contains(&confidence)));
    assert!(reply.answer.reason.as_ref().is_some_and(|reason| reason.contains("“Crane 3”")), "{reply}");
    assert!(reply.to_string().contains("Not sure"), "{reply}");
    let sure = corpus.ask("What does a diving permit cost?").await.expect("an answer");
    assert_eq!(sure.answer.status, Status::Answered);
    let none = corpus.ask("How do I renew my passport?").await.expect("a refusal");
    assert!(none.answer.is_refusal() && none.answer.sources.is_empty());
}

#[tokio::test]
async fn an_answer_is_as_of_a_day() {
    let (corpus, _folder) = corpus().await;
    let question = "What is the greatest draught at Berth 7?";
    let first = async |request: SearchRequest| {
        let reply = corpus.ask(request).await.expect("an answer");
        (reply.answer.claims[0].text.clone(), reply.answer.note)
    };
    let (now, note) = first(SearchRequest::new(question)).await;
    assert!(now.contains("7.9 metres"), "{now}");
    assert!(note.is_some_and(|note| note.starts_with("Sources disagree: ")));
    let day = Date::from_written("2025-04-01").expect("a day");
    let (then, _) = first(SearchRequest::new(question).as_of(day)).await;
    assert!(then.contains("7.6 metres") || then.contains("8.4"), "{then}");
}

#[rstest]
#[case("questions.md", "# Questions\n\nWhen is the gate shut?\n\nWho shuts the gate?\n")]
#[case("contents.md", "# Contents\n\n- [The gate](#gate)\n- [Shutting the gate](#shut)\n- [Who shuts it](#who)\n")]
#[tokio::test]
async fn a_document_of_questions_or_contents_answers_nothing(#[case] name: &str, #[case] text: &str) {
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    corpus.build(MemorySource::new("gate").with(name, text)).await.expect("a build");
    let reply = corpus.ask("When is the gate shut?").await.expect("a refusal");
    assert!(reply.answer.is_refusal(), "{reply}");
}

#[rstest]
#[case("The gate is shut at nine.")]
#[case("When is the gate shut? Who shuts it? Why is it shut? Where is the gate?")]
#[case("longest ?!")]
#[tokio::test]
async fn whatever_is_asked_is_answered_or_refused(#[case] question: &str) {
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    let text =
        "# Gate\n\nThe gate is shut at nine by the watch, because thieves come at night. It stands on the quay.\n";
    corpus.build(MemorySource::new("gate").with("gate.md", text)).await.expect("a build");
    let reply = corpus.ask(question).await.expect("a reply");
    assert!(!reply.answer.answer.is_empty());
    let long = question.repeat(5_000 / question.split(' ').count());
    assert!(!corpus.ask(long).await.expect("a reply").answer.answer.is_empty());
}

#[tokio::test]
async fn a_table_of_a_hundred_thousand_rows_is_computed_over() {
    let mut text = "Buoy,Depth (m)\n".to_owned();
    (0..100_000).for_each(|number| text.push_str(&format!("Buoy {number},{}.{}\n", number % 977, number % 10)));
    text.push_str("Buoy 100001,9999.5\n");
    let corpus = Pipeline::from_config(&Config::parse("[encoder]\nkind = \"hashing\"\n").expect("settings"))
        .expect("a pipeline")
        .in_memory()
        .await
        .expect("a corpus");
    corpus.build(MemorySource::new("buoys").with("buoys.csv", text)).await.expect("a build");
    let reply = corpus.ask("Which buoy is the deepest?").await.expect("an answer");
    assert!(reply.answer.answer.contains("Buoy 100001") && reply.answer.answer.contains("100001 rows"), "{reply}");
}

#[tokio::test]
async fn a_part_without_an_answer_is_named() {
    let (corpus, _folder) = corpus().await;
    let question = "What is the bollard pull of the tug Steadfast, and who wrote the opera Turnip Wedding?";
    let answer = corpus.ask(question).await.expect("half an answer");
    assert_eq!((answer.answer.status, answer.answer.claims.len()), (Status::Answered, 1));
    assert!(answer.answer.answer.ends_with("to this part: who wrote the opera Turnip Wedding?"), "{answer}");
}

#[tokio::test]
async fn nothing_to_ask_and_nothing_to_find() {
    let (corpus, folder) = corpus().await;
    let error = corpus.ask(SearchRequest::new("  ").traced()).await.expect_err("an empty question");
    assert_eq!(error.kind(), ErrorKind::InvalidRequest);
    let failed = error.trace().expect("a trace").records.iter().filter(|record| !record.outcome.is_done()).count();
    assert_eq!(failed, 2, "the question and the search in it");
    assert!(corpus.ask("  ").await.expect_err("an empty question").trace().is_none());
    let empty = Pipeline::default().open(folder.path().join("e.corpus")).await.expect("a corpus");
    let answer = empty.ask("Is anybody there?").await.expect("a refusal");
    assert!(answer.answer.is_refusal() && answer.answer.nearest.is_empty());
    assert!(empty.search("bridge").await.expect("a search").passages.is_empty());
}

#[rstest]
#[case("[chunk]\nlimt = 3\n", "unknown key `limt` in [chunk]; did you mean `limit`?")]
#[case("[chunks]\nlimit = 3\n", "unknown key `chunks`; did you mean `chunk`?")]
#[case(
    "[search]\nzebra = 1\n",
    "unknown key `zebra` in [search]; known keys: passages, keyword, vector, legs, when, depth, fusion, rerank, contents, diversity, expand, synonyms, abbreviations, transform, filter, allow"
)]
#[case("[chunk]\nlimit = \"many\"\n", "line 2")]
#[case("[chunk\n", "this is not valid TOML")]
fn a_configuration_that_is_wrong_says_where(#[case] text: &str, #[case] expected: &str) {
    let error = Config::parse(text).expect_err("a mistake");
    assert_eq!(error.kind(), ErrorKind::Configuration);
    assert!(error.to_string().contains(expected), "{error}");
}

#[rstest]
#[case("[chunk]\nlimit = 10\noverlap = 9\n", "set the overlap to 4 or less")]
#[case("[search]\nkeyword = 0\nvector = 0\n", "one of them above 0")]
#[case("[search]\npassages = 0\n", "set 1 or more")]
#[case("[answer]\nmin_confidence = 2\n", "from 0 to 1")]
#[case("[encoder]\nkind = \"hashing\"\ndimensions = 3\n", "16 to 65536")]
#[case("[encoder]\nkind = \"folder\"\n", "set it to the folder of the model")]
#[case(
    "[encoder]\nkind = \"remote\"\nmodel = \"m\"\naddress = \"http://quay.test/\"\n",
    "add it to allow in [privacy]"
)]
#[case("[encoder]\nprice = -1.0\n", "0 or more")]
#[case("[limits]\nmoney = 1.0\n", "as long as no price is set")]
fn a_setting_that_makes_no_sense_is_refused(#[case] text: &str, #[case] expected: &str) {
    let config = Config::parse(text).expect("it is well formed");
    let error =
        Pipeline::from_config(&config).and_then(|pipeline| pipeline.encoder()).err().expect("it makes no sense");
    assert!(error.to_string().contains(expected), "{error}");
}

#[rstest]
#[case("{\"id\": \"a\"}", "line 1")]
#[case("{\"id\": \"a\", \"question\": \"x\"}", "say where the answer is")]
#[case(
    "\n{\"id\":\"a\",\"question\":\"x\",\"refuse\":true}\n{\"id\":\"a\",\"question\":\"y\",\"refuse\":true}",
    "line 3: the id \"a\" was used before"
)]
fn a_question_set_that_is_wrong_says_where(#[case] text: &str, #[case] expected: &str) {
    let error = read_questions(text).expect_err("a mistake");
    assert!(error.to_string().contains(expected), "{error}");
}
