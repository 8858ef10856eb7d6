//! The description of the API: as it is committed, and as responses really are.

use std::path::Path;

use serde_json::{Value, json};

use crate::client::Running;

fn described() -> Value {
    serde_json::from_str(&logothete_server::openapi()).expect("JSON")
}

/// To renew it: `cargo run -p logothete-server --example describe > docs/openapi.json`.
#[test]
fn the_committed_description_is_that_of_the_code() {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let committed = std::fs::read_to_string(file).expect("docs/openapi.json");
    assert_eq!(committed, logothete_server::openapi(), "renew docs/openapi.json");
    assert_eq!(described()["openapi"], "3.1.0");
}

/// Every path that is routed is described, and the other way round.
#[test]
fn every_route_is_described() {
    let routes = include_str!("../../src/api/mod.rs");
    let routed = routes.split(".route(").skip(1).filter_map(|rest| rest.split('"').nth(1));
    let mut routed: Vec<&str> = routed.filter(|path| path.starts_with("/v1/")).collect();
    routed.sort_unstable();
    let description = described();
    let mut paths: Vec<&str> = description["paths"].as_object().expect("paths").keys().map(String::as_str).collect();
    paths.sort_unstable();
    assert_eq!(routed, paths);
}

/// Looks for what a response lacks of its schema, or has of another type.
fn differences(schema: &Value, value: &Value, at: &str, all: &Value, out: &mut Vec<String>) {
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/components/schemas/")) {
        return differences(&all[name], value, at, all, out);
    }
    for part in schema["allOf"].as_array().into_iter().flatten() {
        differences(part, value, at, all, out);
    }
    if let Some(choices) = schema["oneOf"].as_array() {
        let fits = |choice: &Value| {
            let mut found = Vec::new();
            differences(choice, value, at, all, &mut found);
            found.is_empty()
        };
        if !choices.iter().any(fits) {
            out.push(format!("{at}: {value} fits nothing"));
        }
        return;
    }
    let kind = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(number) if number.is_f64() => "number",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    let allows = |wanted: &Value| wanted == kind || (wanted == "number" && kind == "integer");
    let allowed = match &schema["type"] {
        Value::Null => true,
        Value::Array(kinds) => kinds.iter().any(allows),
        one => allows(one),
    };
    if !allowed {
        out.push(format!("{at}: {kind} where {} is described", schema["type"]));
    }
    if let Some(known) = schema["enum"].as_array().filter(|known| !known.contains(value)) {
        out.push(format!("{at}: {value} is none of {known:?}"));
    }
    for name in schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        if value.get(name).is_none() {
            out.push(format!("{at}: {name} is missing"));
        }
    }
    for (name, part) in schema["properties"].as_object().into_iter().flatten() {
        if let Some(value) = value.get(name) {
            differences(part, value, &format!("{at}.{name}"), all, out);
        }
    }
    for (number, one) in value.as_array().into_iter().flatten().enumerate() {
        differences(&schema["items"], one, &format!("{at}[{number}]"), all, out);
    }
}

#[test]
fn responses_are_as_they_are_described() {
    let service = Running::start(|_| {});
    let description = described();
    let sent = service.upload("/v1/documents", &[("new.md", b"# New\n\nThe new crane lifts forty tonnes.")]);
    let job = service.wait_for(&sent.json()["job"])["job"].to_string();
    let begun = service.post("/v1/conversations", &json!({}));
    let (cookie, id) = (begun.cookie(), begun.json()["id"].as_str().expect("a name").to_owned());
    let question = json!({ "question": "How often is the great bell rung in fog?" });
    let own = |method: &str, path: &str, body: &Value| {
        let headers = [("Content-Type", "application/json"), ("Cookie", cookie.as_str())];
        let body = if body.is_null() { String::new() } else { body.to_string() };
        service.send(method, path, &headers, body.as_bytes())
    };
    let turn = own("POST", &format!("/v1/conversations/{id}/ask"), &question);
    let trace = turn.json()["trace_id"].as_str().expect("a name").to_owned();
    let none = Value::Null;
    let responses = [
        ("get", "/v1/health", own("GET", "/v1/health", &none)),
        ("get", "/v1/session", own("GET", "/v1/session", &none)),
        ("get", "/v1/corpora", own("GET", "/v1/corpora", &none)),
        ("post", "/v1/documents", sent),
        ("get", "/v1/documents", own("GET", "/v1/documents", &none)),
        ("get", "/v1/documents/{name}", own("GET", "/v1/documents/locks%2Fhours.md", &none)),
        ("get", "/v1/documents/{name}/text", own("GET", "/v1/documents/bells.md/text", &none)),
        ("get", "/v1/documents/{name}/text", own("GET", "/v1/documents/bells.md/text?start=9", &none)),
        ("get", "/v1/suggestions", own("GET", "/v1/suggestions", &none)),
        ("get", "/v1/jobs", own("GET", "/v1/jobs", &none)),
        ("get", "/v1/jobs/{job}", own("GET", &format!("/v1/jobs/{job}"), &none)),
        ("get", "/v1/jobs/{job}", own("GET", "/v1/jobs/99", &none)),
        ("post", "/v1/search", own("POST", "/v1/search", &json!({ "query": "bell" }))),
        ("post", "/v1/search", own("POST", "/v1/search", &json!({}))),
        ("post", "/v1/ask", own("POST", "/v1/ask", &question)),
        ("post", "/v1/ask", own("POST", "/v1/ask", &json!({ "question": "Who painted the ceiling?" }))),
        ("post", "/v1/conversations", begun),
        ("post", "/v1/conversations/{id}/ask", turn),
        ("get", "/v1/conversations", own("GET", "/v1/conversations", &none)),
        ("get", "/v1/conversations/{id}", own("GET", &format!("/v1/conversations/{id}"), &none)),
        ("get", "/v1/traces/{id}", own("GET", &format!("/v1/traces/{trace}"), &none)),
    ];
    for (method, path, response) in responses {
        let answers = &description["paths"][path][method]["responses"];
        let answer = match &answers[response.status.to_string()] {
            Value::Null => &answers["default"],
            own => own,
        };
        assert!(answer.is_object(), "{method} {path}: {} is not described: {}", response.status, response.text());
        let media = response.header("content-type").expect("a type");
        let schema = &answer["content"][media]["schema"];
        assert!(schema.is_object(), "{method} {path}: {media} is not described");
        let mut out = Vec::new();
        differences(schema, &response.json(), path, &description["components"]["schemas"], &mut out);
        assert!(out.is_empty(), "{out:#?}");
    }
}

/// What tells whether a response is as described, tells it if it is not.
#[test]
fn a_response_that_is_not_as_described_is_noticed() {
    let description = described();
    let all = &description["components"]["schemas"];
    let mut out = Vec::new();
    differences(&all["Problem"], &json!({ "type": 7, "title": "x", "status": 404 }), "", all, &mut out);
    assert_eq!(out, [": detail is missing", ".type: integer where \"string\" is described"]);
}
