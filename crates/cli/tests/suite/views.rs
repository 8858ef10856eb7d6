//! What every verb prints on the demo, as text and as JSON.

use crate::common::{built, folder, run, settled};
use rstest::rstest;
use serde_json::Value;

/// Runs a verb and holds its text and its JSON against the snapshots.
fn check(name: &str, arguments: &[&str], code: i32) {
    let folder = built();
    let ran = run(folder.path(), arguments);
    assert_eq!((ran.code, ran.err.as_str()), (code, ""));
    assert!(!ran.out.contains('\x1b'), "a pipe gets no colours");
    insta::assert_snapshot!(format!("{name}_text"), settled(&ran.out, folder.path()));

    let ran = run(folder.path(), &[arguments, &["--json"]].concat());
    assert_eq!((ran.code, ran.err.as_str()), (code, ""));
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["version"], 1);
    insta::assert_snapshot!(format!("{name}_json"), settled(&ran.out, folder.path()));
}

#[rstest]
#[case("demo", &["demo"], 0)]
#[case("parse", &["parse", "DEMO/notices/notice-2025-04.md"], 0)]
#[case("chunk", &["chunk", "DEMO/watch-log.txt", "--limit", "60"], 0)]
#[case("chunk_overlap", &["chunk", "DEMO/pilotage-handbook.html", "--limit", "60", "--overlap", "25"], 0)]
#[case("chunk_marked", &["chunk", "DEMO/watch-log.txt", "--strategy", "marked", "--marker", "* NOVEMBER 2025"], 0)]
#[case("chunk_compare", &["chunk", "DEMO", "--compare", "structure:80:10,window"], 0)]
#[case("estimate", &["build", "DEMO/watch-log.txt", "DEMO/notices", "--estimate", "--corpus", "none.corpus"], 0)]
#[case("build", &["build", "DEMO"], 0)]
#[case("show", &["show", "--verify"], 0)]
#[case("search", &["search", "fog horn", "--count", "3"], 0)]
#[case("ask", &["ask", "What draught may enter the North Channel at low water?"], 0)]
#[case("ask_parts", &["ask", "--trace", "What is the length of Berth 9, and what does an hour of Crane 2 cost?"], 0)]
#[case("refusal", &["ask", "Who won the frostbite race last winter?"], 3)]
#[case("evaluate", &["evaluate", "DEMO/../questions.jsonl", "--split", "dev"], 0)]
fn it_prints(#[case] name: &str, #[case] arguments: &[&str], #[case] code: i32) {
    check(name, arguments, code);
}

/// What each verb says of itself.
#[rstest]
fn help(#[values("", "parse", "chunk", "new", "build", "show", "search", "ask", "chat", "evaluate")] verb: &str) {
    let folder = folder();
    let arguments: Vec<&str> = [verb, "--help"].into_iter().filter(|argument| !argument.is_empty()).collect();
    let ran = run(folder.path(), &arguments);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    let long = ran.out.lines().find(|line| line.chars().count() > 100);
    assert_eq!(long, None, "a line is too long");
    let name = if verb.is_empty() { "all" } else { verb };
    insta::assert_snapshot!(format!("help_{name}"), ran.out);
}

#[test]
fn the_tables_and_pages_of_a_pdf() {
    let folder = built();
    let ran = run(folder.path(), &["parse", "DEMO/byelaws.pdf"]);
    let from = ran.out.find("— page 9 —").expect("it has nine pages");
    insta::assert_snapshot!("parse_pdf_text", &ran.out[from..]);
}

/// The shapes that scripts rely on.
#[test]
fn json_has_the_agreed_keys() {
    let folder = built();
    let json = |arguments: &[&str]| -> Value {
        serde_json::from_str(&run(folder.path(), &[arguments, &["--json"]].concat()).out).expect("one JSON document")
    };
    let has = |value: &Value, keys: &[&str]| {
        for key in keys {
            assert!(value.get(key).is_some(), "{key} is missing in {value}");
        }
    };
    let found = json(&["search", "bridge"]);
    has(&found, &["query", "passages", "took_ms"]);
    let passage = &found["passages"][0];
    has(passage, &["rank", "score", "chunk", "document", "title", "pages", "section", "span", "text", "legs"]);
    has(&passage["legs"]["keyword"], &["rank", "score"]);
    let answer = json(&["ask", "How long is Berth 9?"]);
    has(&answer, &["question", "status", "answer", "claims", "sources", "tokens", "trace"]);
    has(&answer["claims"][0], &["text", "verdict", "support", "citations"]);
    has(&answer["sources"][0], &["marker", "document", "title", "pages", "section", "span", "quotation"]);
    has(&answer["tokens"], &["in", "out"]);
    has(&answer["trace"][0], &["stage", "took_ms"]);
    let parsed = json(&["parse", "DEMO/byelaws.pdf"]);
    has(&parsed["documents"][0], &["document", "title", "media_type", "pages", "metadata", "blocks", "warnings"]);
    has(&parsed["documents"][0]["blocks"][0], &["kind", "text", "span", "pages"]);
    let cut = json(&["chunk", "DEMO/byelaws.pdf"]);
    has(&cut, &["chunks", "unit"]);
    has(&cut["chunks"][0], &["chunk", "document", "span", "pages", "section", "size", "text", "context"]);
    let report = json(&["build"]);
    has(&report, &["added", "changed", "removed", "unchanged", "failed", "chunks", "encoded", "cached", "took_ms"]);
    let runs = json(&["evaluate", "DEMO/../questions.jsonl"]);
    has(&runs, &["runs", "comparisons"]);
    has(&runs["runs"][0], &["name", "questions", "metrics", "per_question"]);
}
