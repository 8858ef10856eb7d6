//! Formats beside PDF: structure, metadata, links, times.

use std::io::{Cursor, Write};
use std::path::PathBuf;
use std::sync::Arc;

use logothete_core::document::{BlockKind, Budget, Document, Input, Parser, Value};
use logothete_core::{ErrorKind, Fingerprint, Result};
use logothete_parse::{DocxParser, JsonFields, JsonParser, ParseSettings, Parsers, PdfParser, parse};
use rstest::rstest;

fn data(name: &str) -> Vec<u8> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name);
    std::fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

fn kinds(document: &Document) -> Vec<(BlockKind, u8, &str)> {
    document.blocks.iter().map(|block| (block.kind, block.level, document.block_text(block))).collect()
}

/// An archive with these parts.
fn archive(parts: &[(&str, &str)]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in parts {
        let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        writer.start_file(*name, stored).expect("a part");
        writer.write_all(content.as_bytes()).expect("its content");
    }
    writer.finish().expect("an archive").into_inner()
}

fn word(body: &str, more: &[(&str, &str)]) -> Vec<u8> {
    let document = format!("<w:document xmlns:w=\"w\" xmlns:r=\"r\"><w:body>{body}</w:body></w:document>");
    let mut parts = vec![("word/document.xml", document.as_str())];
    parts.extend(more);
    archive(&parts)
}

fn run(text: &str) -> String {
    format!("<w:r><w:t xml:space=\"preserve\">{text}</w:t></w:r>")
}

#[test]
fn word_lists_are_numbered_and_reviews_are_settled() {
    let numbering = "<w:numbering xmlns:w=\"w\"><w:abstractNum w:abstractNumId=\"0\">\
        <w:lvl w:ilvl=\"0\"><w:start w:val=\"1\"/><w:numFmt w:val=\"decimal\"/><w:lvlText w:val=\"%1.\"/></w:lvl>\
        <w:lvl w:ilvl=\"1\"><w:start w:val=\"1\"/><w:numFmt w:val=\"lowerLetter\"/><w:lvlText w:val=\"%1.%2)\"/></w:lvl>\
        </w:abstractNum><w:num w:numId=\"3\"><w:abstractNumId w:val=\"0\"/></w:num></w:numbering>";
    let item = |level: u8, text: &str| {
        let numbered = format!("<w:pPr><w:numPr><w:ilvl w:val=\"{level}\"/><w:numId w:val=\"3\"/></w:numPr></w:pPr>");
        format!("<w:p>{numbered}{}</w:p>", run(text))
    };
    let review = format!(
        "<w:p>{}<w:del><w:r><w:delText>six</w:delText></w:r></w:del><w:ins>{}</w:ins>{}</w:p>",
        run("Wait "),
        run("nine"),
        run(" minutes.")
    );
    let body =
        [item(0, "Look."), item(0, "Try."), item(1, "Gently."), item(1, "Again."), item(0, "Go."), review].concat();
    let document = parse("a.docx", &word(&body, &[("word/numbering.xml", numbering)])).expect("readable");
    let texts: Vec<&str> = kinds(&document).iter().map(|block| block.2).collect();
    assert_eq!(texts, ["1. Look.", "2. Try.", "2.a) Gently.", "2.b) Again.", "3. Go.", "Wait nine minutes."]);
}

#[test]
fn word_styles_notes_links_and_comments() {
    let styles = "<w:styles xmlns:w=\"w\"><w:style w:styleId=\"Own\"><w:name w:val=\"Section\"/><w:basedOn w:val=\"H2\"/></w:style>\
        <w:style w:styleId=\"H2\"><w:name w:val=\"heading 2\"/><w:basedOn w:val=\"Own\"/></w:style></w:styles>";
    let notes = format!(
        "<w:footnotes xmlns:w=\"w\"><w:footnote w:type=\"separator\" w:id=\"0\"/><w:footnote w:id=\"2\"><w:p>{}</w:p></w:footnote></w:footnotes>",
        run("Since 1998.")
    );
    let comments = format!(
        "<w:comments xmlns:w=\"w\"><w:comment w:author=\"Odrin\"><w:p>{}</w:p></w:comment></w:comments>",
        run("Check this.")
    );
    let relations = "<Relationships><Relationship Id=\"rId7\" Type=\"t/hyperlink\" TargetMode=\"External\" Target=\"https://quay.test/a\"/></Relationships>";
    let body = format!(
        "<w:p><w:pPr><w:pStyle w:val=\"Own\"/></w:pPr>{}</w:p><w:p>{}<w:hyperlink r:id=\"rId7\">{}</w:hyperlink>{}\
         <w:r><w:footnoteReference w:id=\"2\"/></w:r></w:p>",
        run("Bells"),
        run("See "),
        run("the map"),
        run(".")
    );
    let parts = [
        ("word/styles.xml", styles),
        ("word/footnotes.xml", notes.as_str()),
        ("word/comments.xml", comments.as_str()),
        ("word/_rels/document.xml.rels", relations),
    ];
    let bytes = word(&body, &parts);
    let document = parse("a.docx", &bytes).expect("readable");
    let expected = [
        (BlockKind::Heading, 2, "Bells"),
        (BlockKind::Paragraph, 0, "See the map.¹"),
        (BlockKind::Footnote, 0, "¹ Since 1998."),
    ];
    assert_eq!(kinds(&document), expected);
    let link = &document.links[0];
    assert_eq!((document.slice(link.span), link.target.as_str()), ("the map", "https://quay.test/a"));
    let budget = Budget::default();
    let with = DocxParser::default().comments(true).parse(&Input { name: "a.docx", bytes: &bytes, budget: &budget });
    assert!(with.expect("readable").text.ends_with("Comment by Odrin: Check this."));
}

