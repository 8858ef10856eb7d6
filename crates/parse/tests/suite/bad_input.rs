//! Input that is cut short, goes in circles, unpacks without end, nests too deep or lies about itself.

use std::io::{Cursor, Write};
use std::path::PathBuf;

use logothete_core::ErrorKind;
use logothete_core::document::Budget;
use logothete_parse::{Parsers, parse};
use proptest::prelude::*;
use rstest::rstest;

const DEMO: &[&str] = &[
    "berth-booking.eml",
    "berth-register.csv",
    "byelaws.pdf",
    "crane-records.docx",
    "dues-2026.xlsx",
    "pilotage-handbook.html",
    "scanned-letter.pdf",
    "storm-briefing.pptx",
    "watch-log.txt",
];

fn demo(name: &str) -> Vec<u8> {
    std::fs::read(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents").join(name)).expect("the demo")
}

fn archive(parts: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in parts {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).expect("a part");
        writer.write_all(content).expect("its content");
    }
    writer.finish().expect("an archive").into_inner()
}

#[rstest]
fn files_cut_short_are_refused_or_read_in_part(
    #[values(
        "berth-booking.eml",
        "byelaws.pdf",
        "crane-records.docx",
        "dues-2026.xlsx",
        "storm-briefing.pptx",
        "pilotage-handbook.html"
    )]
    name: &str,
) {
    let whole = demo(name);
    for part in 1..16 {
        let cut = &whole[..whole.len() * part / 16];
        if let Err(error) = parse(name, cut) {
            assert!(matches!(error.kind(), ErrorKind::Unreadable | ErrorKind::Unsupported), "{name} {part}: {error}");
            assert!(!error.message().contains("stopped unexpectedly"), "{name} {part}: {error}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn damaged_files_never_panic(file in 0..DEMO.len(), damage in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..24)) {
        let mut bytes = demo(DEMO[file]);
        for (place, byte) in damage {
            let at = place.index(bytes.len());
            bytes[at] = byte;
        }
        if let Err(error) = parse(DEMO[file], &bytes) {
            prop_assert!(!error.message().contains("stopped unexpectedly"), "{}: {error}", DEMO[file]);
        }
    }

    #[test]
    fn damaged_old_spreadsheets_are_refused(damage in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..40)) {
        let mut bytes = std::fs::read(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/data/dues-2026.xls")).expect("a spreadsheet");
        for (place, byte) in damage {
            // The head and the tables of the container, where damage is worst.
            let at = place.index(bytes.len().min(2048));
            bytes[at] = byte;
        }
        if let Err(error) = parse("a.xls", &bytes) {
            prop_assert!(!error.message().contains("stopped unexpectedly"), "{error}");
        }
    }

    #[test]
    fn noise_never_panics(bytes in prop::collection::vec(any::<u8>(), 1..600), ending in 0..14usize) {
        let endings = ["pdf", "docx", "pptx", "xlsx", "ods", "xls", "html", "md", "csv", "json", "eml", "epub", "vtt", "srt"];
        if let Err(error) = parse(&format!("a.{}", endings[ending]), &bytes) {
            prop_assert!(!error.message().contains("stopped unexpectedly"), "{error}");
        }
    }
}

#[rstest]
#[case("word/document.xml", "a.docx")]
#[case("xl/workbook.xml", "a.xlsx")]
#[case("ppt/presentation.xml", "a.pptx")]
#[case("META-INF/container.xml", "a.epub")]
fn an_archive_that_unpacks_without_end_is_given_up(#[case] part: &str, #[case] name: &str) {
    let bytes = archive(&[(part, &vec![b' '; 3_000_000])]);
    assert!(bytes.len() < 10_000, "it is packed well");
    let mut budget = Budget::default();
    budget.max_unpacked = 1_000_000;
    let error = Parsers::default().parse(name, &bytes, &budget).expect_err("too large");
    assert_eq!(error.kind(), ErrorKind::Limit);
    assert!(error.message().contains("unpacks to more than 1 MB"), "{error}");
}

const BOOK: (&str, &[u8]) = (
    "xl/workbook.xml",
    b"<workbook xmlns:r=\"r\"><sheets><sheet name=\"S\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>",
);
const SHEET: (&str, &[u8]) = (
    "xl/_rels/workbook.xml.rels",
    b"<Relationships><Relationship Id=\"r1\" Type=\"x/worksheet\" Target=\"worksheets/s.xml\"/></Relationships>",
);

fn sheet(rows: &str, strings: &str) -> Vec<u8> {
    let sheet = format!("<worksheet><sheetData>{rows}</sheetData></worksheet>");
    let parts = [BOOK, SHEET, ("xl/sharedStrings.xml", strings.as_bytes()), ("xl/worksheets/s.xml", sheet.as_bytes())];
    archive(&parts)
}

fn far_right() -> Vec<u8> {
    let rows: String = (2..60_000).map(|at| format!("<row r=\"{at}\"><c r=\"A{at}\"><v>1</v></c></row>")).collect();
    sheet(&format!("<row r=\"1\"><c r=\"A1\"><v>1</v></c><c r=\"ALK1\"><v>2</v></c></row>{rows}"), "<sst/>")
}

fn shared_strings() -> Vec<u8> {
    let cell = |at| format!("<row r=\"{at}\"><c r=\"A{at}\" t=\"s\"><v>0</v></c></row>");
    sheet(&(1..500).map(cell).collect::<String>(), &format!("<sst><si><t>{}</t></si></sst>", "words ".repeat(20_000)))
}

fn shared_target() -> Vec<u8> {
    let link = "<w:hyperlink r:id=\"r1\"><w:r><w:t>quay</w:t></w:r></w:hyperlink>".repeat(500);
    let body = format!("<w:document xmlns:w=\"w\" xmlns:r=\"r\"><w:body><w:p>{link}</w:p></w:body></w:document>");
    let target = format!("http://quay.example/{}", "a".repeat(100_000));
    let relations =
        format!("<Relationships><Relationship Id=\"r1\" Type=\"x/hyperlink\" Target=\"{target}\"/></Relationships>");
    archive(&[("word/document.xml", body.as_bytes()), ("word/_rels/document.xml.rels", relations.as_bytes())])
}

fn layout_tables() -> Vec<u8> {
    let body = "<w:tbl><w:tr><w:tc>".repeat(60)
        + "<w:p><w:r><w:t>deep</w:t></w:r></w:p>"
        + &"</w:tc></w:tr></w:tbl>".repeat(60);
    archive(&[(
        "word/document.xml",
        format!("<w:document xmlns:w=\"w\"><w:body>{body}</w:body></w:document>").as_bytes(),
    )])
}

/// What is multiplied when it is read is stopped early, and the limit is named with the amount.
#[rstest]
#[case::cell_far_to_the_right("a.xlsx", far_right(), "cells of tables (59939001 when it was stopped); raise cells")]
#[case::shared_string("a.xlsx", shared_strings(), "of text (20.1 MB when it was stopped); raise text_megabytes")]
#[case::target_of_links("a.docx", shared_target(), "of text (20.1 MB when it was stopped); raise text_megabytes")]
#[case::columns_that_are_spanned(
    "a.html",
    format!("<table>{}</table>", format!("<tr>{}</tr>", "<td colspan=100>a".repeat(100)).repeat(600)).into_bytes(),
    "more than 5000000 cells of tables"
)]
#[case::records("a.json", format!("[{}1]", "1,".repeat(600_000)).into_bytes(), "more than 1000000 blocks (1000001 when")]
fn what_multiplies_is_counted(#[case] name: &str, #[case] bytes: Vec<u8>, #[case] said: &str) {
    let error = parse(name, &bytes).map(|_| ()).expect_err("too much");
    assert_eq!(error.kind(), ErrorKind::Limit, "{error}");
    assert!(error.message().contains(said), "{error}");
}

