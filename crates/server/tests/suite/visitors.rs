//! What visitors have of their own: documents that nobody else sees, and a key that the model is asked with.

use logothete::config::{Config, GeneratorKind, Uploads};
use logothete::{BuildRequest, Corpus};
use logothete_simulator::{ModelFault, ModelService};
use serde_json::{Value, json};

use crate::client::{Answered, Running, form, notices};

const KEY: &str = "a-key-of-the-visitor-0123456789";

/// A visitor with their cookie.
struct Visitor<'a> {
    service: &'a Running,
    cookie: String,
}

impl<'a> Visitor<'a> {
    fn new(service: &'a Running) -> Self {
        Self { service, cookie: service.get("/v1/session").cookie() }
    }

    fn send(&self, method: &str, path: &str, body: &Value) -> Answered {
        let headers = [("Content-Type", "application/json"), ("Cookie", self.cookie.as_str())];
        let body = if body.is_null() { String::new() } else { body.to_string() };
        self.service.send(method, path, &headers, body.as_bytes())
    }

    fn get(&self, path: &str) -> Value {
        self.send("GET", path, &Value::Null).json()
    }

    fn upload(&self, files: &[(&str, &[u8])]) -> Answered {
        let headers = [("Content-Type", "multipart/form-data; boundary=quay"), ("Cookie", self.cookie.as_str())];
        self.service.send("POST", "/v1/documents", &headers, &form(files))
    }

    fn names(&self) -> Vec<String> {
        let list = self.get("/v1/documents");
        let names = list["documents"].as_array().into_iter().flatten();
        names.filter_map(|one| one["document"].as_str().map(str::to_owned)).collect()
    }