#[rstest]
#[case("dues-2026.xls")]
#[case("dues-2026.ods")]
fn spreadsheets_of_other_kinds_say_the_same(#[case] name: &str) {
    let document = parse(name, &data(name)).expect("readable");
    let tables: Vec<_> = document.blocks.iter().filter_map(|block| block.table.as_ref()).collect();
    assert_eq!(tables.len(), 2);
    let row = tables[0].row_alone(&document.text, 5).expect("a row");
    assert!(row.starts_with("Pilotage, by day · Unit: per passage · Amount in 2025: 240"), "{row}");
    let row = tables[1].row_alone(&document.text, 2).expect("a row");
    assert!(row.contains("From: 2026-03-01"), "{row}");
}

#[test]
fn spreadsheet_parts_captions_and_merged_cells() {
    let cell = |name: &str, text: &str| format!("<c r=\"{name}\" t=\"inlineStr\"><is><t>{text}</t></is></c>");
    let sheet = format!(
        "<worksheet><sheetData><row>{}</row><row>{}{}{}</row><row>{}{}{}</row><row hidden=\"1\">{}</row>\
         <row><c r=\"A7\"><v>1.5</v></c></row></sheetData><mergeCells><mergeCell ref=\"B2:C2\"/></mergeCells></worksheet>",
        cell("A1", "Depths in metres"),
        cell("A2", "Place"),
        cell("B2", "Depth"),
        cell("C2", ""),
        cell("A3", "Mole"),
        cell("B3", "4"),
        cell("C3", "5"),
        cell("A4", "secret"),
    );
    let bytes = archive(&[
        ("xl/workbook.xml", "<workbook><sheets><sheet name=\"One\" r:id=\"rId1\" xmlns:r=\"r\"/></sheets></workbook>"),
        (
            "xl/_rels/workbook.xml.rels",
            "<Relationships><Relationship Id=\"rId1\" Type=\"t/worksheet\" Target=\"worksheets/a.xml\"/></Relationships>",
        ),
        ("xl/worksheets/a.xml", &sheet),
    ]);
    let document = parse("a.xlsx", &bytes).expect("readable");
    let seen = kinds(&document);
    assert_eq!(seen[0], (BlockKind::Caption, 0, "Depths in metres"));
    assert_eq!((seen[1].0, seen[2]), (BlockKind::Table, (BlockKind::Paragraph, 0, "1.5")));
    let table = document.blocks[1].table.as_ref().expect("a table");
    assert_eq!(table.rows[0].cells[1], table.rows[0].cells[2], "one cell over two columns");
    assert!(!document.text.contains("secret"), "hidden rows are not shown");
}

#[test]
fn a_book_is_read_in_the_order_of_its_spine() {
    let page = |title: &str, text: &str| {
        format!("<html><head><title>page</title></head><body><h1>{title}</h1><p>{text}</p></body></html>")
    };
    let (one, two) = (page("One", "The first watch of the night."), page("Two", "The middle watch."));
    let package = "<package><metadata><dc:title>Night watches</dc:title><dc:creator>Wenna Ostrey</dc:creator><dc:language>en</dc:language></metadata>\
        <manifest><item id=\"b\" href=\"text/two%20b.xhtml\"/><item id=\"a\" href=\"text/one.xhtml\"/></manifest>\
        <spine><itemref idref=\"a\"/><itemref idref=\"b\"/><itemref idref=\"gone\"/></spine></package>";
    let bytes = archive(&[
        ("mimetype", "application/epub+zip"),
        (
            "META-INF/container.xml",
            "<container><rootfiles><rootfile full-path=\"OPS/book.opf\"/></rootfiles></container>",
        ),
        ("OPS/book.opf", package),
        ("OPS/text/one.xhtml", &one),
        ("OPS/text/two b.xhtml", &two),
    ]);
    let document = parse("night.epub", &bytes).expect("readable");
    assert_eq!(document.title.as_deref(), Some("Night watches"));
    assert_eq!(document.metadata["author"], Value::Text("Wenna Ostrey".to_owned()));
    let texts: Vec<&str> = kinds(&document).iter().map(|block| block.2).collect();
    assert_eq!(texts, ["One", "The first watch of the night.", "Two", "The middle watch."]);
    assert_eq!(document.warnings, ["one part that the book names could not be found in it"]);
}