#[test]
fn tables_in_tables_for_the_looks_are_read_once() {
    let document = parse("a.docx", &layout_tables()).expect("a document");
    assert_eq!(document.text, "deep");
}

#[test]
fn elements_nested_too_deep_are_refused() {
    let deep = format!("<w:document><w:body>{}", "<w:sdt>".repeat(100_000));
    let error = parse("a.docx", &archive(&[("word/document.xml", deep.as_bytes())])).expect_err("too deep");
    assert_eq!(error.kind(), ErrorKind::Limit);
    let error = parse("a.html", format!("<html><body>{}", "<b>".repeat(100_000)).as_bytes()).expect_err("too deep");
    assert_eq!(error.kind(), ErrorKind::Limit);
    let error = parse("a.json", "[".repeat(100_000).as_bytes()).expect_err("too deep");
    assert!(error.message().contains("recursion limit"), "{error}");
}

#[test]
fn entities_are_not_expanded() {
    let bomb = "<!DOCTYPE d [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;&a;&a;\">]>\
        <w:document><w:body><w:p><w:r><w:t>x&b;&#65;&amp;</w:t></w:r></w:p></w:body></w:document>";
    let document = parse("a.docx", &archive(&[("word/document.xml", bomb.as_bytes())])).expect("readable");
    assert_eq!(document.text, "xA&");
}

#[test]
fn a_sheet_that_says_it_is_endless_is_not_believed() {
    let sheet = "<office:document-content><table:table table:name=\"a\"><table:table-row table:number-rows-repeated=\"999999999\">\
        <table:table-cell table:number-columns-repeated=\"999999999\" table:number-rows-spanned=\"4000000000\"><text:p>7</text:p></table:table-cell>\
        </table:table-row></table:table></office:document-content>";
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, content) in [("mimetype", "application/vnd.oasis.opendocument.spreadsheet"), ("content.xml", sheet)] {
        writer.start_file(name, stored).expect("a part");
        writer.write_all(content.as_bytes()).expect("its content");
    }
    let bytes = writer.finish().expect("an archive").into_inner();
    let document = parse("a.ods", &bytes).expect("readable");
    assert!(document.text.len() < 100_000, "{}", document.text.len());
}

