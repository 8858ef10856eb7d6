//! `evaluate`: measures, comparisons, one question whole, floors, and sets that are wrong.

use std::fs;
use std::path::Path;

use crate::common::{built, run, settled};
use rstest::rstest;
use serde_json::Value;

const QUESTIONS: &str = "DEMO/../questions.jsonl";

fn json(folder: &Path, arguments: &[&str]) -> Value {
    let ran = run(folder, &[arguments, &["--json"]].concat());
    serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {} {}", ran.out, ran.err))
}

#[test]
fn one_question_is_shown_whole() {
    let folder = built();
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--show", "q26"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("evaluate_show", settled(&ran.out, folder.path()));
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--show", "q260"]);
    assert_eq!(ran.code, 1);
    assert!(ran.err.contains("no question of the set has the id \"q260\"; did you mean q2"), "{}", ran.err);
}

#[test]
fn settings_are_compared_question_by_question() {
    let folder = built();
    let vary = ["evaluate", QUESTIONS, "--split", "dev", "--vary", "search.keyword=0.1,2", "--vary", "search.depth=50"];
    let json = json(folder.path(), &vary);
    let names: Vec<&str> =
        json["runs"].as_array().expect("runs").iter().filter_map(|run| run["name"].as_str()).collect();
    assert_eq!(names.len(), 3);
    assert_eq!(names[1..], ["search.keyword=0.1 search.depth=50", "search.keyword=2 search.depth=50"]);
    let comparison = &json["comparisons"][1];
    let difference = &comparison["differences"]["ndcg@10"];
    let number = |name: &str| difference[name].as_f64().expect("a number");
    assert!((number("value") - json["runs"][2]["metrics"]["ndcg@10"].as_f64().expect("a measure")).abs() < 1e-9);
    assert!((0.0..=1.0).contains(&number("probability")) && number("corrected") >= number("probability"));
    assert!(difference["interval"]["low"].as_f64() <= difference["interval"]["high"].as_f64());
    assert!(comparison["changed"].as_array().is_some_and(|changed| !changed.is_empty()));

    fs::write(folder.path().join("words.toml"), "[search]\nvector = 0.0\n").expect("a file");
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--split", "dev", "--against", "words.toml"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    assert!(ran.out.contains("words.toml  against as configured, on 66 questions"), "{}", ran.out);
    // The same settings are no different.
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--split", "dev", "--vary", "search.depth=100"]);
    assert!(ran.out.contains("No measure differs."), "{}", ran.out);
}

#[test]
fn several_sets_are_measured_in_one_call() {
    let folder = built();
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "DEMO/../questions-dev.jsonl"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    let last: Vec<&str> = ran.out.trim_end().lines().rev().take(3).collect();
    assert!(
        last[2].starts_with("Set ") && last[1].starts_with("questions ") && last[0].starts_with("questions-dev "),
        "{last:?}"
    );
}

#[rstest]
#[case("\"hit@3\" = 0.5\n", 0, "No measure is below its floor.")]
#[case("\"ndcg@10\" = 1\nsaid = 0\n", 1, "split dev: ndcg@10 is 0.9")]
#[case("money = 1\n", 1, "split dev: money has a floor of 1, and no question measures it")]
fn a_floor_is_kept_or_named(#[case] floors: &str, #[case] code: i32, #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("floor.toml"), floors).expect("a file");
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--split", "dev", "--floor", "floor.toml"]);
    assert_eq!((ran.code, ran.err.as_str()), (code, ""));
    assert!(ran.out.contains(said), "{}", ran.out);
}

#[rstest]
#[case(&["--vary", "search.keywrd=1"], "did you mean `keyword`?")]
#[case(&["--vary", "search.keyword=much"], "--vary")]
#[case(&["--vary", "search.keyword"], "write a setting and values such as search.keyword=0.3,0.7")]
#[case(&["--vary", "chunk.limit=many"], "--vary")]
#[case(&["--run", "none.run"], "line 1: a line has question, 0, document, grade")]
#[case(&["--against", "none.toml"], "none.toml: this file could not be read")]
#[case(&["--floor", "none.toml"], "none.toml: the floors could not be read")]
#[case(&["--floor", "floor.toml"], "floor.toml: unknown measure \"hit@4\"; did you mean hit@")]
#[case(&["--floor", "broken.toml"], "broken.toml: line 2 is not valid TOML")]
#[case(&["--split", "dve"], "no question has the split \"dve\"; did you mean dev?")]
fn what_is_wrong_is_named(#[case] arguments: &[&str], #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("floor.toml"), "\"hit@4\" = 0.5\n").expect("a file");
    fs::write(folder.path().join("broken.toml"), "said = 0.5\nhit@3 = 0.5\n").expect("a file");
    let ran = run(folder.path(), &[&["evaluate", QUESTIONS], arguments].concat());
    assert!([1, 2].contains(&ran.code) && ran.out.is_empty(), "{} {}", ran.code, ran.out);
    assert!(ran.err.contains(said), "{}", ran.err);
}

#[rstest]
#[case("", "set.jsonl: there is no question in this set")]
#[case("{\"id\": \"1\"\n", "set.jsonl, line 1: this is not a question")]
#[case(
    "\n{\"id\": \"1\", \"question\": \"A?\", \"refuse\": true}\n{\"id\": \"1\", \"question\": \"B?\", \"refuse\": true}\n",
    "set.jsonl, line 3: the id \"1\" was used before"
)]
#[case("{\"id\": \"1\", \"queston\": \"A?\"}\n", "set.jsonl, line 1: unknown key `queston`; did you mean `question`?")]
#[case(
    "{\"id\": \"1\", \"question\": \"A?\", \"relevent\": []}\n",
    "set.jsonl, line 1: unknown key `relevent`; did you mean `relevant`?"
)]
#[case(
    "{\"id\": \"1\", \"question\": \"A?\", \"relevant\": [{\"document\": \"a\", \"secton\": \"b\"}]}\n",
    "line 1: unknown key `secton` in \"relevant\"; did you mean `section`?"
)]
#[case(
    "{\"id\": \"1\", \"question\": \"A?\", \"relevant\": [{\"document\": \"a\", \"where\": \"b\"}]}\n",
    "line 1: unknown key `where` in \"relevant\"; a place has document, section"
)]
fn a_set_that_is_wrong_says_where(#[case] set: &str, #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("set.jsonl"), set).expect("a file");
    let ran = run(folder.path(), &["evaluate", "set.jsonl"]);
    assert_eq!(ran.code, 1);
    assert!(ran.err.contains(said), "{}", ran.err);
}