#[test]
fn captions_know_when_something_was_said() {
    let text = "WEBVTT - Tower, first lesson\n\nNOTE nobody reads this\n\n00:01.000 --> 00:04.000\n<v Maelle>The bell is rung\n\n\
        00:04.200 --> 00:06.000\n<v Maelle>every <b>twenty</b> seconds.\n\n2\n01:02:03.500 --> 01:02:09.000 align:start\nLater &amp; louder.\n";
    let document = parse("lesson.vtt", text.as_bytes()).expect("readable");
    assert_eq!(document.title.as_deref(), Some("Tower, first lesson"));
    assert_eq!(document.text, "Maelle: The bell is rung every twenty seconds.\n\nLater & louder.");
    let at: Vec<f64> = document.blocks.iter().filter_map(|block| document.seconds(block.span)).collect();
    assert_eq!(at, [1.0, 3723.5]);
    let older = parse("a.srt", b"1\r\n00:00:05,250 --> 00:00:07,000\r\nCast off.\r\n").expect("readable");
    assert_eq!((older.text.as_str(), older.moments[0].seconds), ("Cast off.", 5.25));
}

#[test]
fn json_records_by_pointer_and_by_guess() {
    let one = r#"{"title": "Log", "body": "All quiet.", "open": true, "berths": 12, "day": "2025-05-27", "tags": ["a", "b"]}"#;
    let document = parse("a.json", one.as_bytes()).expect("readable");
    assert_eq!(document.title.as_deref(), Some("Log"));
    assert!(document.text.starts_with("All quiet."));
    assert_eq!(document.metadata["open"], Value::Flag(true));
    assert_eq!(document.metadata["berths"], Value::Number(12.0));
    assert!(matches!(&document.metadata["day"], Value::Date(date) if date.as_str() == "2025-05-27"));

    let lines =
        "{\"id\": 7, \"note\": {\"said\": \"Fog.\"}}\nnot json\n{\"id\": 9, \"note\": {\"said\": \"Clear.\"}}\n";
    let fields =
        JsonFields { text: Some("/note/said".to_owned()), title: Some("/id".to_owned()), metadata: Some(Vec::new()) };
    let budget = Budget::default();
    let document = JsonParser::new(fields)
        .parse(&Input { name: "a.jsonl", bytes: lines.as_bytes(), budget: &budget })
        .expect("readable");
    assert_eq!(document.text, "7\n\nFog.\n\n9\n\nClear.");
    assert!(document.warnings[0].contains("the first in line 2"), "{:?}", document.warnings);
}

#[test]
fn an_e_mail_gives_its_attachments_to_their_parsers() {
    let mail = "From: A <a@quay.test>\r\nDate: Tue, 4 Nov 2025 09:17:00 +0000\r\nMessage-ID: <1@quay.test>\r\nSubject: Two things\r\n\
        MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: text/html\r\n\r\n<p>See <b>below</b>.</p>\r\n\
        --x\r\nContent-Type: text/markdown; name=a.md\r\nContent-Disposition: attachment; filename=a.md\r\n\r\n# Rules\r\n\r\nNo wake.\r\n\
        --x\r\nContent-Type: image/png; name=b.png\r\nContent-Disposition: attachment; filename=b.png\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw0KGgo=\r\n--x--\r\n";
    let document = parse("a.eml", mail.as_bytes()).expect("readable");
    assert!(matches!(&document.metadata["date"], Value::Date(date) if date.as_str().starts_with("2025-11-04")));
    let seen = kinds(&document);
    assert!(seen.contains(&(BlockKind::Heading, 2, "Rules")), "{seen:?}");
    assert!(document.warnings[0].starts_with("its attachment b.png was left out: this is a PNG picture"));
}

#[test]
fn source_code_is_kept_as_it_is_written() {
    let code = "fn main() {\n    let bell = 20;\n\n    ring(bell);\n}\n";
    let document = parse("a.rs", code.as_bytes()).expect("readable");
    assert_eq!(document.text, code.trim_end());
    assert_eq!(document.blocks[0].kind, BlockKind::Code);
    assert_eq!(document.metadata["programming_language"], Value::Text("Rust".to_owned()));
}

