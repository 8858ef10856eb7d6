//! How passages are searched for: the plan in force, changes to it, and why a passage stands where it does.

use rstest::rstest;

use crate::common::{built, run, settled};

#[test]
fn the_plan_in_force_is_printed_as_it_is_written() {
    let folder = built();
    let ran = run(folder.path(), &["search", "--plan"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("plan", ran.out);
    // What is printed is a configuration, and says the same again.
    std::fs::write(folder.path().join("same.toml"), &ran.out).expect("a file");
    assert_eq!(run(folder.path(), &["search", "--plan", "--config", "same.toml"]).out, ran.out);
    let changed =
        run(folder.path(), &["search", "--plan", "--set", "rerank.kind=none", "--set", "search.keyword=0.25"]);
    assert!(changed.out.contains("kind = \"none\"") && changed.out.contains("keyword = 0.25\n"), "{}", changed.out);
    let json: serde_json::Value =
        serde_json::from_str(&run(folder.path(), &["search", "--plan", "--json"]).out).expect("JSON");
    assert_eq!(json["plan"]["rerank"]["kind"], "learned");
}

#[test]
fn a_change_holds_for_one_call() {
    let folder = built();
    let query = "When may a deep vessel enter the North Channel?";
    let first = run(folder.path(), &["search", query, "--count", "3"]).out;
    let changed = run(folder.path(), &["search", query, "--count", "3", "--set", "rerank.kind=none"]).out;
    assert!(first.contains(", fused #1 (") && !changed.contains(", fused #1 ("), "{first}\n{changed}");
    assert!(run(folder.path(), &["search", query, "--count", "3"]).out.contains(", fused #1 ("));
    let asked = run(folder.path(), &["ask", query, "--set", "passages=0"]);
    assert_eq!(asked.code, 2);
    assert!(asked.err.contains("0 passages answer nothing"), "{}", asked.err);
}

#[rstest]
#[case("rerank.kind=noen", "unknown variant `noen`, expected `none` or `learned`")]
#[case("rerank.knd=none", "unknown field `knd`")]
#[case("rerank.depth=0", "0 candidates have no order")]
#[case("keywrod=1", "did you mean `keyword`?")]
#[case("diversity.max_of_section=-1", "diversity")]
#[case("rerank", "“rerank” sets nothing; write a key and a value, such as rerank.kind=none")]
fn a_change_that_is_wrong_says_why(#[case] change: &str, #[case] said: &str) {
    let folder = built();
    let ran = run(folder.path(), &["search", "bell", "--set", change]);
    assert_eq!((ran.code, ran.out.as_str()), (2, ""));
    assert!(ran.err.contains(said), "{}", ran.err);
}

#[test]
fn each_passage_says_why_it_stands_where_it_does() {
    let folder = built();
    let ran = run(folder.path(), &["search", "How fast may a vessel go in the basin?", "--why", "--count", "4"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("why", settled(&ran.out, folder.path()));
    // A search by one leg has nothing to say, and says nothing.
    let ran = run(folder.path(), &["search", "basin", "--why", "--set", "keyword=0"]);
    assert!(!ran.out.contains("reranked"), "{}", ran.out);
}
