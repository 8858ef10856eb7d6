//! Many questions at a time, and answers as streams of steps.

use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::StreamExt;
use logothete::answer::AskStep;
use logothete::config::GeneratorRole;
use logothete::generate::{Generation, GenerationRequest, GenerationStream};
use logothete::trace::TraceDetails;
use logothete::{
    AskBatch, BatchReport, Corpus, ErrorKind, Fingerprint, Generator, Pipeline, SearchRequest, TokenUsage,
};
use logothete_simulator::ScriptedGenerator;
use serde_json::Value;

use crate::composing::corpus;

const QUESTIONS: [&str; 5] = [
    "Who rings the bell in fog?",
    "Who breaks the ice at six?",
    "?!",
    "Where are dues paid?",
    "Where are ropes dried in the east wind?",
];

fn lines(file: &Path) -> Vec<Value> {
    let text = fs::read_to_string(file).expect("answers");
    assert!(text.is_empty() || text.ends_with('\n'), "the last line is whole");
    text.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect()
}

/// The numbers of the lines, and whether each has a reply.
fn answered(file: &Path) -> Vec<(u64, bool)> {
    lines(file).iter().map(|line| (line["number"].as_u64().expect("a number"), line["reply"].is_object())).collect()
}

async fn asked(corpus: &Corpus, file: &Path) -> BatchReport {
    corpus.ask_batch(QUESTIONS, &AskBatch::new(file)).await.expect("a batch")
}

#[tokio::test]
async fn answers_stand_in_the_order_of_the_questions() {
    let (corpus, folder) = (corpus(Pipeline::default()).await, tempfile::tempdir().expect("a folder"));
    let file = folder.path().join("answers.jsonl");
    let report = asked(&corpus, &file).await;
    assert_eq!((report.questions, report.kept, report.answered, report.stopped), (5, 0, 4, false));
    assert_eq!(report.failed, [(3, "“?!” has no word to search for; add one".to_owned())]);
    assert_eq!(answered(&file), [(1, true), (2, true), (3, false), (4, true), (5, true)]);
    let lines = lines(&file);
    let alone = corpus.ask(QUESTIONS[1]).await.expect("an answer");
    assert_eq!(lines[1]["reply"]["answer"], Value::String(alone.answer.answer));
    assert_eq!((&lines[1]["question"], &lines[1]["version"]), (&Value::from(QUESTIONS[1]), &Value::from(1)));
    assert_eq!(lines[2]["error"], "“?!” has no word to search for; add one");
}

#[tokio::test]
async fn a_batch_that_broke_off_is_continued() {
    let (corpus, folder) = (corpus(Pipeline::default()).await, tempfile::tempdir().expect("a folder"));
    let file = folder.path().join("answers.jsonl");
    asked(&corpus, &file).await;
    let whole = fs::read_to_string(&file).expect("answers");

    // It is asked again what failed, and nothing else; the order is that of the questions.
    let report = asked(&corpus, &file).await;
    assert_eq!((report.kept, report.answered, report.failed.len()), (4, 0, 1));
    assert_eq!(fs::read_to_string(&file).expect("answers"), whole);

    // Wherever the process ended, the lines before are kept.
    let without_times = |text: &str| {
        let strip = |line: &str| {
            let mut line: Value = serde_json::from_str(line).expect("JSON");
            line["reply"].as_object_mut().map(|reply| reply.remove("trace"));
            line
        };
        text.lines().map(strip).collect::<Vec<Value>>()
    };
    let inside_a_character = whole.bytes().position(|byte| !byte.is_ascii()).expect("a quotation mark") + 1;
    for cut in (0..whole.len()).step_by(97).chain([whole.len() - 1, inside_a_character]) {
        fs::write(&file, &whole.as_bytes()[..cut]).expect("a file that broke off");
        let before = whole.as_bytes()[..cut].iter().filter(|byte| **byte == b'\n').count();
        let report = asked(&corpus, &file).await;
        let kept = if before >= 3 { before - 1 } else { before };
        assert_eq!((report.kept, report.kept + report.answered), (kept, 4), "cut at {cut}");
        assert_eq!(without_times(&fs::read_to_string(&file).expect("answers")), without_times(&whole), "cut at {cut}");
    }
    let names: Vec<_> =
        fs::read_dir(folder.path()).expect("a folder").flatten().map(|entry| entry.file_name()).collect();
    assert_eq!(names, ["answers.jsonl"], "nothing is left beside it");
}

#[tokio::test]
async fn a_batch_is_stopped_and_nothing_is_paid_for_twice() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("answers.jsonl");
    let generator = ScriptedGenerator::new("scripted", |_| "The watch rings the bell. [1]".to_owned());
    let corpus = corpus(Pipeline::default().with_generator_for(GeneratorRole::Answer, generator.clone())).await;
    let batch = AskBatch::new(&file).max_concurrent(1);
    let stop = batch.stop_token();
    let told = Arc::new(Mutex::new(Vec::new()));
    let heard = told.clone();
    let batch = batch.on_answer(move |progress| {
        heard.lock().expect("a lock").push((progress.number, progress.of, progress.outcome.is_ok()));
        if progress.number == 2 {
            stop.stop();
        }
    });
    let report = corpus.ask_batch(QUESTIONS, &batch).await.expect("a batch");
    assert!(report.stopped && report.answered >= 2 && report.answered < 4, "{report:?}");
    assert_eq!(told.lock().expect("a lock")[..2], [(1, 5, true), (2, 5, true)]);
    let paid = generator.asked().len();
    let report = asked(&corpus, &file).await;
    assert_eq!((report.stopped, report.kept + report.answered), (false, 4));
    assert_eq!(generator.asked().len(), 4, "{paid} were paid for before");
    assert_eq!(answered(&file).len(), 5);
}

