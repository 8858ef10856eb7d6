//! `logothete tree`, on the demo.

use std::fs;

use crate::common::{built, run};

#[test]
fn a_tree_is_grown_drawn_and_told() {
    let folder = built();
    let at = folder.path();
    let without = run(at, &["tree"]);
    assert_eq!(without.code, 1);
    assert!(
        without.err.contains("grow one with logothete tree --grow, or set kind in [tree] and build"),
        "{}",
        without.err
    );

    let grown = run(at, &["tree", "--grow", "--page", "tree.html", "--drawing", "tree.svg"]);
    assert_eq!(grown.code, 0, "{}", grown.err);
    insta::assert_snapshot!("tree_text", grown.out);
    let page = fs::read_to_string(at.join("tree.html")).expect("a page");
    assert!(page.contains("<details") && !page.contains("<script") && page.contains("byelaws.pdf, page"));
    let drawing = fs::read_to_string(at.join("tree.svg")).expect("a drawing");
    assert!(drawing.starts_with("<svg") && drawing.trim_end().ends_with("</svg>") && drawing.contains("<circle"));

    let told = run(at, &["tree", "--level", "1"]);
    insta::assert_snapshot!("tree_level_text", told.out);
    let wrong = run(at, &["tree", "--level", "9"]);
    assert!(wrong.code != 0 && wrong.err.contains("the tree has the levels 1 to"), "{}", wrong.err);
    let again = run(at, &["tree", "--page", "tree.html"]);
    assert!(again.code != 0 && again.err.contains("tree.html") && again.err.contains("--force"), "{}", again.err);
    let same = run(at, &["tree", "--grow"]);
    assert!(same.out.starts_with("The tree is as it was.\n"), "{}", same.out);

    let json = run(at, &["tree", "--json"]);
    let tree: serde_json::Value = serde_json::from_str(&json.out).expect("one JSON document");
    assert_eq!((tree["version"].as_u64(), tree["end"].as_str()), (Some(1), Some("whole")));
    let levels = tree["levels"].as_array().map(Vec::len);
    assert!(
        levels.is_some_and(|levels| levels > 1) && tree["nodes"][0]["sources"][0]["location"]["document"].is_string()
    );
}

#[test]
fn a_question_about_the_whole_is_answered_from_it() {
    let folder = built();
    let at = folder.path();
    let question = "Give me an overview of the rules for pilots and tugs.";
    let before = run(at, &["ask", question, "--json"]);
    run(at, &["tree", "--grow"]);
    let after = run(at, &["ask", question, "--json"]);
    let sources = |out: &str| {
        let reply: serde_json::Value = serde_json::from_str(out).expect("one JSON document");
        reply["sources"].as_array().map_or(0, Vec::len)
    };
    assert!(sources(&after.out) > sources(&before.out).max(3), "{}", after.out);
    insta::assert_snapshot!("tree_ask_text", run(at, &["ask", question]).out);
    let why = run(at, &["search", question, "--why"]);
    assert!(why.out.contains("tree"), "{}", why.out);
}
