//! The edges of the command: files that exist, names that colour, usage errors, exit codes.

use std::fs;

use serde_json::Value;

use crate::common::{folder, run};

const JSON: &str = "--json";

#[test]
fn nothing_that_exists_is_overwritten_without_force() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("a.md"), "# Bell\n\nThe bell rings.\n").expect("a file");
    fs::write(at("kept.txt"), "mine").expect("a file");
    let refused = run(folder.path(), &["parse", "a.md", "--format", "text", "--output", "kept.txt"]);
    assert_eq!((refused.code, fs::read_to_string(at("kept.txt")).expect("a file").as_str()), (1, "mine"));
    assert!(refused.err.contains("it exists already") && refused.err.contains("--force"), "{}", refused.err);
    let forced = run(folder.path(), &["parse", "a.md", "--format", "text", "--output", "kept.txt", "--force"]);
    assert_eq!(
        (forced.code, fs::read_to_string(at("kept.txt")).expect("a file").as_str()),
        (0, "Bell\n\nThe bell rings.\n")
    );
    // The input is never written over.
    let own = run(folder.path(), &["parse", "a.md", "--output", "a.md", "--force"]);
    assert_eq!(own.code, 1);
    assert!(own.err.contains("one of the files that were parsed"), "{}", own.err);
    assert!(fs::read_to_string(at("a.md")).expect("a file").starts_with("# Bell"));
    // Nothing is written for an input that is missing.
    let missing = run(folder.path(), &["parse", "b.md", "--output", "new.txt"]);
    assert_eq!((missing.code, at("new.txt").exists()), (1, false));
    let missing = run(folder.path(), &["parse", "b.md", "--figures", "figures"]);
    assert_eq!((missing.code, at("figures").exists()), (1, false));
    let left: Vec<_> =
        fs::read_dir(folder.path()).expect("a folder").flatten().map(|entry| entry.file_name()).collect();
    assert_eq!(left.len(), 2, "no temporary file is left: {left:?}");
}

#[test]
fn usage_errors_are_json_when_json_is_wanted() {
    let folder = folder();
    for arguments in [vec!["serch", "bell", JSON], vec!["search", JSON], vec!["chunk", "a.md", "--limit", "many", JSON]]
    {
        let ran = run(folder.path(), &arguments);
        let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
        assert_eq!((ran.code, json["error"]["kind"].as_str()), (2, Some("Usage")), "{arguments:?}");
        assert!(!json["error"]["message"].as_str().expect("a message").is_empty() && !ran.err.is_empty());
    }
    assert_eq!(run(folder.path(), &["--help"]).code, 0);
    assert!(run(folder.path(), &["--version", JSON]).out.starts_with("logothete"));
}

#[test]
fn a_build_that_failed_in_part_has_its_own_exit_code() {
    let folder = folder();
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    fs::write(folder.path().join("docs/a.md"), "The bell rings.").expect("a file");
    assert_eq!(run(folder.path(), &["build", "docs"]).code, 0);
    fs::write(folder.path().join("docs/b.pdf"), "").expect("a file");
    assert_eq!(run(folder.path(), &["build", "docs"]).code, 4);
    assert_eq!(run(folder.path(), &["parse", "docs"]).code, 4);
    assert_eq!(run(folder.path(), &["chunk", "docs"]).code, 4);
    fs::remove_file(folder.path().join("docs/a.md")).expect("a removal");
    assert_eq!(run(folder.path(), &["parse", "docs"]).code, 1);
}

#[cfg(unix)]
#[test]
fn a_dangling_link_is_called_one() {
    let folder = folder();
    std::os::unix::fs::symlink("nowhere", folder.path().join("docs")).expect("a link");
    let ran = run(folder.path(), &["build", "docs"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("this link leads to nothing") && !ran.out.contains("did you mean"), "{}", ran.out);
}

#[test]
fn a_key_in_place_of_its_name_is_not_printed() {
    let folder = folder();
    let settings = "[encoder]\nkind = \"remote\"\naddress = \"http://127.0.0.1:9/v1\"\nmodel = \"m\"\ndimensions = 8\n\
                    key_env = \"sk-live-0123456789abcdef\"\n[privacy]\nallow = [\"127.0.0.1:9\"]\n";
    fs::write(folder.path().join("logothete.toml"), settings).expect("a file");
    fs::write(folder.path().join("a.md"), "The bell rings.").expect("a file");
    for arguments in [vec!["build", "a.md"], vec!["build", "a.md", JSON]] {
        let ran = run(folder.path(), &arguments);
        assert_eq!(ran.code, 2, "{}", ran.err);
        assert!(!format!("{}{}", ran.out, ran.err).contains("sk-live"), "{}{}", ran.out, ran.err);
        assert!(ran.err.contains("not the key itself"), "{}", ran.err);
    }
}

/// On a terminal only the program's own colours are colours.
#[cfg(unix)]
#[test]
fn names_and_titles_neither_colour_nor_reorder() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    fs::write(docs.join("bell\u{1b}[8m\u{202e}.md"), "# Bell \u{202e}gnir\u{1b}[31m\n\nThe bell rings.\n")
        .expect("a file");
    for arguments in
        [vec!["build", "docs"], vec!["show"], vec!["parse", "docs"], vec!["search", "bell"], vec!["show", JSON]]
    {
        let ran = run(folder.path(), &arguments);
        assert_eq!(ran.code, 0);
        let bad = |c: char| matches!(c, '\u{1b}' | '\u{202e}');
        assert_eq!(ran.out.find(bad), None, "{arguments:?}: {:?}", ran.out);
    }
}

#[test]
fn question_files_may_begin_with_a_byte_order_mark() {
    let folder = folder();
    fs::write(folder.path().join("a.md"), "The bell rings.").expect("a file");
    fs::write(folder.path().join("queries.txt"), "\u{feff}bell\n").expect("a file");
    assert_eq!(run(folder.path(), &["build", "a.md"]).code, 0);
    let json: Value =
        serde_json::from_str(&run(folder.path(), &["search", "--queries", "queries.txt", JSON]).out).expect("JSON");
    assert_eq!(json["searches"][0]["query"], "bell");
    let set = "\u{feff}{\"id\": \"1\", \"question\": \"What rings?\", \"relevant\": [{\"document\": \"b.md\"}]}\n";
    fs::write(folder.path().join("set.jsonl"), set).expect("a file");
    let ran = run(folder.path(), &["evaluate", "set.jsonl"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("set.jsonl, line 1: b.md is not in the corpus; did you mean a.md?"), "{}", ran.out);
}
