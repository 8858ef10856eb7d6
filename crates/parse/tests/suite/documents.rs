//! Every format on the demo's documents, and on input that is broken.

use std::path::PathBuf;

use logothete_core::ErrorKind;
use logothete_core::document::{BlockKind, Document, Value};
use logothete_parse::parse;
use proptest::prelude::*;
use rstest::rstest;

fn demo(name: &str) -> Vec<u8> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents").join(name);
    std::fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

/// A document as a person reads it: what is known of it, its Markdown, what could not be read.
fn readable(document: &Document) -> String {
    let facts: Vec<String> = document.metadata.iter().map(|(name, value)| format!("{name}: {value}")).collect();
    let warnings: Vec<String> = document.warnings.iter().map(|warning| format!("warning: {warning}")).collect();
    format!("{}\n{}\n{}\n---\n{}", document.media_type, facts.join("\n"), warnings.join("\n"), document.to_markdown())
}

#[rstest]
#[case("berth-booking.eml")]
#[case("berth-register.csv")]
#[case("byelaws.pdf")]
#[case("crane-records.docx")]
#[case("dues-2026.xlsx")]
#[case("notices/notice-2025-01.md")]
#[case("notices/notice-2025-02.md")]
#[case("notices/notice-2025-03.md")]
#[case("notices/notice-2025-04.md")]
#[case("notices/notice-2025-05.md")]
#[case("notices/notice-2025-06.md")]
#[case("notices/notice-2025-07.md")]
#[case("notices/notice-2025-08.md")]
#[case("pilotage-handbook.html")]
#[case("scanned-letter.pdf")]
#[case("storm-briefing.pptx")]
#[case("watch-log.txt")]
fn the_demo_reads_as_it_should(#[case] name: &str) {
    let document = parse(name, &demo(name)).expect("the demo is readable");
    insta::assert_snapshot!(name.replace(['/', '.'], "_"), readable(&document));
}

#[test]
fn furniture_is_kept_out_of_the_text() {
    let document = parse("byelaws.pdf", &demo("byelaws.pdf")).expect("readable");
    assert_eq!(document.page_count(), 11);
    assert!(!document.text.contains("Page 3 of 11"));
    let furniture = document.blocks.iter().filter(|block| block.kind == BlockKind::Furniture);
    assert_eq!(furniture.count(), 22, "a header and a footer on each of eleven pages");
}

/// Small pages with these content streams.
fn pdf(streams: &[&str]) -> Vec<u8> {
    crate::common::pdf(400, 400, streams)
}

fn text(y: u32, words: &str) -> String {
    format!("BT /F 12 Tf 1 0 0 1 40 {y} Tm ({words}) Tj ET\n")
}

#[test]
fn lines_become_paragraphs_and_parted_words_are_mended() {
    let first = text(300, "The harbour is closed to all ves-")
        + &text(286, "sels in a south-")
        + &text(272, "east gale, and a south-east wind.");
    let second = text(300, "It opens when the wind falls below");
    let third = text(300, "ten knots.");
    let document = parse("a.pdf", &pdf(&[&first, &second, &third])).expect("readable");
    let texts: Vec<&str> = document.blocks.iter().map(|block| document.block_text(block)).collect();
    assert_eq!(
        texts,
        [
            "The harbour is closed to all vessels in a south-east gale, and a south-east wind.",
            "It opens when the wind falls below ten knots."
        ]
    );
    let pages = document.block_pages(&document.blocks[1]).expect("a PDF has pages");
    assert_eq!((pages.first, pages.last), (2, 3));
    let at = document.text.find("ten knots").expect("it is there");
    assert_eq!(document.pages(logothete_core::document::Span::new(at, at + 3)).map(|pages| pages.first), Some(3));
}

#[test]
fn pages_without_text_are_named() {
    let words = text(300, "Tide tables");
    let document = parse("a.pdf", &pdf(&[&words, "", "0 0 9 9 re f", &words, ""])).expect("readable");
    assert_eq!(document.warnings, ["pages 2–3 and 5 are blank"]);
    let document = parse("scan.pdf", &pdf(&["", ""])).expect("nothing but blank pages");
    assert_eq!((document.warnings, document.text), (vec!["pages 1–2 are blank".to_owned()], String::new()));
}

