//! Searching, asking and conversing.

use rstest::rstest;
use serde_json::{Value, json};

use crate::client::{Events, Running};

#[test]
fn a_search_returns_what_the_library_finds() {
    let service = Running::start(|_| {});
    let found = service.post("/v1/search", &json!({ "query": "bell in fog", "passages": 1 }));
    assert_eq!(found.status, 200, "{}", found.text());
    let found = found.json();
    assert_eq!(found["passages"].as_array().map(Vec::len), Some(1));
    assert_eq!(found["passages"][0]["document"], "bells.md");
    let filtered = service.post("/v1/search", &json!({ "query": "bell", "filter": "document = \"locks/hours.md\"" }));
    let documents: Vec<Value> =
        filtered.json()["passages"].as_array().into_iter().flatten().map(|one| one["document"].clone()).collect();
    assert!(documents.iter().all(|name| name == "locks/hours.md"), "{documents:?}");
}

#[test]
fn an_answer_cites_and_its_trace_is_found_by_whoever_asked() {
    let service = Running::start(|_| {});
    let reply = service.post("/v1/ask", &json!({ "question": "How often is the great bell rung in fog?" }));
    assert_eq!(reply.status, 200, "{}", reply.text());
    let (cookie, reply) = (reply.cookie(), reply.json());
    assert_eq!(
        (reply["status"].as_str(), reply["sources"][0]["document"].as_str()),
        (Some("answered"), Some("bells.md"))
    );
    assert_eq!(reply["trace"], json!([]), "nobody asked for it");
    let path = format!("/v1/traces/{}", reply["trace_id"].as_str().expect("a name"));
    let own = service.send("GET", &path, &[("Cookie", &cookie)], b"");
    assert!(own.json()["trace"].as_array().is_some_and(|stages| stages.len() > 3));
    let page = service.send("GET", &path, &[("Cookie", &cookie), ("Accept", "text/html")], b"");
    assert!(
        page.text().contains("How often is the great bell rung in fog?") && page.text().contains("<!doctype html>")
    );
    assert!(page.header("content-security-policy").is_some_and(|policy| policy.contains("sandbox")));
    assert_eq!(service.get(&path).status, 404, "another visitor");
}

#[test]
fn a_question_without_an_answer_is_refused_with_what_came_nearest() {
    let service = Running::start(|_| {});
    let reply =
        service.post("/v1/ask", &json!({ "question": "Who painted the ceiling of the chapel?", "trace": true }));
    assert_eq!(reply.status, 200);
    let reply = reply.json();
    assert_eq!(reply["status"], "refused", "{reply:#}");
    assert!(reply["trace"].as_array().is_some_and(|stages| !stages.is_empty()));
}

#[test]
fn a_stream_tells_stages_and_ends_with_the_reply() {
    let service = Running::start(|_| {});
    let body = json!({ "question": "When is the sea lock shut?" }).to_string();
    let headers = [("Content-Type", "application/json"), ("Accept", "text/event-stream")];
    let events: Vec<(String, Value)> = Events::of(service.open("POST", "/v1/ask", &headers, body.as_bytes())).collect();
    let names: Vec<&str> = events.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!((names.first(), names.last()), (Some(&"stage"), Some(&"end")), "{names:?}");
    let text: String =
        events.iter().filter(|(name, _)| name == "text").filter_map(|(_, one)| one["text"].as_str()).collect();
    let reply = &events.last().expect("the reply").1;
    assert_eq!(reply["answer"].as_str(), Some(text.as_str()));
    assert_eq!(reply["sources"][0]["document"], "locks/hours.md");
    let (name, sources) = &events[events.len() - 2];
    assert_eq!((name.as_str(), &sources["sources"]), ("sources", &reply["sources"]));
}

