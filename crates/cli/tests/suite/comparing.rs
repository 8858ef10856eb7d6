//! `evaluate` with pipelines side by side, reports, pictures and files of TREC; and `tune`.

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

fn variants(folder: &Path) -> usize {
    fs::read_dir(folder.join("logothete.corpus/variants")).map_or(0, Iterator::count)
}

#[test]
fn settings_of_a_build_are_compared_in_corpora_of_their_own() {
    let folder = built();
    let corpus = folder.path().join("logothete.corpus/corpus.db");
    let before = fs::read(&corpus).expect("a catalogue");
    let vary =
        ["evaluate", QUESTIONS, "--split", "dev", "--vary", "chunk.limit=60,150", "--vary", "index.fields.title=3"];
    let first = json(folder.path(), &vary);
    let runs = first["runs"].as_array().expect("runs");
    assert_eq!(runs[1]["name"], "chunk.limit=60 index.fields.title=3");
    let ndcg = |run: &Value| run["metrics"]["ndcg@10"].as_f64().expect("a measure");
    assert!((ndcg(&runs[0]) - ndcg(&runs[1])).abs() > 1e-6, "smaller chunks change the ranking");
    assert_eq!((variants(folder.path()), fs::read(&corpus).expect("a catalogue") == before), (2, true));

    // What was built is used again, and gives the same.
    let again = json(folder.path(), &vary);
    assert_eq!(ndcg(&again["runs"][2]), ndcg(&runs[2]));
    assert_eq!(variants(folder.path()), 2);

    let shown = run(folder.path(), &["show"]).out;
    assert!(shown.contains("2 corpora of other settings, "), "{shown}");
    let compacted = run(folder.path(), &["build", "--compact"]).out;
    assert!(compacted.contains("2 corpora of other settings were removed, "), "{compacted}");
    assert_eq!(variants(folder.path()), 0);
    json(folder.path(), &vary);

    // A document that is forgotten is in none of them.
    assert_eq!(run(folder.path(), &["build", "--forget", "watch-log.txt"]).code, 0);
    assert_eq!(variants(folder.path()), 0);
}

/// The embedded encoder reads 254 tokens, so chunks of 320 words are left out, and those of 120 are compared.
#[test]
fn values_that_cannot_be_are_left_out_and_named() {
    let folder = built();
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--split", "dev", "--vary", "chunk.limit=120,320"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(
        ran.err.contains("left out: chunk.limit=320: [chunk]: chunks of up to 320 words are longer"),
        "{}",
        ran.err
    );
    assert!(ran.out.contains("chunk.limit=120  against as configured") && !ran.out.contains("320"), "{}", ran.out);
    let ran = run(folder.path(), &["evaluate", QUESTIONS, "--split", "dev", "--vary", "chunk.limit=320"]);
    assert!(ran.code == 2 && ran.err.starts_with("error: chunk.limit=320"), "{}", ran.err);
}

/// Names that do not fit into a row are numbered, so that no two look alike.
#[test]
fn long_names_are_written_out_above_the_table() {
    let folder = built();
    let vary = ["--vary", "search.keyword=0.3,0.7", "--vary", "search.depth=40"];
    let ran = run(folder.path(), &[&["evaluate", QUESTIONS, "--split", "dev"], &vary[..]].concat());
    let at = ran.out.find("\nPipeline\n").unwrap_or_else(|| panic!("{}", ran.out));
    let lines: Vec<&str> = ran.out[at + 1..].lines().skip(1).map(str::trim).take(7).collect();
    assert_eq!(
        lines[..4],
        ["1 as configured", "2 search.keyword=0.3 search.depth=40", "3 search.keyword=0.7 search.depth=40", ""]
    );
    assert!(
        lines[4].starts_with("Pipeline  Questions") && lines[5].starts_with('1') && lines[6].starts_with('2'),
        "{lines:?}"
    );
}

#[test]
fn a_report_and_pictures_are_complete() {
    let folder = built();
    let arguments = ["--split", "dev", "--vary", "search.vector=0", "--report", "out/page.html", "--plots", "out"];
    let ran = run(folder.path(), &[&["evaluate", QUESTIONS], &arguments[..]].concat());
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    let page = fs::read_to_string(folder.path().join("out/page.html")).expect("a page");
    for part in
        ["q26", "search.vector=0</span> against the configured pipeline", "all that went wrong", "<svg", "recall at k"]
    {
        assert!(page.contains(part), "{part} is not in the page");
    }
    assert!(!page.contains("<script") && !page.contains("http-equiv=\"refresh") && !page.contains("src="));
    for name in ["measures", "recall", "scores", "times"] {
        let file = |end: &str| folder.path().join(format!("out/questions-dev-{name}.{end}"));
        assert!(fs::read(file("png")).expect("a picture").starts_with(b"\x89PNG"));
        assert!(fs::read_to_string(file("svg")).expect("a picture").contains("viewBox"));
        assert!(ran.out.contains(&format!("out/questions-dev-{name}.svg is written")), "{}", ran.out);
    }
}

