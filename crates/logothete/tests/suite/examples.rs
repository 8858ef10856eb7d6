//! Every example runs on the demo's documents.

use std::io::Write;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use rstest::rstest;

/// Runs an example beside a link to the demo, and returns what it prints.
fn run(name: &str) -> String {
    let test = std::env::current_exe().expect("this test has a path");
    let profile = test.parent().and_then(|deps| deps.parent()).expect("it lies in target/PROFILE/deps");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let demo = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo").canonicalize().expect("the demo");
    std::os::unix::fs::symlink(demo, folder.path().join("demo")).expect("a link");
    let mut command = Command::new(profile.join("examples").join(name));
    command.current_dir(folder.path()).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut example = command.spawn().unwrap_or_else(|error| panic!("{name} was not built: {error}"));
    // What somebody types into a chat; the other examples do not read it.
    let typed = "When is the regatta?\nWhere can small craft watch it from?\n\n";
    let _ = example.stdin.take().expect("a pipe").write_all(typed.as_bytes());
    let output = example.wait_with_output().expect("it ends");
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
#[case("build_script", &["cargo::warning=README.md, line 3: the source says 300 metres, the claim 30 metres", "2 claims, 1 contradicted"])]
#[case("watch_folder", &["1 added, 0 changed, 0 removed\n  1. notice-1.md, Notice 1\n1 added", "notice-2.md, Notice 2"])]
#[case("nightly_report", &["# 26 questions", "There is no night before.", "Night 2", "changed: hit@3", "Questions that changed:"])]
#[case("two_corpora", &["closes at two. [1]", "asked harbour, because no other route has it", "within 300 metres of the power cable"])]
#[case("sql_leg", &["1. notices/notice-2025-06.md, Correction: draught at Berth 7 (bookings, rank 1)", "byelaws.pdf, page 5, Article 19. The swing bridge (not in the table)"])]
#[case("own_check", &["house rules” objects: telephone numbers are not given away", "partly supported", "1 sentence left out that a check objects to."])]
#[case("own_transform", &["also searched: when is the regatta?", "The regatta is held on 14 and 15 June 2025. [1]"])]
#[case("own_source", &["1 added, 0 unchanged\n1 added, 1 unchanged", "[1] 2025-11-18.md"])]
#[case("chat_terminal", &["The regatta is held on 14 and 15 June 2025.", "(searched for: Where can small craft watch it from?", "north of the line of orange buoys. [1]"])]
#[case("stream_to_web", &["event: text\ndata: ", "The regatta is held on 14 and 15 June 2025.", "event: sources\ndata: notices/notice-2025-05.md"])]
#[case("evaluate_in_test", &["hit@3 0.", "of at least 0.85", "right 0."])]
#[case("batch_to_file", &["1 of 3", "stopped: true, 1 answered", "1 kept, 2 answered, 1 of them refused"])]
#[case("access_by_group", &["anybody finds gate.md\n  The key of the gate", "staff finds gate.md, safe.md\n  The key of the safe hangs behind the chart.", "owner finds "])]
#[case("describe_pipeline", &["berths", "when the question has “berth”", "question ─┼► vector", "? runs for some questions only"])]
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