#[test]
fn pages_of_the_web_keep_links_and_captions() {
    let page = "<html lang=cs><body><main><p>Ask at <a href='/office'>the   office</a> or <a href='#top'>above</a>, by day.</p>\
        <figure><img src=a.png alt='The mole from above'><figcaption>Plate 1</figcaption></figure></main></body></html>";
    let document = parse("a.html", page.as_bytes()).expect("readable");
    assert_eq!(document.links.len(), 1);
    assert_eq!(document.slice(document.links[0].span), "the office");
    let seen = kinds(&document);
    assert_eq!(seen[1..], [(BlockKind::Figure, 0, "The mole from above"), (BlockKind::Caption, 0, "Plate 1")]);
    assert_eq!(document.metadata["language"], Value::Text("cs".to_owned()));
}

#[rstest]
#[case("Le port est fermé aux navires depuis ce matin à cause du vent, et les pilotes attendent.", "fr")]
#[case("Der Hafen ist seit heute Morgen wegen des Windes geschlossen, und die Lotsen warten noch.", "de")]
#[case(
    "港は今朝から風のために閉鎖されており、水先人はまだ待っています。船は沖で停泊しています。海は荒れています。港湾局は午後に再び知らせるとのことです。",
    "ja"
)]
fn languages_are_found(#[case] text: &str, #[case] expected: &str) {
    let document = parse("a.txt", text.as_bytes()).expect("readable");
    assert_eq!(document.metadata.get("language"), Some(&Value::Text(expected.to_owned())));
}

#[test]
fn a_protected_pdf_opens_with_its_password() {
    let bytes = data("protected.pdf");
    let budget = Budget::default();
    let input = Input { name: "a.pdf", bytes: &bytes, budget: &budget };
    let read = |parser: PdfParser| parser.parse(&input);
    let closed = read(PdfParser::default()).expect_err("it is protected");
    assert!(closed.message().contains("protected by a password"), "{closed}");
    let wrong = read(PdfParser::default().password("guess")).expect_err("it is another");
    assert!(wrong.message().contains("another password"), "{wrong}");
    let open = Parsers::new(&ParseSettings { password: Some("secret".to_owned()), ..ParseSettings::default() });
    assert!(open.parse("a.pdf", &bytes, &budget).expect("it opens").text.contains("Berth"));
}

/// A parser of somebody's own.
struct Tides;

impl Parser for Tides {
    fn media_types(&self) -> &[&str] {
        &["application/x-tides"]
    }

    fn endings(&self) -> &[&str] {
        &["tide"]
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["tides 1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let mut builder = logothete_core::document::DocumentBuilder::new(input.name, "application/x-tides");
        builder.block(BlockKind::Paragraph, &format!("{} bytes of tides", input.bytes.len()));
        Ok(builder.finish())
    }
}

#[test]
fn a_parser_of_your_own_is_found_by_ending_and_by_media_type() {
    let mut parsers = Parsers::default();
    let before = parsers.fingerprint();
    parsers.register(Tides);
    assert_ne!(before, parsers.fingerprint());
    let budget = Budget::default();
    let by_name = parsers.parse("june.tide", b"\0\x01\x02", &budget).expect("its own");
    let by_type = parsers.parse_as(Some("application/x-tides; v=1"), "june", b"\0\x01\x02", &budget).expect("its own");
    assert_eq!((by_name.text.as_str(), by_type.text.as_str()), ("3 bytes of tides", "3 bytes of tides"));
    let _shared: Arc<dyn Parser> = Arc::new(Tides);
}

#[test]
fn pages_can_be_asked_for_and_have_a_limit() {
    let bytes = std::fs::read(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents/byelaws.pdf"))
        .expect("the demo");
    let mut budget = Budget::default();
    budget.pages = Some(logothete_core::document::Pages { first: 3, last: 4 });
    let parsers = Parsers::default();
    let document = parsers.parse("a.pdf", &bytes, &budget).expect("two pages");
    let pages: Vec<u32> = document.page_starts.iter().map(|start| start.page).collect();
    assert_eq!(pages, [3, 4]);
    assert!(!document.text.contains("Page 3 of 11"), "furniture is known from the pages around");
    budget.pages = Some(logothete_core::document::Pages { first: 30, last: 40 });
    let error = parsers.parse("a.pdf", &bytes, &budget).expect_err("no such pages");
    assert_eq!(
        (error.kind(), error.message()),
        (ErrorKind::Configuration, "it has 11 pages, and pages 30–40 were asked for")
    );
    budget.pages = None;
    budget.max_pages = 2;
    let document = parsers.parse("a.pdf", &bytes, &budget).expect("what the limit allows");
    assert_eq!(
        (document.page_count(), document.warnings[0].as_str()),
        (2, "only 2 of its 11 pages were read; that is the limit")
    );
}