#[tokio::test]
async fn a_file_of_something_else_is_left_alone() {
    let (corpus, folder) = (corpus(Pipeline::default()).await, tempfile::tempdir().expect("a folder"));
    let file = folder.path().join("answers.jsonl");
    asked(&corpus, &file).await;
    let whole = fs::read_to_string(&file).expect("answers");
    let refused = async |corpus: &Corpus, questions: &[&str]| {
        let outcome = corpus.ask_batch(questions.iter().copied(), &AskBatch::new(&file)).await;
        assert_eq!(fs::read_to_string(&file).expect("answers"), whole, "it is as it was");
        outcome.expect_err("another file").to_string()
    };
    let error = refused(&corpus, &["Who rings the bell in fog?", "Another question?"]).await;
    assert!(error.contains("line 2 answers another question; name another file, or remove this one"), "{error}");
    let other = crate::composing::corpus(Pipeline::default().configured(|config| config.search.passages = 3)).await;
    let error = refused(&other, &QUESTIONS).await;
    assert!(error.contains("line 1 was answered by another pipeline"), "{error}");
    let notes = folder.path().join("notes.txt");
    fs::write(&notes, "my notes\nmore\n").expect("a file");
    let error = corpus.ask_batch(QUESTIONS, &AskBatch::new(&notes)).await.expect_err("notes").to_string();
    assert!(error.contains("line 1 is no answer"), "{error}");
    assert_eq!(fs::read_to_string(&notes).expect("notes"), "my notes\nmore\n");

    let held = fs::File::open(&file).expect("a file");
    held.lock().expect("a lock");
    let error = corpus.ask_batch(QUESTIONS, &AskBatch::new(&file)).await.expect_err("a writer");
    assert_eq!(error.kind(), ErrorKind::Busy);
}

/// A model that counts how many replies it writes at a time.
#[derive(Clone, Default)]
struct Crowd {
    now: Arc<AtomicUsize>,
    most: Arc<AtomicUsize>,
}

impl Generator for Crowd {
    fn name(&self) -> String {
        "crowd".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["crowd"])
    }

    fn stream<'a>(&'a self, _: &'a GenerationRequest) -> GenerationStream<'a> {
        let whole = futures_util::stream::once(async {
            self.most.fetch_max(self.now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            tokio::time::sleep(Duration::from_millis(30)).await;
            self.now.fetch_sub(1, Ordering::SeqCst);
            Generation::new("The watch rings the bell. [1]", TokenUsage::default()).into_stream()
        });
        Box::pin(whole.flatten())
    }
}

#[tokio::test]
async fn so_many_are_asked_at_a_time_and_no_more() {
    let folder = tempfile::tempdir().expect("a folder");
    for max in [1, 3] {
        let crowd = Crowd::default();
        let corpus = corpus(Pipeline::default().with_generator_for(GeneratorRole::Answer, crowd.clone())).await;
        let questions: Vec<String> = (0..9).map(|number| format!("Who rings the bell in fog {number}?")).collect();
        let batch = AskBatch::new(folder.path().join(format!("{max}.jsonl"))).max_concurrent(max);
        let report = corpus.ask_batch(questions, &batch).await.expect("a batch");
        assert_eq!((report.answered, crowd.most.load(Ordering::SeqCst)), (9, max));
    }
}

#[tokio::test]
async fn steps_come_in_order_and_the_reply_is_the_last() {
    let generator = ScriptedGenerator::new("scripted", |_| "The watch rings the bell on the mole. [1]".to_owned());
    let corpus = corpus(Pipeline::default().with_generator_for(GeneratorRole::Answer, generator)).await;
    let request = SearchRequest::new(QUESTIONS[0]).traced();
    let steps: Vec<AskStep> = corpus.ask_steps(request.clone()).map(|step| step.expect("a step")).collect().await;
    let (last, before) = steps.split_last().expect("steps");
    let AskStep::Reply(reply) = last else { panic!("{last:?} is no reply") };
    assert!(reply.answer.answer.contains("bell on the mole"));
    assert!(before.iter().all(|step| !matches!(step, AskStep::Reply(_))));
    let text: String = before
        .iter()
        .filter_map(|step| if let AskStep::Text(text) = step { Some(text.as_str()) } else { None })
        .collect();
    assert_eq!(text, "The watch rings the bell on the mole. [1]");
    let claims = before.iter().filter(|step| matches!(step, AskStep::Claim(_))).count();
    assert_eq!(claims, reply.answer.claims.len());
    let searched = |step: &AskStep| matches!(step, AskStep::Stage(record) if matches!(record.details, TraceDetails::Fusion { .. }));
    let wrote = |step: &AskStep| matches!(step, AskStep::Text(_));
    let place = |wanted: &dyn Fn(&AskStep) -> bool| before.iter().position(wanted).expect("a step");
    assert!(place(&searched) < place(&wrote), "passages are found before the model writes");
}

#[tokio::test]
async fn a_stream_ends_with_an_error_and_can_be_dropped() {
    let corpus = corpus(Pipeline::default()).await;
    let steps: Vec<_> = corpus.ask_steps("?!").collect().await;
    let (last, before) = steps.split_last().expect("steps");
    assert_eq!(last.as_ref().expect_err("no words").kind(), ErrorKind::InvalidRequest);
    assert!(before.iter().all(|step| matches!(step, Ok(AskStep::Stage(_)))), "{before:?}");
    let mut some = corpus.ask_steps(SearchRequest::new(QUESTIONS[0]).traced());
    assert!(some.next().await.is_some());
    drop(some);
    assert!(corpus.ask(QUESTIONS[0]).await.is_ok(), "the corpus goes on");
}
