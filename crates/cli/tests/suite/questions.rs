//! From no questions to a set: drafts, sheets to judge, and sets whose documents have changed.

use std::fs;
use std::path::Path;

use crate::common::{Ran, built, command, demo, folder, run, settled};
use rstest::rstest;
use serde_json::Value;

/// Runs the command with what somebody types.
fn typed(folder: &Path, arguments: &[&str], keys: &str) -> Ran {
    let mut command = assert_cmd::Command::from_std(command(folder, arguments));
    let output = command.write_stdin(keys).output().expect("the command runs");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    Ran { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

fn lines(file: &Path) -> Vec<Value> {
    let text = fs::read_to_string(file).expect("a set");
    text.lines().map(|line| serde_json::from_str(line).expect("a question")).collect()
}

#[test]
fn drafts_are_spread_over_the_documents_and_name_their_sources() {
    let folder = built();
    let ran = run(folder.path(), &["evaluate", "--draft", "30", "--near-misses", "6", "drafts.jsonl"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("drafts", settled(&ran.out, folder.path()));
    let drafts = lines(&folder.path().join("drafts.jsonl"));
    assert_eq!(drafts.len(), 36);
    let documents: std::collections::BTreeSet<&str> =
        drafts.iter().filter_map(|draft| draft["relevant"][0]["document"].as_str()).collect();
    assert!(documents.len() >= 10, "{documents:?}");
    for draft in drafts.iter().filter(|draft| draft["refuse"] != true) {
        let source = draft["source"].as_str().expect("a source");
        assert!(draft["answer"].as_str().is_none_or(|answer| source.contains(answer)), "{draft}");
        assert!(draft["draft"] == true && draft["relevant"][0]["content_hash"].is_string(), "{draft}");
    }
    // The file can be measured as it is, and is not overwritten.
    assert_eq!(run(folder.path(), &["evaluate", "drafts.jsonl"]).code, 0);
    let ran = run(folder.path(), &["evaluate", "--draft", "3", "drafts.jsonl"]);
    assert!(ran.code == 2 && ran.err.contains("this file exists already"), "{}", ran.err);
    // Without a file it is printed.
    let ran = run(folder.path(), &["evaluate", "--draft", "3"]);
    assert_eq!(ran.out.lines().filter(|line| line.starts_with("{\"id\":")).count(), 3);
}

#[test]
fn questions_are_judged_by_keys_and_become_a_set() {
    let folder = built();
    let queries = "How deep is Berth 7?\nWho painted the lighthouse?\n\nWhat does a pilot cost?\n";
    fs::write(folder.path().join("queries.txt"), queries).expect("a file");
    // Without a key it is a sheet to read, and nothing is written.
    let ran = typed(folder.path(), &["evaluate", "--queries", "queries.txt"], "");
    assert_eq!(ran.code, 0, "{}", ran.err);
    insta::assert_snapshot!("sheet", settled(&ran.out, folder.path()));
    let set = folder.path().join("queries.jsonl");
    assert!(!set.exists());

    // The second passage is right; nothing answers the second question; the third is left.
    let ran = typed(folder.path(), &["evaluate", "--queries", "queries.txt"], "w\nk\nn\nu\nq\n");
    let said = "1 kept, 1 without an answer in the documents, 0 removed, 1 still to judge; in";
    assert!(ran.code == 0 && ran.out.contains(said), "{} {}", ran.out, ran.err);
    let judged = lines(&set);
    assert_eq!(judged[0]["relevant"][0]["document"], "notices/notice-2025-03.md");
    assert_eq!((&judged[1]["refuse"], judged[2].get("relevant")), (&Value::Bool(true), None));
    let ran = run(folder.path(), &["evaluate", "queries.jsonl"]);
    assert!(ran.code == 1 && ran.err.contains("line 3: say where the answer is"), "{}", ran.err);

    // It goes on where it was.
    let ran = typed(folder.path(), &["evaluate", "--queries", "queries.jsonl"], "k\n");
    assert!(ran.out.contains("1 kept") && ran.out.contains("Measure with: logothete evaluate"), "{}", ran.out);
    assert_eq!(run(folder.path(), &["evaluate", "queries.jsonl"]).code, 0);
}

#[test]
fn drafts_are_kept_removed_or_left() {
    let folder = built();
    assert_eq!(run(folder.path(), &["evaluate", "--draft", "3", "--near-misses", "1", "drafts.jsonl"]).code, 0);
    let ran = typed(folder.path(), &["evaluate", "--queries", "drafts.jsonl"], "k\nw\nu\nk\n");
    assert!(
        ran.out.starts_with("1 kept, 1 without an answer in the documents, 1 removed, 1 still to judge"),
        "{}",
        ran.out
    );
    let drafts = lines(&folder.path().join("drafts.jsonl"));
    let marked: Vec<bool> = drafts.iter().map(|draft| draft["draft"] == true).collect();
    assert_eq!(marked, [false, true, false]);
}

#[test]
fn a_set_says_which_documents_have_changed_since() {
    let folder = folder();
    let papers = folder.path().join("papers");
    fs::create_dir(&papers).expect("a folder");
    for name in ["notice-2025-02.md", "notice-2025-07.md"] {
        fs::copy(demo("documents").join("notices").join(name), papers.join(name)).expect("a copy");
    }
    assert_eq!(run(folder.path(), &["build", "papers"]).code, 0);
    assert_eq!(run(folder.path(), &["evaluate", "--draft", "6", "drafts.jsonl"]).code, 0);
    assert!(!run(folder.path(), &["evaluate", "drafts.jsonl"]).out.contains("has changed"));
    fs::write(papers.join("notice-2025-07.md"), "# Notice\n\nNothing of it holds.\n").expect("a file");
    assert_eq!(run(folder.path(), &["build"]).code, 0);
    let ran = run(folder.path(), &["evaluate", "drafts.jsonl"]);
    assert!(ran.out.contains("notice-2025-07.md has changed since the question was made"), "{}", ran.out);
    assert!(!ran.out.contains("notice-2025-02.md has changed"), "{}", ran.out);
}

#[rstest]
#[case(&["evaluate"], "SET")]
#[case(&["evaluate", "--near-misses", "3", "a.jsonl"], "--draft")]
#[case(&["evaluate", "--draft", "3", "a.jsonl", "b.jsonl"], "drafts are written to one file")]
#[case(&["evaluate", "--queries", "a.jsonl", "b.jsonl"], "one file is judged at a time")]
#[case(&["evaluate", "--queries", "none.txt"], "none.txt: the questions could not be read")]
#[case(&["evaluate", "--queries", "empty.txt"], "there is no question in this file")]
fn what_is_wrong_is_named(#[case] arguments: &[&str], #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("empty.txt"), "\n\n").expect("a file");
    let ran = run(folder.path(), arguments);
    assert!([1, 2].contains(&ran.code) && ran.err.contains(said), "{} {}", ran.code, ran.err);
}
