//! `logothete digest`: whole documents, field by field.

use std::fs;

use rstest::rstest;

use crate::common::{built, run};

#[test]
fn a_document_is_told_field_by_field() {
    let folder = built();
    let ran = run(folder.path(), &["digest", "byelaws.pdf"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    insta::assert_snapshot!("digest_text", ran.out);
    let json = run(folder.path(), &["digest", "byelaws.pdf", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&json.out).expect("one JSON document");
    let digest = &json["digests"][0];
    assert_eq!((json["version"].as_u64(), digest["document"].as_str()), (Some(1), Some("byelaws.pdf")));
    let names: Vec<&str> =
        digest["fields"].as_array().expect("fields").iter().filter_map(|field| field["name"].as_str()).collect();
    assert_eq!(names, ["kind", "summary", "key points", "dates", "parties", "amounts", "duties"]);
    assert!(
        digest["sources"].as_array().is_some_and(|sources| sources
            .iter()
            .all(|source| source["pages"].is_object() || source["pages"].is_array()))
    );
}

#[test]
fn documents_are_compared() {
    let folder = built();
    let ran = run(folder.path(), &["digest", "notice-2025-03.md", "notice-2025-06.md", "--format", "markdown"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    insta::assert_snapshot!("digest_markdown", ran.out);
}

const FIELDS: &str = r#"
[digest.price]
format = "json"
fields = [{ name = "tug", question = "What does the tug Steadfast cost per hour?" }, { name = "when", kind = "dates" }]
"#;

#[test]
fn fields_are_the_users_own() {
    let folder = built();
    fs::write(folder.path().join("logothete.toml"), FIELDS).expect("a file");
    let ran = run(folder.path(), &["digest", "byelaws.pdf", "--fields", "price"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}{}", ran.out, ran.err));
    let tug = &json["digests"][0]["fields"][0]["statements"][0];
    assert!(tug["text"].as_str().is_some_and(|text| text.contains("410")), "{json:#}");
}

#[rstest]
#[case::document(&["digest", "byelows.pdf"], "did you mean byelaws.pdf?")]
#[case::fields(&["digest", "byelaws.pdf", "--fields", "brief"], "no digest has this name; the digests are default")]
#[case::none(&["digest"], "DOCUMENT")]
fn what_is_not_there_is_named(#[case] arguments: &[&str], #[case] said: &str) {
    let folder = built();
    let ran = run(folder.path(), arguments);
    assert!(ran.code != 0 && ran.err.contains(said), "{}", ran.err);
}

#[rstest]
#[case("fields = []", "a digest needs a field")]
#[case("fields = [{ name = \"a\" }]", "the field a needs a question, or a kind")]
#[case(
    "fields = [{ name = \"a\", kind = \"dates\" }, { name = \"A\", kind = \"dates\" }]",
    "two fields have the name A"
)]
#[case("fields = [{ name = \"a\", kind = \"dates\", max_words = 0 }]", "max_words of 1 or more")]
#[case("feilds = []", "unknown field")]
fn settings_that_cannot_be_are_named(#[case] settings: &str, #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("logothete.toml"), format!("[digest.brief]\n{settings}\n")).expect("a file");
    let ran = run(folder.path(), &["digest", "byelaws.pdf"]);
    assert!(ran.code != 0 && ran.err.contains(said), "{}", ran.err);
}

#[test]
fn a_question_about_a_whole_document_gets_its_summary_and_is_told_so() {
    let folder = built();
    let ran = run(folder.path(), &["ask", "Summarise the byelaws", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["status"], "answered");
    assert!(json["note"].as_str().is_some_and(|note| note.contains("logothete digest byelaws.pdf")), "{json:#}");
    assert!(
        json["sources"]
            .as_array()
            .is_some_and(|sources| sources.iter().all(|source| source["document"] == "byelaws.pdf"))
    );
    let other = run(folder.path(), &["ask", "What does the tug Steadfast cost per hour?", "--json"]);
    assert!(!other.out.contains("logothete digest"), "{}", other.out);
}
