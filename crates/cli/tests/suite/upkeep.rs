//! Searching with filters, and what is done to a corpus besides building it.

use crate::common::{folder, run};
use serde_json::Value;

/// A folder with the demo's notices built into a corpus.
fn notices() -> tempfile::TempDir {
    let folder = folder();
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    folder
}

#[test]
fn search_takes_filters_order_and_scores() {
    let folder = notices();
    let search = |arguments: &[&str]| {
        let ran = run(folder.path(), &[&["search", "--json"], arguments].concat());
        (ran.code, serde_json::from_str::<Value>(&ran.out).expect("JSON"))
    };
    let documents = |json: &Value| -> Vec<String> {
        let passages = json["passages"].as_array().expect("passages").iter();
        passages.map(|passage| passage["document"].as_str().expect("a name").to_owned()).collect()
    };
    let (code, json) = search(&["berth", "--filter", "document fits \"*-06.md\""]);
    assert_eq!(code, 0);
    assert!(!documents(&json).is_empty() && documents(&json).iter().all(|name| name.ends_with("-06.md")), "{json}");
    assert_eq!(json["filter"], "document fits \"*-06.md\"");
    let (_, json) = search(&["berth", "--sort", "-document", "--count", "20"]);
    let names = documents(&json);
    assert!(names.len() > 5 && names.windows(2).all(|pair| pair[0] >= pair[1]), "{names:?}");
    let scores = |arguments: &[&str]| -> Vec<f64> {
        let (_, json) = search(&[&["berth", "--count", "50"], arguments].concat());
        let passages = json["passages"].as_array().expect("passages").iter();
        passages.map(|passage| passage["score"].as_f64().expect("a score")).collect()
    };
    let all = scores(&[]);
    let between = scores(&["--score", "0.3..0.7", "--score", "vector=0.01..1"]);
    assert!(!between.is_empty() && between.len() < all.len(), "{between:?} of {all:?}");
    assert!(between.iter().all(|score| (0.3..=0.7).contains(score)), "{between:?}");
    assert_eq!(scores(&["--score", "0.7.."]).len(), all.iter().filter(|score| **score >= 0.7).count());
    assert_eq!(scores(&["--score", "..0.7"]).len(), all.iter().filter(|score| **score <= 0.7).count());
    let none = run(folder.path(), &["search", "berth", "--score", "1.5.."]);
    assert_eq!(none.out.trim(), "No passage that was found has such a score.");
    for (arguments, expected) in [
        (vec!["berth", "--filter", "date >="], "--filter, character 8: a value is missing"),
        (vec!["berth", "--filter", "dat = 2025"], "did you mean date?"),
        (vec!["berth", "--score", "high"], "--score: “high” is no range of scores; write one such as 0.4.."),
        (vec!["berth", "--score", ".."], "--score: “..” is no range"),
        (vec!["berth", "--score", "0.8..0.2"], "--score: “0.8..0.2” ends before it begins"),
        (vec!["berth", "--sort", "-dat"], "sort: no document has the field “dat”; did you mean date?"),
        (vec!["berth", "--filter", "date > soon"], "“date” is a date such as 2025-03, which “soon” is not"),
        (vec!["berth", "--score", "pages=1.."], "there is no leg “pages”; the legs are keyword and vector"),
    ] {
        let (code, json) = search(&arguments);
        assert_eq!(code, 2);
        assert!(json["error"]["message"].as_str().is_some_and(|message| message.contains(expected)), "{json}");
    }
    let queries = folder.path().join("queries.txt");
    std::fs::write(&queries, "swing bridge\n\nnorth channel\n").expect("a file");
    let (_, json) = search(&["--queries", &queries.display().to_string()]);
    let searches = json["searches"].as_array().expect("searches");
    assert_eq!(
        searches.iter().map(|one| one["query"].as_str().expect("a query")).collect::<Vec<_>>(),
        ["swing bridge", "north channel"]
    );
    let text = run(folder.path(), &["search", "chanel"]).out;
    assert!(text.contains("No document has “chanel”; looked for words like channel instead."), "{text}");
}

