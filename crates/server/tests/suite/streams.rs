//! Streams that nobody reads any more, that stall, and that are open when the service ends.

use std::time::Duration;

use logothete::config::{Config, GeneratorKind};
use logothete::source::{Content, Item, Items};
use logothete::{BoxFuture, BuildRequest, Corpus, Source};
use logothete_simulator::{ModelFault, ModelService};
use serde_json::{Value, json};

use crate::client::{Events, Running, notices};

const HEADERS: [(&str, &str); 2] = [("Content-Type", "application/json"), ("Accept", "text/event-stream")];

fn asked() -> Vec<u8> {
    json!({ "question": "How often is the great bell rung in fog?" }).to_string().into_bytes()
}

/// A service whose answers a model writes.
fn written(model: &ModelService, change: impl FnOnce(&mut Config)) -> Running {
    let mut config = Config::default();
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = model.address();
    "stand-in".clone_into(&mut config.generator.model);
    config.generator.max_retries = 0;
    config.privacy.allow = vec![model.host()];
    change(&mut config);
    Running::with(&config, |_| {}, None, filled)
}

async fn filled(corpus: Corpus) -> Corpus {
    corpus.build(BuildRequest::default().source(notices())).await.expect("a build");
    corpus
}

#[test]
fn text_comes_as_the_model_writes_it() {
    let model = ModelService::start().expect("a model").slow(Duration::from_millis(10), Duration::from_millis(10));
    let service = written(&model, |_| {});
    let events: Vec<(String, Value)> = Events::of(service.open("POST", "/v1/ask", &HEADERS, &asked())).collect();
    let texts: Vec<&str> =
        events.iter().filter(|(name, _)| name == "text").filter_map(|(_, one)| one["text"].as_str()).collect();
    assert!(texts.len() > 3, "{texts:?}");
    let (name, reply) = events.last().expect("the end");
    assert_eq!((name.as_str(), reply["claims"][0]["verdict"].as_str()), ("end", Some("supported")), "{reply:#}");
    assert!(events.iter().any(|(name, claim)| name == "claim" && claim["verdict"] == "supported"));
}

/// With room for one question, the next is only answered if the one before was given up.
#[test]
fn a_client_that_leaves_stops_its_work() {
    let model = ModelService::start().expect("a model").failing_at(1, ModelFault::Stall(Duration::from_secs(600)));
    let service = written(&model, |config| (config.serve.at_once, config.serve.waiting) = (1, 0));
    let mut events = Events::of(service.open("POST", "/v1/ask", &HEADERS, &asked()));
    while events.next().is_some_and(|(_, stage)| stage["stage"] != "prompt") {}
    assert_eq!(service.post("/v1/search", &json!({ "query": "bell" })).status, 429, "there is no room");
    drop(events);
    let is_free = || service.post("/v1/search", &json!({ "query": "bell" })).status == 200;
    let freed = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(50));
        is_free()
    });
    assert!(freed, "the work goes on although nobody waits for it");
}

#[test]
fn a_model_that_stalls_ends_with_a_message_in_the_stream() {
    let model = ModelService::start().expect("a model").failing_at(1, ModelFault::Stall(Duration::from_secs(600)));
    let service = written(&model, |config| (config.generator.first_seconds, config.generator.silence_seconds) = (1, 1));
    let events: Vec<(String, Value)> = Events::of(service.open("POST", "/v1/ask", &HEADERS, &asked())).collect();
    let (name, reply) = events.last().expect("the end");
    assert_eq!(name, "end");
    assert_eq!(reply["incomplete"], true);
    assert!(reply["note"].as_str().is_some_and(|note| note.contains("silent for too long")), "{reply:#}");
}

#[test]
fn an_answer_that_takes_too_long_is_given_up() {
    let model = ModelService::start().expect("a model").failing_at(1, ModelFault::Stall(Duration::from_secs(600)));
    let service = written(&model, |config| config.serve.seconds = 1);
    let events: Vec<(String, Value)> = Events::of(service.open("POST", "/v1/ask", &HEADERS, &asked())).collect();
    let (name, problem) = events.last().expect("the end");
    assert_eq!((name.as_str(), problem["type"].as_str()), ("problem", Some("urn:logothete:too-slow")));
}

