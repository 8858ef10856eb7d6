//! `logothete check`: texts and pairs held against their sources.

use std::fs;

use rstest::rstest;

use crate::common::{built, run, run_with_input};

const LEAFLET: &str = "# Visiting\n\nThe greatest draught at Berth 7 is 8.4 metres. The tug Steadfast has a bollard pull\nof 18 tonnes. \
    Is there a ferry?\n\n- Berth 11 is 150 metres long.\n- The office serves coffee on Sundays (crane-manual.pdf, page 2).\n\n```\nnot a claim\n```\n";

#[test]
fn a_text_is_held_against_the_corpus() {
    let folder = built();
    fs::write(folder.path().join("leaflet.md"), LEAFLET).expect("a file");
    let ran = run(folder.path(), &["check", "leaflet.md"]);
    assert_eq!(ran.code, 4, "{}{}", ran.out, ran.err);
    insta::assert_snapshot!("check_text", ran.out);
    let json = run(folder.path(), &["check", "leaflet.md", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&json.out).expect("one JSON document");
    let claims = json["checks"].as_array().expect("claims");
    let lines: Vec<u64> = claims.iter().filter_map(|claim| claim["line"].as_u64()).collect();
    assert_eq!((json["version"].as_u64(), lines), (Some(1), vec![3, 3, 6, 7]));
    let ferry = claims.iter().any(|claim| claim["claim"].as_str().is_some_and(|text| text.contains("ferry")));
    assert!(!ferry, "a question is no claim");
    assert_eq!(claims[0]["evidence"]["pages"]["first"].as_u64().is_some(), claims[0]["evidence"]["pages"].is_object());
}

#[rstest]
#[case::supported("Bathing is allowed from Pebble Slip between the two white posts.\n", 0, "1 claim")]
#[case::nothing("# A heading\n", 0, "0 claims")]
#[case::word("Yes.\n", 0, "1 claim")]
fn standard_input_is_read(#[case] text: &str, #[case] code: i32, #[case] said: &str) {
    let folder = built();
    let ran = run_with_input(folder.path(), &["check", "-"], text);
    assert_eq!(ran.code, code, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains(said), "{}", ran.out);
}

#[test]
fn what_an_answer_cites_is_resolved() {
    let folder = built();
    let answer = run(folder.path(), &["ask", "What draught may enter the North Channel at low water?"]);
    let ran = run_with_input(folder.path(), &["check", "-", "--all", "--json"], &answer.out);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    let first = &json["checks"][0];
    assert_eq!(first["verdict"], "supported", "{}", ran.out);
    assert_eq!(first["citations"][0][0], "byelaws.pdf");
}

const PAIRS: &str = r#"{"id": "a", "claim": "The gate opens at nine.", "evidence": "The gate opens at 9:00.", "verdict": "supported", "kind": "time"}
{"id": 2, "claim": "The gate opens at ten.", "evidence": "The gate opens at 9:00.", "verdict": "contradicted", "kind": "time"}
"#;

#[test]
fn pairs_need_no_corpus_and_are_measured() {
    let folder = crate::common::folder();
    fs::write(folder.path().join("pairs.jsonl"), PAIRS).expect("a file");
    let ran = run(folder.path(), &["check", "--pairs", "pairs.jsonl", "--json"]);
    assert_eq!(ran.code, 4, "{}", ran.err);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    let checks = json["checks"].as_array().expect("checks");
    let verdicts: Vec<&str> = checks.iter().filter_map(|check| check["verdict"].as_str()).collect();
    assert_eq!(verdicts, ["supported", "contradicted"]);
    assert_eq!((checks[0]["id"].as_str(), checks[1]["id"].as_u64()), (Some("a"), Some(2)));
    assert_eq!(checks[1]["quotation"], "The gate opens at 9:00.");
    assert!(checks[1]["reason"].as_str().is_some_and(|reason| reason.contains("9:00")));
    for arguments in [&["check", "--pairs", "pairs.jsonl"][..], &["evaluate", "pairs.jsonl"]] {
        let ran = run(folder.path(), arguments);
        assert!(ran.out.contains("F1 1.000") && ran.out.contains("time"), "{}{}", ran.out, ran.err);
    }
    fs::write(folder.path().join("wrong.jsonl"), "{\"claim\": \"Only this.\"}\n").expect("a file");
    let ran = run(folder.path(), &["check", "--pairs", "wrong.jsonl"]);
    assert!(ran.code == 2 && ran.err.contains("line 1") && ran.err.contains("evidence"), "{}", ran.err);
}