#[test]
fn ask_answers_each_line_of_a_file() {
    let folder = notices();
    let file = folder.path().join("questions.txt");
    let ask = |text: &str, more: &[&str]| {
        std::fs::write(&file, text).expect("a file");
        run(folder.path(), &[&["ask", "--questions", "questions.txt"], more].concat())
    };
    let (answered, refused) = ("Until when is the north channel shut?", "Who won the frostbite race?");
    let ran = ask(&format!("\n  {answered}\r\n\n{refused}\n"), &["--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("JSON");
    let answers = json["answers"].as_array().expect("answers");
    let told: Vec<_> = answers.iter().map(|answer| (answer["question"].as_str(), answer["status"].as_str())).collect();
    assert_eq!(told, [(Some(answered), Some("answered")), (Some(refused), Some("refused"))], "{json}");
    assert_eq!((ran.code, json["version"].as_u64()), (0, Some(1)));
    let text = ask(&format!("{answered}\n{refused}\n"), &[]).out;
    let alone = run(folder.path(), &["ask", answered]).out;
    assert!(text.starts_with(&format!("? {answered}\n\n{alone}\n? {refused}\n\n")), "{text}");
    assert_eq!(ask(refused, &[]).code, 3);
    assert_eq!(ask(" \n", &[]).err.trim(), "error: questions.txt: this file is empty; write one to a line");
    std::fs::remove_file(&file).expect("removed");
    let ran = run(folder.path(), &["ask", "--questions", "questions.txt"]);
    assert!(ran.err.starts_with("error: questions.txt: it could not be read"), "{}", ran.err);
}

#[test]
fn a_corpus_is_forgotten_compacted_exported_and_imported() {
    let folder = notices();
    let done = |arguments: &[&str]| {
        let ran = run(folder.path(), arguments);
        (ran.code, ran.out + &ran.err)
    };
    let (code, text) = done(&["show", "--export", "all.jsonl"]);
    assert!(code == 0 && text.contains("lines with"), "{text}");
    let (code, text) = done(&["show", "--export", "all.jsonl"]);
    assert!(code == 1 && text.contains("it is there already"), "{text}");
    let (code, text) = done(&["build", "--import", "all.jsonl", "--corpus", "second.corpus"]);
    assert!(code == 0 && text.contains("8 documents with"), "{text}");
    let shown =
        |corpus: &str| done(&["show", "--verify", "--corpus", corpus]).1.lines().skip(8).collect::<Vec<_>>().join("\n");
    assert_eq!(shown("second.corpus"), shown("logothete.corpus"));
    let (code, text) = done(&["build", "--forget", "notice-2025-06.md"]);
    assert!(
        code == 0 && text.contains("are gone from the corpus and all its files") && text.contains("is still there"),
        "{text}"
    );
    let (code, text) = done(&["build", "--forget", "notice-2025-16.md"]);
    assert!(code == 1 && text.contains("did you mean notice-2025-"), "{text}");
    assert_eq!(done(&["build", "--compact"]).1.trim(), "There was nothing to merge or to drop.");
    assert_eq!(done(&["build", "DEMO/watch-log.txt"]).0, 0);
    let (code, text) = done(&["build", "--compact"]);
    assert!(code == 0 && text.starts_with("2 segments became 1, 0 deleted rows were dropped; "), "{text}");
    std::fs::write(folder.path().join("logothete.toml"), "[encoder]\nkind = \"hashing\"\n").expect("a file");
    let (code, text) = done(&["search", "berth"]);
    assert!(code == 1 && text.contains("logothete build --reencode"), "{text}");
    let (code, text) = done(&["build", "--reencode"]);
    assert!(code == 0 && text.contains("were encoded") && text.contains("now."), "{text}");
    let (code, text) = done(&["build", "--reencode"]);
    assert!(code == 0 && text.contains("already"), "{text}");
    assert_eq!(done(&["search", "berth"]).0, 0);
    assert_eq!(done(&["build", "--compact", "--forget", "x"]).0, 2);
}