#[test]
fn a_conversation_belongs_to_its_visitor() {
    let service = Running::start(|_| {});
    let begun = service.post("/v1/conversations", &json!({}));
    let (cookie, id) = (begun.cookie(), begun.json()["id"].as_str().expect("a name").to_owned());
    let own = |method: &str, path: &str, body: &str| {
        let headers = [("Content-Type", "application/json"), ("Cookie", cookie.as_str())];
        service.send(method, path, &headers, body.as_bytes())
    };
    let path = format!("/v1/conversations/{id}");
    assert_eq!(own("GET", &path, "").status, 404, "nothing was asked yet");
    let first = own("POST", &format!("{path}/ask"), "{\"question\": \"When is the sea lock shut?\"}");
    assert_eq!((first.status, first.json()["number"].as_u64()), (200, Some(1)), "{}", first.text());
    let second = own("POST", &format!("{path}/ask"), "{\"question\": \"And when is it opened?\"}").json();
    assert_eq!(second["said"], "And when is it opened?");
    assert!(second["question"].as_str().is_some_and(|asked| asked.contains("lock")), "it stands alone: {second:#}");
    assert_eq!(own("GET", &path, "").json()["turns"].as_array().map(Vec::len), Some(2));
    assert_eq!(own("GET", "/v1/conversations", "").json()["conversations"][0]["id"], id.as_str());
    let exported = own("GET", &format!("{path}/export"), "");
    assert!(
        exported.text().contains("## When is the sea lock shut?") && exported.header("content-disposition").is_some()
    );
    // Somebody else sees nothing of it, whatever they know.
    assert_eq!(service.get(&path).status, 404);
    assert_eq!(service.get("/v1/conversations").json(), json!({ "conversations": [] }));
    assert_eq!(service.delete(&path).status, 404);
    assert_eq!(own("DELETE", &path, "").status, 204);
    assert_eq!(own("GET", &path, "").status, 404);
}

#[rstest]
#[case::no_question("/v1/ask", "{\"question\": \"  \"}", 400, "invalid-request")]
#[case::no_json("/v1/ask", "{\"question\":", 400, "invalid-request")]
#[case::another_field("/v1/ask", "{\"question\": \"Who?\", \"questoin\": 1}", 400, "invalid-request")]
#[case::another_type("/v1/search", "{\"query\": 7}", 400, "invalid-request")]
#[case::too_many("/v1/search", "{\"query\": \"a\", \"passages\": 100000}", 400, "invalid-request")]
#[case::a_bad_filter("/v1/search", "{\"query\": \"bell\", \"filter\": \"date >\"}", 400, "invalid-request")]
#[case::an_unknown_field("/v1/search", "{\"query\": \"bell\", \"filter\": \"colour = 1\"}", 400, "invalid-request")]
#[case::no_corpus("/v1/ask", "{\"question\": \"Who?\", \"corpus\": \"attic\"}", 404, "not-found")]
#[case::a_path("/v1/ask", "{\"question\": \"Who?\", \"corpus\": \"../../etc\"}", 404, "not-found")]
#[case::no_conversation("/v1/conversations/..%2F..%2Fx/ask", "{\"question\": \"Who?\"}", 404, "not-found")]
#[case::nothing("/v1/nothing", "{}", 404, "not-found")]
#[case::another_method("/v1/health", "{}", 405, "method-not-allowed")]
fn what_is_wrong_is_said_in_a_problem_document(
    #[case] path: &str,
    #[case] body: &str,
    #[case] status: u16,
    #[case] kind: &str,
) {
    let service = Running::start(|_| {});
    let said = service.send("POST", path, &[("Content-Type", "application/json")], body.as_bytes());
    assert_eq!(said.status, status, "{}", said.text());
    assert_eq!(said.header("content-type"), Some("application/problem+json"));
    let problem = said.json();
    assert_eq!(problem["type"], format!("urn:logothete:{kind}"));
    assert_eq!(problem["status"], status);
    assert!(problem["detail"].as_str().is_some_and(|detail| !detail.is_empty()), "{problem}");
    assert!(said.header("x-request-id").is_some_and(|id| id.len() == 32));
}

#[test]
fn a_large_request_and_another_type_are_refused() {
    let service = Running::start(|_| {});
    let large = format!("{{\"question\": \"{}\"}}", "a".repeat(1_100_000));
    let said = service.send("POST", "/v1/ask", &[("Content-Type", "application/json")], large.as_bytes());
    assert_eq!(said.status, 413);
    assert_eq!(service.send("POST", "/v1/ask", &[("Content-Type", "text/plain")], b"{}").status, 415);
}