#[test]
fn a_service_that_ends_says_so_in_its_streams_and_commits_its_builds() {
    let model = ModelService::start().expect("a model").failing_at(1, ModelFault::Stall(Duration::from_secs(600)));
    let mut service = written(&model, |_| {});
    let mut events = Events::of(service.open("POST", "/v1/ask", &HEADERS, &asked()));
    while events.next().is_some_and(|(_, stage)| stage["stage"] != "prompt") {}
    let many: Vec<(String, Vec<u8>)> = (0..400)
        .map(|at| (format!("n{at}.md"), format!("# Notice {at}\n\nBerth {at} is dredged.\n").into_bytes()))
        .collect();
    let files: Vec<(&str, &[u8])> = many.iter().map(|(name, bytes)| (name.as_str(), bytes.as_slice())).collect();
    assert_eq!(service.upload("/v1/documents", &files).status, 202);
    service.end();
    let last = events.last().expect("a last event");
    assert_eq!((last.0.as_str(), last.1["type"].as_str()), ("problem", Some("urn:logothete:closing")));
    let corpus = crate::client::runtime().block_on(async {
        let pipeline = logothete::Pipeline::default().with_encoder(logothete::Hashing::new(128).expect("settings"));
        let corpus = pipeline.open(service.folder.path().join("c")).await.expect("a sound corpus");
        corpus.verify().await.expect("a sound corpus");
        corpus.info().await.expect("facts")
    });
    assert!(corpus.documents.len() >= 2, "{}", corpus.documents.len());
}

/// It has asked for more than the buffers of the system hold, and reads none of it.
#[test]
fn a_client_that_reads_nothing_does_not_keep_a_service_that_ends() {
    let mut service = Running::start(|_| {});
    let large = "The fog lies on the quay. ".repeat(180_000);
    let sent = service.upload("/v1/documents", &[("large.txt", large.as_bytes())]).json();
    service.wait_for(&sent["job"]);
    let sleeper = service.open("GET", "/v1/documents/large.txt/text", &[], b"");
    std::thread::sleep(Duration::from_millis(300));
    service.end();
    drop(sleeper);
}

/// A source that is not read before it may be.
#[derive(Debug)]
struct Held(std::sync::Mutex<std::sync::mpsc::Receiver<()>>);

impl Source for Held {
    fn location(&self) -> String {
        "held:a".to_owned()
    }

    fn items(&self) -> BoxFuture<'_, logothete::Result<Items>> {
        let _ = self.0.lock().expect("it is free").recv();
        Box::pin(async { Ok(Box::new(std::iter::empty()) as Items) })
    }

    fn read<'a>(&'a self, _: &'a Item, _: u64) -> BoxFuture<'a, logothete::Result<Content>> {
        Box::pin(async { Ok(Content::default()) })
    }
}

#[test]
fn a_service_waits_while_another_process_builds_its_corpus() {
    let service = Running::start(|_| {});
    let folder = service.folder.path().join("c");
    let (free, held) = std::sync::mpsc::channel();
    let other = std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(async {
            let pipeline = logothete::Pipeline::default().with_encoder(logothete::Hashing::new(128).expect("settings"));
            let corpus = pipeline.open(folder).await.expect("the same corpus");
            corpus.build(BuildRequest::default().source(Held(std::sync::Mutex::new(held)))).await.expect("a build");
        });
    });
    std::thread::sleep(Duration::from_millis(300));
    let sent = service.upload("/v1/documents", &[("new.md", b"# New\n\nThe new crane lifts forty tonnes.")]).json();
    std::thread::sleep(Duration::from_millis(300));
    let job = service.get(&format!("/v1/jobs/{}", sent["job"]["job"])).json();
    assert_eq!(job["state"], "waiting", "{job}");
    assert_eq!(service.post("/v1/search", &json!({ "query": "bell" })).status, 200, "it reads meanwhile");
    free.send(()).expect("the other builds");
    other.join().expect("it has built");
    let job = service.wait_for(&sent["job"]);
    assert_eq!((job["state"].as_str(), job["documents"][0]["state"].as_str()), (Some("done"), Some("read")), "{job}");
}

#[test]
fn two_services_on_one_corpus_both_read() {
    let first = Running::start(|_| {});
    let folder = first.folder.path().join("c");
    let second = Running::with(
        &Config::default(),
        |_| {},
        None,
        |_| async move {
            let pipeline = logothete::Pipeline::default().with_encoder(logothete::Hashing::new(128).expect("settings"));
            pipeline.open(folder).await.expect("the same corpus")
        },
    );
    let sent = first.upload("/v1/documents", &[("new.md", b"# New\n\nThe new crane lifts forty tonnes.")]).json();
    first.wait_for(&sent["job"]);
    for service in [&first, &second] {
        let found = service.post("/v1/search", &json!({ "query": "new crane tonnes" })).json();
        assert_eq!(found["passages"][0]["document"], "new.md");
    }
}