    /// Waits until nothing is built for them any more.
    fn settle(&self) {
        for _ in 0..1_000 {
            let jobs = self.get("/v1/jobs");
            if jobs["jobs"].as_array().into_iter().flatten().all(|job| job["state"] == "done") {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        panic!("a build does not end");
    }
}

#[test]
fn private_documents_are_their_visitors_own() {
    let service = Running::start(|config| config.uploads = Uploads::Private);
    let (one, other) = (Visitor::new(&service), Visitor::new(&service));
    assert_eq!(one.upload(&[("diary.md", b"# Diary\n\nThe pilot was late on Monday.")]).status, 202);
    one.settle();
    assert_eq!(one.names(), ["diary.md"]);
    assert_eq!(other.names(), Vec::<String>::new());
    assert_eq!(other.get("/v1/jobs"), json!({ "jobs": [] }));
    assert_eq!(other.send("GET", "/v1/jobs/1", &Value::Null).status, 404);
    assert_eq!(other.send("DELETE", "/v1/jobs/1", &Value::Null).status, 404);
    assert_eq!(other.send("GET", "/v1/documents/diary.md", &Value::Null).status, 404);
    let asked = json!({ "question": "When was the pilot late?" });
    assert_eq!(one.send("POST", "/v1/ask", &asked).json()["sources"][0]["document"], "diary.md");
    assert_eq!(other.send("POST", "/v1/ask", &asked).json()["status"], "refused");
    // The first corpus is read by all and changed by nobody.
    let main = json!({ "query": "bell", "corpus": "main" });
    assert_eq!(other.send("POST", "/v1/search", &main).json()["passages"][0]["document"], "bells.md");
    assert_eq!(one.send("DELETE", "/v1/documents/bells.md?corpus=main", &Value::Null).status, 403);
    assert_eq!(one.send("POST", "/v1/corpora", &json!({ "name": "attic" })).status, 403);
    assert_eq!(one.get("/v1/corpora"), json!({ "corpora": [{ "name": "main" }] }));
    assert_eq!(one.send("DELETE", "/v1/documents/diary.md", &Value::Null).status, 204);
    assert_eq!(one.names(), Vec::<String>::new());
    // Whoever has no cookie yet leaves no folder behind.
    assert_eq!(service.get("/v1/documents").status, 409);
    assert_eq!(std::fs::read_dir(service.folder.path().join("c/visitors")).expect("a folder").count(), 2);
}

/// Serves notices, with a model that wants a key.
fn with_model(model: &ModelService) -> Running {
    let mut config = Config::default();
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = model.address();
    "stand-in".clone_into(&mut config.generator.model);
    "MARROWBY_NOBODY_HAS_SET".clone_into(&mut config.generator.key_env);
    config.generator.max_retries = 0;
    config.privacy.allow = vec![model.host()];
    Running::with(
        &config,
        |_| {},
        None,
        |corpus: Corpus| async move {
            corpus.build(BuildRequest::default().source(notices())).await.expect("a build");
            corpus
        },
    )
}

#[test]
fn a_visitors_key_goes_to_the_model_and_nowhere_else() {
    let model = ModelService::start().expect("a model");
    let service = with_model(&model);
    let (one, other) = (Visitor::new(&service), Visitor::new(&service));
    assert_eq!(one.get("/v1/session")["takes_key"], true);
    assert_eq!(one.send("POST", "/v1/session", &json!({ "key": KEY })).status, 204);
    assert_eq!(
        (one.get("/v1/session")["has_key"].clone(), other.get("/v1/session")["has_key"].clone()),
        (json!(true), json!(false))
    );
    let reply =
        one.send("POST", "/v1/ask", &json!({ "question": "How often is the great bell rung in fog?", "trace": true }));
    assert!(reply.json()["generator"].is_string(), "{}", reply.text());
    let asked = model.asked();
    let sent: Vec<&str> = asked
        .iter()
        .flat_map(|one| &one.headers)
        .filter(|(name, _)| name == "authorization")
        .map(|(_, value)| value.as_str())
        .collect();
    assert_eq!(sent, [format!("Bearer {KEY}")]);
    assert!(!reply.text().contains(KEY) && !asked[0].body.to_string().contains(KEY));
    let trace = one.get(&format!("/v1/traces/{}", reply.json()["trace_id"].as_str().expect("a name")));
    assert!(!trace.to_string().contains(KEY) && !service.get("/v1/metrics").text().contains(KEY));
    // The others have none, and get sentences of the documents.
    let without = other.send("POST", "/v1/ask", &json!({ "question": "When is the sea lock shut?" })).json();
    assert!(without.get("generator").is_none() && without["note"].is_string(), "{without:#}");
    assert_eq!(model.asked().len(), 1);
    // No file of the corpus has it.
    let mut folders = vec![service.folder.path().to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
            if entry.path().is_dir() {
                folders.push(entry.path());
            } else {
                let bytes = std::fs::read(entry.path()).expect("a file");
                assert!(!bytes.windows(KEY.len()).any(|part| part == KEY.as_bytes()), "{:?}", entry.path());
            }
        }
    }
    // It is forgotten on demand.
    assert_eq!(one.send("POST", "/v1/session", &json!({ "key": "" })).status, 204);
    let after = one.send("POST", "/v1/ask", &json!({ "question": "When is the small bell silent?" })).json();
    assert!(after.get("generator").is_none(), "{after:#}");
    assert_eq!(one.send("POST", "/v1/session", &json!({ "key": "two words" })).status, 400);
}

#[test]
fn a_key_that_the_model_refuses_is_not_repeated_in_the_message() {
    let model = ModelService::start().expect("a model").failing_at(1, ModelFault::BadKey);
    let service = with_model(&model);
    let one = Visitor::new(&service);
    one.send("POST", "/v1/session", &json!({ "key": KEY }));
    let reply = one.send("POST", "/v1/ask", &json!({ "question": "How often is the great bell rung in fog?" }));
    assert_eq!(model.asked().len(), 1);
    let note = reply.json()["note"].as_str().expect("a note").to_owned();
    assert!(note.contains("the key that was given for this session") && !reply.text().contains(KEY), "{note}");
}
