//! What the README says is so.

use std::path::{Path, PathBuf};

use crate::common::{folder, run};

fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn readme() -> String {
    std::fs::read_to_string(root().join("README.md")).expect("the README")
}

/// The first fenced block that holds some words.
fn block(words: &str) -> String {
    let text = readme();
    let blocks = text.split("```").skip(1).step_by(2);
    let found = blocks.into_iter().find(|block| block.contains(words)).expect("a block with these words");
    found.split_once('\n').expect("its language").1.to_owned()
}

#[test]
fn the_cited_answer_is_what_the_demo_prints() {
    let ran = run(folder().path(), &["demo"]);
    assert!(ran.out.contains(block("? What is the greatest draught").trim()), "{}", ran.out);
}

#[test]
fn the_library_program_is_the_example() {
    let example = std::fs::read_to_string(root().join("crates/logothete/examples/quickstart.rs")).expect("the example");
    assert!(example.contains(block("Pipeline::default().open(\"harbour.corpus\")").trim()));
}

#[test]
fn every_link_leads_somewhere() {
    for file in [
        "README.md",
        "CHANGELOG.md",
        "demo/README.md",
        "docs/architecture.md",
        "docs/format.md",
        "docs/guide/answers.md",
        "docs/guide/checking.md",
        "docs/guide/chunking.md",
        "docs/guide/composing.md",
        "docs/guide/digests.md",
        "docs/guide/encoders.md",
        "docs/guide/measuring.md",
        "docs/guide/prompts.md",
        "docs/guide/searching.md",
        "docs/guide/serving.md",
        "docs/guide/trees.md",
        "docs/security.md",
        "bench/README.md",
    ] {
        let path = root().join(file);
        let text = std::fs::read_to_string(&path).expect(file);
        for target in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let (target, section) = target.split_once('#').unwrap_or((target, ""));
            let place = path.parent().unwrap_or(Path::new(".")).join(target);
            assert!(place.exists(), "{file} links to {target}");
            let has_section = |text: String| {
                let headings = text.lines().filter_map(|line| line.strip_prefix("## "));
                headings.map(|heading| heading.to_lowercase().replace(' ', "-")).any(|heading| heading == section)
            };
            let is_there = section.is_empty() || std::fs::read_to_string(&place).is_ok_and(has_section);
            assert!(is_there, "{file} links to {section} in {target}");
        }
    }
}

#[test]
fn the_table_of_scores_is_what_evaluate_prints() {
    let folder = crate::common::built();
    let text = readme();
    for (split, column) in [("dev", 2), ("test", 3)] {
        let ran = run(folder.path(), &["evaluate", "DEMO/../questions.jsonl", "--split", split, "--json"]);
        let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
        let value = |name: &str| json["runs"][0]["metrics"][name].as_f64().expect("a measure");
        for (row, measure) in [
            ("whose answer cites", "cited"),
            ("say what was expected", "said"),
            ("whose first citation is right", "first_cited"),
            ("questions that were refused", "refused"),
            ("or answered as not sure", "doubted"),
            ("refusals that were right", "refusals_right"),
            ("nDCG@10 of the passages", "ndcg@10"),
        ] {
            let line =
                text.lines().find(|line| line.starts_with('|') && line.contains(row)).expect("a row of the table");
            let cell = line.split('|').nth(column).expect("a cell").trim();
            let shown = match cell.split_once(" of ") {
                Some((part, whole)) => part.parse::<f64>().expect("a number") / whole.parse::<f64>().expect("a number"),
                None => cell.parse().expect("a number"),
            };
            assert!((shown - value(measure)).abs() < 0.001, "{split} {measure}: {shown} is not {}", value(measure));
        }
    }
}