#[rstest]
#[case("empty.pdf", b"", "the file is empty")]
#[case("blank.txt", b" \n\t\n", "white space only")]
#[case("picture.txt", b"\x89PNG\r\n\x1a\n0000", "this is a PNG picture")]
#[case("renamed.pdf", b"PK\x03\x04zzzz", "though its name ends in .pdf")]
#[case("noise.md", b"a\0b\0c\x01\x02", "binary data")]
#[case("stub.pdf", b"%PDF-1.7\nnothing", "damaged or cut short")]
fn what_cannot_be_read_says_why(#[case] name: &str, #[case] bytes: &[u8], #[case] reason: &str) {
    let error = parse(name, bytes).expect_err("unreadable");
    assert!(matches!(error.kind(), ErrorKind::Unreadable | ErrorKind::Unsupported));
    assert!(error.to_string().contains(reason), "{error}");
}

#[test]
fn a_wrong_name_is_read_for_what_it_is_and_said() {
    let document = parse("words.pdf", b"Just words about sand.").expect("it is text");
    assert_eq!((document.media_type.as_str(), document.warnings.len()), ("text/plain", 1));
    let document = parse("byelaws.txt", &demo("byelaws.pdf")).expect("it is a PDF");
    assert_eq!(document.media_type, "application/pdf");
    assert!(document.warnings[0].contains("it is a PDF"));
}

#[rstest]
#[case(b"caf\xe9 du port, mar\xe9e basse \xe0 midi", "café")]
#[case("\u{feff}quai".as_bytes(), "quai")]
#[case(b"\xff\xfeq\0u\0a\0i\0", "quai")]
#[case("one\r\ntwo".as_bytes(), "one\ntwo")]
fn encodings_and_line_ends(#[case] bytes: &[u8], #[case] expected: &str) {
    let document = parse("a.txt", bytes).expect("text in some encoding");
    assert!(document.text.starts_with(expected), "{:?}", document.text);
}

#[test]
fn markdown_keeps_structure_and_drops_marks() {
    let text = "---\ntitle: \"T\"\ncount: 3\nopen: true\ntags:\n  - a\n---\n# One *bold*\n\n> quoted\n\n1. first\n2. second `x`\n\n```\nlet a;\n```\n\n| A | B |\n|---|---|\n| 1 |  |\n";
    let document = parse("a.md", text.as_bytes()).expect("readable");
    assert_eq!(document.metadata["count"], Value::Number(3.0));
    assert_eq!(document.metadata["open"], Value::Flag(true));
    assert_eq!(document.metadata["tags"], Value::Text("a".to_owned()));
    assert!(document.warnings.is_empty(), "{:?}", document.warnings);
    let kinds: Vec<_> = document.blocks.iter().map(|block| (block.kind, document.block_text(block))).collect();
    assert_eq!(
        kinds,
        [
            (BlockKind::Heading, "One bold"),
            (BlockKind::Quotation, "quoted"),
            (BlockKind::ListItem, "first"),
            (BlockKind::ListItem, "second x"),
            (BlockKind::Code, "let a;"),
            (BlockKind::Table, "A | B\n1 | "),
        ]
    );
}

#[test]
fn a_line_of_a_script_without_capitals_is_no_heading() {
    let text = "BERTH RULES\n\nMoor fore and aft.\n\n港口今天关闭。何时开放？\n\nالميناء مغلق اليوم\n\nท่าเรือปิดวันนี้";
    let document = parse("a.txt", text.as_bytes()).expect("text");
    let headings = document.blocks.iter().filter(|block| block.kind == BlockKind::Heading);
    assert_eq!(headings.map(|block| document.slice(block.span)).collect::<Vec<_>>(), ["BERTH RULES"]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn a_pdf_cut_or_changed_anywhere_never_panics(cut in 0.0f64..1.0, changes in prop::collection::vec((0.0f64..1.0, any::<u8>()), 0..20)) {
        let mut bytes = demo("byelaws.pdf");
        for (at, byte) in changes {
            let at = (at * bytes.len() as f64) as usize;
            bytes[at] = byte;
        }
        bytes.truncate((cut * bytes.len() as f64) as usize + 1);
        if let Ok(document) = parse("a.pdf", &bytes) {
            prop_assert!(document.blocks.iter().all(|block| block.span.end <= document.text.len()));
        }
    }

    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..400), ending in "(txt|md|pdf)") {
        let _ = parse(&format!("a.{ending}"), &bytes);
    }

    #[test]
    fn any_text_keeps_its_words(words in prop::collection::vec("[a-z]{1,8}|[0-9]{2}:[0-9]{2}|\\(1\\)|[A-Z ]{4,9}", 1..40), ending in "(txt|md)") {
        let text = words.join("\n");
        let Ok(document) = parse(&format!("a.{ending}"), text.as_bytes()) else {
            return Ok(());
        };
        for word in words.iter().flat_map(|line| line.split_whitespace()).filter(|word| word.len() > 3 && word.bytes().all(|b| b.is_ascii_lowercase())) {
            prop_assert!(document.text.contains(word), "{word} is lost");
        }
    }
}
