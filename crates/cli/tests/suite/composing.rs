//! Pipelines as values, from the shell: `describe`, `ask --into`, and `--groups`.

use std::fs;

use crate::common::{built, folder, run};

const SETTINGS: &str = r#"
[search]
legs = { headings = 0.3 }
when = { headings = [{ words = "byelaw" }, { question = false }] }
transform = "split"
expand = { kind = "section" }
allow = "groups"

[tree]
kind = "sentences"

[routing]
fallback = "harbour"

[routing.routes.harbour]
corpus = "harbour.corpus"
description = "rules and notices of the harbour"

[routing.routes.tides]
corpus = "tides.corpus"
words = ["tide", "high water"]
"#;

#[test]
fn a_pipeline_is_described_and_drawn() {
    let folder = folder();
    let at = folder.path();
    insta::assert_snapshot!("describe_default", run(at, &["describe"]).out);

    fs::write(at.join("logothete.toml"), SETTINGS).expect("settings");
    let described = run(at, &["describe", "--drawing", "pipeline.svg"]);
    assert_eq!(described.code, 0, "{}", described.err);
    insta::assert_snapshot!("describe_composed", described.out);
    let drawing = fs::read_to_string(at.join("pipeline.svg")).expect("a drawing");
    assert!(drawing.starts_with("<svg") && drawing.trim_end().ends_with("</svg>"));
    assert_eq!(drawing.matches("class=\"some\"").count(), 4, "two routes and two legs have rules");
    assert!(drawing.contains("when the question has"), "{drawing}");
    let again = run(at, &["describe", "--drawing", "pipeline.svg"]);
    assert!(again.code != 0 && again.err.contains("--force"), "{}", again.err);

    let json: serde_json::Value =
        serde_json::from_str(&run(at, &["describe", "--json"]).out).expect("one JSON document");
    assert_eq!(json["version"], 1);
    let stages = json["stages"].as_array().expect("stages");
    let headings = stages.iter().find(|stage| stage["name"] == "headings").expect("a leg");
    assert_eq!(headings["when"], "the question has “byelaw”, or it is no question");
    assert_eq!((headings["journey"].as_str(), headings["own"].as_bool()), (Some("asking"), Some(false)));
}

#[test]
fn a_drawing_has_no_markup_of_a_setting() {
    let folder = folder();
    let settings = "[search]\nwhen = { vector = [{ words = \"<script>&\" }] }\n";
    fs::write(folder.path().join("logothete.toml"), settings).expect("settings");
    run(folder.path(), &["describe", "--drawing", "p.svg"]);
    let drawing = fs::read_to_string(folder.path().join("p.svg")).expect("a drawing");
    assert!(!drawing.contains("<script") && drawing.contains("&lt;script&gt;&amp;"), "{drawing}");
}

#[test]
fn answers_go_to_a_file_that_is_continued() {
    let folder = built();
    let at = folder.path();
    fs::write(at.join("questions.txt"), "When does the swing bridge open?\n?!\nWho is the mayor of Atlantis?\n")
        .expect("questions");
    let asked = ["ask", "--questions", "questions.txt", "--into", "answers.jsonl"];
    let first = run(at, &asked);
    assert_eq!(
        (first.code, first.out.as_str()),
        (
            4,
            "2 answers in answers.jsonl; 1 of the new ones refused\nquestion 2 failed: “?!” has no word to search for; add one\n"
        )
    );
    let text = fs::read_to_string(at.join("answers.jsonl")).expect("answers");
    assert_eq!(text.lines().count(), 3);
    let second = run(at, &asked);
    assert!(second.out.starts_with("2 answers in answers.jsonl, 2 of them from before\n"), "{}", second.out);
    assert_eq!(fs::read_to_string(at.join("answers.jsonl")).expect("answers"), text);
    let other = run(at, &["ask", "--questions", "questions.txt", "--into", "answers.jsonl", "--set", "passages=3"]);
    assert!(other.code == 2 && other.err.contains("was answered by another pipeline"), "{} {}", other.code, other.err);
    let alone = run(at, &["ask", "What?", "--into", "answers.jsonl"]);
    assert_eq!(alone.code, 2, "{}", alone.err);
}

#[test]
fn groups_see_what_they_may() {
    let folder = folder();
    let at = folder.path();
    fs::create_dir(at.join("docs")).expect("a folder");
    let document = |groups: &str, text: &str| format!("---\ngroups: {groups}\n---\n# Keys\n\n{text}\n");
    fs::write(at.join("docs/all.md"), document("everyone", "The key of the gate hangs in the office."))
        .expect("a file");
    fs::write(at.join("docs/staff.md"), document("staff", "The key of the safe hangs behind the chart."))
        .expect("a file");
    fs::write(at.join("logothete.toml"), "[sources]\npaths = [\"docs\"]\n[search]\nallow = \"groups\"\n")
        .expect("settings");
    assert_eq!(run(at, &["build"]).code, 0);
    let question = "Where does the key of the safe hang?";
    let (owner, staff) = (run(at, &["ask", question]), run(at, &["ask", question, "--groups", "crane,staff"]));
    assert!(owner.out.contains("behind the chart") && staff.out.contains("behind the chart"), "{}", staff.out);
    let guest = run(at, &["ask", question, "--groups", "guests"]);
    assert!(!guest.out.contains("behind the chart"), "{}", guest.out);
    let found = run(at, &["search", "key", "--groups", ""]);
    assert!(found.out.contains("all.md") && !found.out.contains("staff.md"), "{}", found.out);
    let hidden = run(at, &["show", "--document", "staff.md", "--groups", "guests"]);
    assert!(hidden.code == 1 && hidden.err.contains("the corpus has no document of this name"), "{}", hidden.err);

    fs::write(at.join("logothete.toml"), "[sources]\npaths = [\"docs\"]\n").expect("settings");
    let open = run(at, &["ask", question, "--groups", "guests"]);
    assert!(open.code != 0 && open.err.contains("[search] allow"), "{}", open.err);
}
