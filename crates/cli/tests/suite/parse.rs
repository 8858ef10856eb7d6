//! `logothete parse` with everything that it can be told.

use std::fs;

use crate::common::{folder, run};
use rstest::rstest;

#[test]
fn markdown_goes_to_stdout_and_to_a_file() {
    let place = folder();
    let shown = run(place.path(), &["parse", "DEMO/storm-briefing.pptx", "--format", "markdown"]);
    assert_eq!((shown.code, shown.err.as_str()), (0, ""));
    assert!(
        shown.out.contains("| Stage | Mean wind | What is done |\n| --- | --- | --- |\n| Yellow |"),
        "{}",
        shown.out
    );
    let written = run(place.path(), &["parse", "DEMO/storm-briefing.pptx", "--format", "markdown", "--output", "a.md"]);
    assert!(written.out.starts_with("Wrote a.md ("), "{}", written.out);
    assert_eq!(fs::read_to_string(place.path().join("a.md")).expect("the file"), shown.out);
}

#[test]
fn text_leaves_furniture_out_unless_it_is_asked_for() {
    let place = folder();
    let bare = run(place.path(), &["parse", "DEMO/byelaws.pdf", "--format", "text", "--pages", "3"]).out;
    assert!(bare.contains("Article 9. Aids to navigation") && !bare.contains("Page 3 of 11"), "{bare}");
    let whole =
        run(place.path(), &["parse", "DEMO/byelaws.pdf", "--format", "text", "--pages", "3", "--furniture"]).out;
    assert!(whole.contains("Page 3 of 11") && !whole.contains("Page 4 of 11"), "{whole}");
}

#[test]
fn json_by_either_name_is_the_same_and_has_places() {
    let place = folder();
    let format = run(place.path(), &["parse", "DEMO/byelaws.pdf", "--format", "json", "--pages", "10-11"]).out;
    let flag = run(place.path(), &["parse", "DEMO/byelaws.pdf", "--json", "--pages", "10-11"]).out;
    assert_eq!(format, flag);
    let json: serde_json::Value = serde_json::from_str(&format).expect("one JSON document");
    assert_eq!(json["version"], 1);
    let blocks = json["documents"][0]["blocks"].as_array().expect("blocks");
    let table = blocks.iter().find(|block| block["kind"] == "table").expect("the table over two pages");
    assert_eq!(
        (table["pages"].clone(), table["header_rows"].clone()),
        (serde_json::json!([10, 11]), serde_json::json!(1))
    );
    assert_eq!(table["rows"].as_array().map(Vec::len), Some(41));
    assert_eq!(table["areas"].as_array().map(Vec::len), Some(2));
    let note = blocks.iter().find(|block| block["kind"] == "footnote").expect("the footnote");
    assert!(note["areas"][0]["area"][1].as_f64().is_some_and(|top| top > 700.0), "{note}");
}

#[test]
fn a_page_is_drawn_with_its_blocks() {
    let place = folder();
    let ran = run(place.path(), &["parse", "DEMO/byelaws.pdf", "--picture", "10"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.starts_with("Wrote byelaws-page-10.png: 17 blocks in reading order."), "{}", ran.out);
    assert!(ran.out.contains("table (green)") && ran.out.contains("footnote (orange)"), "{}", ran.out);
    let bytes = fs::read(place.path().join("byelaws-page-10.png")).expect("the picture");
    assert!(bytes.starts_with(b"\x89PNG") && bytes.len() > 20_000);
}

#[rstest]
#[case(&["DEMO/byelaws.pdf", "--picture", "40"], "it has 11 pages, and page 40")]
#[case(&["DEMO/watch-log.txt", "--picture", "1"], "only pages of PDF files are drawn, and this is text/plain")]
#[case(&["DEMO", "--picture", "1"], "a picture is drawn of one file; name one")]
#[case(&["DEMO/byelaws.pdf", "--pages", "9-3"], "\"9-3\" is not a range of pages; write 3, or 1-10")]
#[case(&["DEMO/byelaws.pdf", "--pages", "0"], "is not a range of pages")]
fn what_cannot_be_shown_says_why(#[case] arguments: &[&str], #[case] reason: &str) {
    let place = folder();
    let arguments: Vec<&str> = ["parse"].iter().chain(arguments).copied().collect();
    let ran = run(place.path(), &arguments);
    assert_ne!(ran.code, 0);
    assert!(format!("{}{}", ran.err, ran.out).contains(reason), "{}{}", ran.err, ran.out);
}

#[test]
fn figures_are_written_as_pictures() {
    let place = folder();
    let ran = run(place.path(), &["parse", "DEMO/byelaws.pdf", "--figures", "figures", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["figures"], serde_json::json!([]), "the byelaws have none");
    assert!(place.path().join("figures").is_dir());
}

#[test]
fn the_configuration_says_what_is_read() {
    let place = folder();
    let documents = crate::common::demo("documents").display().to_string();
    let settings = format!(
        "[sources]\npaths = [{documents:?}]\ninclude = [\"*.pdf\", \"*.csv\"]\nexclude = [\"scanned*\"]\nmetadata = {{ harbour = \"Marrowby\" }}\n[parse]\npages = \"1-2\"\n"
    );
    fs::write(place.path().join("logothete.toml"), settings).expect("the configuration");
    let ran = run(place.path(), &["build", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!((json["added"].as_u64(), json["failed"].as_array().map(Vec::len)), (Some(2), Some(0)), "{}", ran.out);
    let shown = run(place.path(), &["show", "--json"]);
    assert!(shown.out.contains("\"pages\": 2") && shown.out.contains("berth-register.csv"), "{}", shown.out);
    // Files that the patterns leave out are not gone, so nothing is removed when the patterns change.
    fs::write(
        place.path().join("logothete.toml"),
        format!("[sources]\npaths = [{documents:?}]\ninclude = [\"*.csv\"]\n"),
    )
    .expect("the configuration");
    let ran = run(place.path(), &["build", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["removed"], 0);
}

#[test]
fn a_file_over_the_limit_is_named() {
    let place = folder();
    fs::write(place.path().join("logothete.toml"), "[limits]\nfile_megabytes = 1\n").expect("the configuration");
    fs::write(place.path().join("large.txt"), "Fog. ".repeat(300_000)).expect("a file");
    let ran = run(place.path(), &["parse", "large.txt"]);
    assert_eq!(ran.code, 1);
    assert!(
        ran.out.contains("this file has 2 MB, and the limit is 1 MB; raise file_megabytes in [limits]"),
        "{}",
        ran.out
    );
}
