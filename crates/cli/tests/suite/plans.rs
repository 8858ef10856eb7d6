//! How passages are searched for: the plan in force, changes to it, and why a passage stands where it does.

use logothete::Config;
use rstest::rstest;

use crate::common::{built, run, settled};

#[test]
fn the_plan_in_force_is_printed_as_it_is_written() {
    let folder = built();
    let ran = run(folder.path(), &["search", "--plan"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("plan", ran.out);
    // Every setting of the table is there.
    let table: Vec<&str> = Config::STARTER.lines().skip_while(|line| *line != "[search]").skip(1).collect();
    for line in table.iter().take_while(|line| !line.starts_with('[')).filter(|line| line.contains(" = ")) {
        let (key, _) = line.split_once(" = ").expect("a setting");
        assert!(ran.out.contains(&format!("\n{key} = ")), "{key}");
    }
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
#[case("rerank.kind=noen", "unknown variant `noen`, expected one of `none`, `learned`, `tokens`, `cross`")]
#[case("rerank.knd=none", "unknown field `knd`")]
#[case("rerank.depth=0", "0 candidates have no order")]
#[case("keywrod=1", "did you mean `keyword`?")]
#[case("diversity.repeat=1.5", "this factor must be from 0 to 1")]
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

#[test]
fn two_plans_stand_side_by_side() {
    let folder = built();
    std::fs::write(folder.path().join("words.toml"), "[search]\nvector = 0.0\n").expect("a file");
    let query = "How fast may a vessel go in the basin?";
    let ran = run(folder.path(), &["search", query, "--count", "4", "--against", "words.toml"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("against", ran.out);
    let same = run(folder.path(), &["search", "--plan"]).out;
    std::fs::write(folder.path().join("same.toml"), same).expect("a file");
    let ran = run(folder.path(), &["search", query, "--count", "4", "--against", "same.toml"]);
    assert!(ran.out.contains("4 of 4 passages at the same rank in both"), "{}", ran.out);
    let json = run(folder.path(), &["search", query, "--against", "words.toml", "--json"]).out;
    let json: serde_json::Value = serde_json::from_str(&json).expect("JSON");
    assert!(json["search"]["passages"].is_array() && json["against"]["passages"].is_array());
    let missing = run(folder.path(), &["search", query, "--against", "nothing.toml"]);
    assert!(missing.code == 1 && missing.err.contains("could not be read"), "{}", missing.err);
}

#[rstest]
#[case("document fits \"byelaws*\" and section contains Speed", "1 chunk where", "The best of them is shown.")]
#[case("document fits \"watch*\"", "9 chunks where", "The fusion put others before them")]
#[case("document = rain.md", "0 chunks where", "No document has such a passage")]
fn what_was_expected_is_found_or_missed_at_a_step(#[case] filter: &str, #[case] chunks: &str, #[case] said: &str) {
    let folder = built();
    let query = "How fast may a vessel go in the basin?";
    let ran = run(folder.path(), &["search", query, "--count", "2", "--expect", filter]);
    let joined = ran.out.replace('\n', " ");
    assert!(ran.code == 0 && joined.contains(chunks) && joined.contains(said), "{}", ran.out);
    let wrong = run(folder.path(), &["search", query, "--expect", "document fits"]);
    assert_eq!(wrong.code, 2);
}

#[test]
fn what_was_left_out_is_said_with_the_reasons() {
    let folder = built();
    let settings = "[chunk]\nstrategy = \"window\"\nlimit = 60\noverlap = 25\n";
    std::fs::write(folder.path().join("windows.toml"), settings).expect("a file");
    let at = ["--config", "windows.toml", "--corpus", "windows.corpus"];
    let ran = run(folder.path(), &[&["build", "DEMO"], &at[..]].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let search = |more: &[&str]| {
        let query = ["search", "How fast may a vessel go in the basin?", "--count", "3", "--why"];
        run(folder.path(), &[&query, &at[..], more].concat()).out
    };
    let out = search(&["--set", "diversity.max_overlap=0.3", "--set", "diversity.max_of_document=1"]);
    assert!(out.contains("Left out: ") && out.contains("which repeat most of a better one."), "{out}");
    assert!(out.contains("Moved to the end: ") && out.contains("too many of their document."), "{out}");
    let all = search(&["--set", "diversity.max_overlap=1.0"]);
    assert!(!all.contains("Left out: ") && !all.contains("Moved to the end: "), "{all}");
}

#[test]
fn words_that_mean_the_same_are_set_off_in_another_way() {
    let folder = built();
    let ran = run(folder.path(), &["search", "How fast may a ship go in the Outer Basin?", "--why", "--count", "1"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    // “vessel” is no word of the question; “Basin” is.
    assert!(ran.out.contains("vessel") && ran.out.contains("˙˙˙˙˙˙"), "{}", ran.out);
    assert!(ran.out.contains("‾‾‾‾‾"), "{}", ran.out);
}

#[test]
fn the_parts_of_a_question_are_searched_alone_and_shown() {
    let folder = built();
    let question = "How long is Berth 9, and when is the swing bridge opened?";
    let ran = run(folder.path(), &["search", question, "--count", "3", "--set", "transform=split"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("parts", settled(&ran.out, folder.path()));
    let ran = run(folder.path(), &["search", question, "--set", "transform=split", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("JSON");
    assert_eq!(json["parts"].as_array().map(Vec::len), Some(2));
    let ran = run(folder.path(), &["search", "swing bridge", "--count", "1", "--set", "transform=phrasings"]);
    assert!(ran.out.contains("transform = phrasings needs a generator"), "{}", ran.out);
}

#[test]
fn a_configuration_with_routes_sends_questions_where_they_belong() {
    let folder = built();
    std::fs::create_dir(folder.path().join("log")).expect("a folder");
    std::fs::write(folder.path().join("log/radar.txt"), "The radar on the mole was mended on 3 March.\n")
        .expect("a file");
    let built = run(folder.path(), &["build", "log", "--corpus", "log.corpus"]);
    assert_eq!(built.code, 0, "{}", built.err);
    let config = "[routing]\nfallback = \"harbour\"\n[routing.routes.harbour]\ncorpus = \"logothete.corpus\"\n\
                  [routing.routes.log]\ncorpus = \"log.corpus\"\nwords = [\"mended\"]\n";
    std::fs::write(folder.path().join("logothete.toml"), config).expect("a file");
    let ran = run(folder.path(), &["search", "When was the radar mended?"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("routed", settled(&ran.out, folder.path()));
    let ran = run(folder.path(), &["ask", "How fast may a vessel go in the Outer Basin?"]);
    assert!(ran.code == 0 && ran.out.starts_with("→ harbour: no other route has it\n"), "{}", ran.out);
    assert!(ran.out.contains("6 knots in"), "{}", ran.out);
    let ran = run(folder.path(), &["search", "radar", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("JSON");
    assert_eq!((&json["choices"][0]["route"], &json["passages"][0]["route"]), (&"harbour".into(), &"harbour".into()));
    let refused = run(folder.path(), &["search", "radar", "--why"]);
    assert!(refused.code != 0 && refused.err.contains("name the corpus with --corpus"), "{}", refused.err);
    let named = run(folder.path(), &["search", "radar", "--why", "--corpus", "log.corpus"]);
    assert_eq!(named.code, 0, "{}", named.err);
    let nothing = config.replace("log.corpus", "no.corpus");
    std::fs::write(folder.path().join("logothete.toml"), nothing).expect("a file");
    let gone = run(folder.path(), &["ask", "When?"]);
    assert!(gone.err.contains("leads to a corpus that is not there"), "{}", gone.err);
}