#[test]
fn mails_inside_mails_end_somewhere() {
    let mut mail = "From: a@quay.test\r\nSubject: core\r\n\r\nThe core.\r\n".to_owned();
    for depth in 0..12 {
        mail = format!(
            "From: a@quay.test\r\nDate: Tue, 4 Nov 2025 09:17:00 +0000\r\nMIME-Version: 1.0\r\nSubject: shell {depth}\r\n\
             Content-Type: multipart/mixed; boundary=x{depth}\r\n\r\n--x{depth}\r\nContent-Type: message/rfc822\r\n\
             Content-Disposition: attachment; filename=a.eml\r\n\r\n{mail}\r\n--x{depth}--\r\n"
        );
    }
    let document = parse("a.eml", mail.as_bytes()).expect("the outer ones");
    assert!(document.text.contains("shell 9") && !document.text.contains("The core."));
    assert!(document.warnings.iter().any(|warning| warning.contains("too deep")), "{:?}", document.warnings);
}

#[test]
fn a_pdf_in_circles_ends() {
    // Pages that are their own children, and an outline that is its own sibling.
    let body = b"%PDF-1.4\n1 0 obj << /Type /Catalog /Pages 2 0 R /Outlines 4 0 R /StructTreeRoot 6 0 R >> endobj\n\
        2 0 obj << /Type /Pages /Kids [2 0 R 3 0 R 2 0 R] /Count 3 >> endobj\n\
        3 0 obj << /Type /Page /Parent 2 0 R /MediaBox [0 0 200 200] >> endobj\n\
        4 0 obj << /First 5 0 R >> endobj\n5 0 obj << /Title (a) /Next 5 0 R /First 5 0 R >> endobj\n\
        6 0 obj << /K [6 0 R 6 0 R] /S /H1 >> endobj\n\
        trailer << /Root 1 0 R >>\n%%EOF";
    if let Ok(document) = parse("a.pdf", body) {
        assert!(document.page_count() < 100);
    }
    let _ = logothete_parse::pdf_outline(body);
}

#[test]
fn a_form_that_draws_itself_ends() {
    let page = crate::common::pdf(200, 200, &["/A Do"]);
    assert!(parse("a.pdf", &page).is_ok());
}

#[rstest]
#[case("a.pdf")]
#[case("a.md")]
#[case("a.docx")]
fn what_takes_too_long_stops_when_it_is_told(#[case] name: &str) {
    let bytes = match name {
        "a.pdf" => demo("byelaws.pdf"),
        "a.docx" => {
            let many = "<w:p><w:r><w:t>a</w:t></w:r></w:p>".repeat(20_000);
            archive(&[("word/document.xml", format!("<w:document><w:body>{many}</w:body></w:document>").as_bytes())])
        }
        _ => "word ".repeat(10).into_bytes(),
    };
    let budget = Budget::default();
    budget.end();
    let error = Parsers::default().parse(name, &bytes, &budget).expect_err("the time is over");
    assert_eq!(error.kind(), ErrorKind::Limit);
}

#[test]
fn text_boxes_inside_each_other_are_read_once() {
    let depth = 20;
    let open = "<w:p><w:r><mc:AlternateContent><mc:Choice><w:txbxContent>".repeat(depth);
    let close = "</w:txbxContent></mc:Choice></mc:AlternateContent></w:r></w:p>".repeat(depth);
    let body = format!("{open}<w:p><w:r><w:t>box</w:t></w:r></w:p>{close}");
    let word = format!("<w:document xmlns:w=\"w\" xmlns:mc=\"m\"><w:body>{body}</w:body></w:document>");
    let document = parse("a.docx", &archive(&[("word/document.xml", word.as_bytes())])).expect("a document");
    assert_eq!(document.text, "box");
}

#[test]
fn a_note_that_is_referred_to_again_is_written_once() {
    let reference = "<w:p><w:r><w:t>x</w:t><w:footnoteReference w:id=\"2\"/></w:r></w:p>".repeat(3);
    let word = format!("<w:document xmlns:w=\"w\"><w:body>{reference}</w:body></w:document>");
    let notes = "<w:footnotes xmlns:w=\"w\"><w:footnote w:id=\"2\"><w:p><w:r><w:t>Once.</w:t></w:r></w:p></w:footnote></w:footnotes>";
    let parts = [("word/document.xml", word.as_bytes()), ("word/footnotes.xml", notes.as_bytes())];
    let document = parse("a.docx", &archive(&parts)).expect("a document");
    assert_eq!(document.text, "x¹\n\n¹ Once.\n\nx¹\n\nx¹");
}
