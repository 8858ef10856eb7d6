//! Every example runs on the demo's documents.

use std::path::PathBuf;
use std::process::Command;

use rstest::rstest;

/// Runs an example beside a link to the demo, and returns what it prints.
fn run(name: &str) -> String {
    let test = std::env::current_exe().expect("this test has a path");
    let profile = test.parent().and_then(|deps| deps.parent()).expect("it lies in target/PROFILE/deps");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let demo = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo").canonicalize().expect("the demo");
    std::os::unix::fs::symlink(demo, folder.path().join("demo")).expect("a link");
    let output = Command::new(profile.join("examples").join(name)).current_dir(folder.path()).output();
    let output = output.unwrap_or_else(|error| panic!("{name} was not built: {error}"));
    assert!(output.status.success() && output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("it prints UTF-8")
}

#[rstest]
#[case("quickstart", &["5.4 metres", "[1] byelaws.pdf, page 2, Article 4. The North Channel"])]
#[case("own_encoder", &["1. ", "vector leg", "swing bridge"])]
#[case("own_chunker", &["chunks", "1. watch-log.txt, MONDAY 17 NOVEMBER 2025\n   14:50 Yacht Merry Widgeon aground"])]
#[case("own_parser", &["5.2", "[1] 2025-11-18.tides, Tides at Marrowby"])]
#[case("shared", &["notice-6.md, Notice 6", "notice-8.md, Notice 8", "3 documents then, 4 now"])]
#[case("inspect", &["Berth 7 · Draught: 7.9 m", "Notice 6 › Draughts", "its section has 105 bytes"])]
#[case("cite_reply", &["system: You answer questions", "[1] notice-6.md: “The greatest draught at Berth 7 is 7.9 metres.”", "not supported: The bridge"])]
#[case("cited_answer", &["tokens would go to stand-in at 127.0.0.1", "[1] byelaws.pdf, page 2", "supported: (2) A vessel drawing"])]
#[case("own_generator", &["The bell is rung in fog. [1]", "[1] bell.md"])]
#[case("stream_to_terminal", &["The regatta is held on 14 and 15 June 2025.", "(searching: Where can small craft watch it from?", "comes from"])]
#[case("compare_pipelines", &["words alone against both legs", "hit@3: 0.946 to ", "first_cited: 0.857 to "])]
#[case("own_leg", &["with weight 0", "notices/notice-2025-04.md", "(named notice: Some(1))"])]
#[case("late_interaction", &["tokens of", "1. byelaws.pdf, page 2, Article 7. Speed (rank and score among tokens: Some("])]
#[case("own_reranker", &["1. was ", "3. was "])]
#[case("compare_two_plans", &["the default:", "words alone:", "byelaws.pdf, page 2, Article 7. Speed", "shown Some(1), lost at None"])]
#[case("own_ids", &["rule-2", "Nobody stands near a line under strain.", "[1] rule-3", "2 chunks are left"])]
fn it_runs(#[case] name: &str, #[case] expected: &[&str]) {
    let printed = run(name);
    for words in expected {
        assert!(printed.contains(words), "{printed}");
    }
}

#[test]
fn examples_are_short() {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("examples");
    for entry in std::fs::read_dir(folder).expect("examples").flatten() {
        let lines = std::fs::read_to_string(entry.path()).expect("an example").lines().count();
        assert!(lines < 80, "{} has {lines} lines", entry.path().display());
    }
}