/// Two questions by hand: the first finds its document second, the other finds one of its two first and the other third.
#[test]
fn rankings_of_others_are_measured_and_compared() {
    let folder = built();
    fs::write(folder.path().join("a.qrels"), "1 0 bell 1\n2 0 mast 2\n2 0 oar 1\n").expect("a file");
    let ranking = "1 Q0 lamp 1 9 x\n1 Q0 bell 2 8 x\n2 Q0 mast 1 5 x\n2 Q0 lamp 2 4 x\n2 Q0 oar 3 3 x\n";
    fs::write(folder.path().join("ours.run"), ranking).expect("a file");
    fs::write(folder.path().join("theirs.run"), "1 Q0 bell 1 9 y\n2 Q0 lamp 1 4 y\n").expect("a file");
    let json = json(folder.path(), &["evaluate", "a.qrels", "--run", "ours.run", "--run", "theirs.run"]);
    let metrics = |run: usize, name: &str| json["runs"][run]["metrics"][name].as_f64().expect("a measure");
    assert_eq!((json["runs"][0]["name"].as_str(), json["runs"][1]["name"].as_str()), (Some("ours"), Some("theirs")));
    assert!(
        (metrics(0, "mrr") - 0.75).abs() < 1e-9
            && (metrics(0, "map") - (0.5 + (1.0 + 2.0 / 3.0) / 2.0) / 2.0).abs() < 1e-9
    );
    assert!((metrics(1, "recall@10") - 0.5).abs() < 1e-9);
    assert_eq!(json["comparisons"][0]["baseline"], "ours");

    fs::write(folder.path().join("theirs.run"), "1 Q0 bell 1 high y\n").expect("a file");
    let ran = run(folder.path(), &["evaluate", "a.qrels", "--run", "theirs.run"]);
    assert!(ran.code == 1 && ran.err.contains("theirs.run, line 1: a line has a number as score"), "{}", ran.err);
}

/// What is written is read again, with the same measures as far as documents are concerned.
#[test]
fn files_of_trec_are_written_and_read() {
    let folder = built();
    let written = ["evaluate", QUESTIONS, "--split", "dev", "--vary", "search.keyword=2", "--trec", "trec"];
    let ours = json(folder.path(), &written);
    let read = ["evaluate", "trec/questions-dev.qrels", "--run", "trec/questions-dev.as-configured.run"];
    let theirs = json(folder.path(), &read);
    assert!(folder.path().join("trec/questions-dev.search.keyword=2.run").is_file());
    assert_eq!(theirs["runs"][0]["questions"], 56);
    // A document is found no later than the place in it.
    let mrr = |json: &Value| json["runs"][0]["metrics"]["mrr"].as_f64().expect("a measure");
    assert!(mrr(&theirs) + 1e-9 >= mrr(&ours), "{} {}", mrr(&theirs), mrr(&ours));
}

#[test]
fn a_real_gain_is_written_and_another_is_not() {
    let folder = built();
    let file = folder.path().join("logothete.toml");
    // Where nearly no answer is sure enough, there is much to gain.
    fs::write(&file, "[answer]\nmin_confidence = 0.99 # strict\n").expect("a file");
    let over = "answer.min_confidence=0.3,0.4";
    let tune = ["tune", QUESTIONS, "--over", over, "--measure", "closest", "--write"];
    let ran = run(folder.path(), &tune);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    assert!(ran.out.contains("The gain is real.") && ran.out.contains("Written into"), "{}", ran.out);
    let text = fs::read_to_string(&file).expect("a file");
    assert!(text.contains("min_confidence = 0.3") && text.contains("# strict"), "{text}");

    let before = fs::read(&file).expect("a file");
    let ran = run(
        folder.path(),
        &["tune", QUESTIONS, "--split", "dev", "--measure", "mrr", "--over", "search.keyword=3", "--write"],
    );
    assert!(ran.out.contains("Nothing is written.") && ran.out.contains("questions would be enough"), "{}", ran.out);
    assert_eq!(fs::read(&file).expect("a file"), before);
}

#[test]
fn what_was_tuned_is_told() {
    let folder = built();
    let tune = ["tune", QUESTIONS, "--split", "dev", "--over", "search.keyword=0.1,0.5,2", "--measure", "ndcg@10"];
    let ran = run(folder.path(), &tune);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    // The width of the table of costs depends on the times in it.
    let is_cost = |line: &&str| line.starts_with("Cost") || line.starts_with("time ");
    let told: Vec<&str> = ran.out.lines().filter(|line| !is_cost(line)).collect();
    insta::assert_snapshot!("tune", settled(&told.join("\n"), folder.path()));
    let json = json(folder.path(), &tune);
    // The value that is configured is measured once.
    assert_eq!(json["tried"].as_array().map(Vec::len), Some(3));
    assert_eq!((json["tuned"]["best"][0][0].as_str(), json["written"].is_null()), (Some("search.keyword"), true));
}

#[rstest]
#[case(&["--measure", "ndcg@1"], "--measure: unknown measure \"ndcg@1\"; did you mean ndcg@10?")]
#[case(&["--measure", "money"], "no question has the measure money")]
#[case(&["--over", "search.kyword=1"], "did you mean `keyword`?")]
#[case(&["--over", "search.keyword"], "--over: “search.keyword” names no values")]
#[case(&["--split", "tset"], "did you mean test?")]
fn what_cannot_be_tuned_is_named(#[case] arguments: &[&str], #[case] said: &str) {
    let folder = built();
    let ran = run(folder.path(), &[&["tune", QUESTIONS], arguments].concat());
    assert!([1, 2].contains(&ran.code) && ran.err.contains(said), "{} {}", ran.code, ran.err);
}
