//! No parser takes time by the square of what it is given.

mod harness;

use std::fmt::Write as _;
use std::io::{Cursor, Write as _};

use harness::Work;
use logothete_parse::parse;

#[rustfmt::skip]
const ALL: &[Work] = &[
    ("captions", 100, |n| read("a.vtt", "WEBVTT\n\n".to_owned() + &(0..n).map(|at| format!("00:{:02}:{:02}.000 --> 00:{:02}:{:02}.900\nWord {at} is said.\n\n", at / 60 % 60, at % 60, at / 60 % 60, at % 60)).collect::<String>())),
    ("code", 200, |n| read("a.rs", (0..n).map(|at| format!("/// Returns {at}.\nfn bell{at}() -> u32 {{\n    {at}\n}}\n\n")).collect::<String>())),
    ("table of many rows", 300, |n| read("a.csv", "berth,metres\n".to_owned() + &"seven,8.4\n".repeat(n))),
    ("table of many columns", 300, |n| read("a.csv", format!("{}\n{}\n", "a,".repeat(n), "1,".repeat(n)))),
    ("ragged table", 300, |n| read("a.csv", format!("{}\n{}", "a,".repeat(n), "b,c\n".repeat(n)))),
    ("text", 300, |n| read("a.txt", "The bell is rung in fog.\n\n".repeat(n))),
    ("one line of text", 300, |n| read("a.txt", "The bell is rung in fog. ".repeat(n))),
    ("JSON records", 100, |n| read("a.json", format!("[{}1]", "{\"title\": \"Bell\", \"text\": \"It is rung.\", \"place\": \"quay\"},".repeat(n)))),
    ("JSON of many fields", 200, |n| read("a.json", format!("{{{}\"text\": \"It is rung.\"}}", (0..n).map(|at| format!("\"field{at}\": {at},")).collect::<String>()))),
    ("JSON lines", 100, |n| read("a.jsonl", "{\"title\": \"Bell\", \"text\": \"It is rung.\"}\n".repeat(n))),
    ("Markdown paragraphs", 200, |n| read("a.md", "# Bells\n\nThe *bell* is rung in [fog](fog.html).\n\n".repeat(n))),
    ("Markdown emphasis", 300, |n| read("a.md", "*a **b ".repeat(n))),
    ("Markdown brackets", 300, |n| read("a.md", "[a](".repeat(n))),
    ("Markdown references", 200, |n| read("a.md", (0..n).map(|at| format!("[a{at}]: http://quay.example/{at}\n\n[a{at}]\n\n")).collect::<String>())),
    ("Markdown table", 200, |n| read("a.md", "| a | b |\n|---|---|\n".to_owned() + &"| c | d |\n".repeat(n))),
    ("Markdown quotations", 100, |n| read("a.md", "> a\n\n".repeat(n))),
    ("front matter", 200, |n| read("a.md", format!("---\n{}---\n\nText.\n", (0..n).map(|at| format!("key{at}:\n  inner: {at}\n")).collect::<String>()))),
    ("HTML paragraphs", 200, |n| read("a.html", format!("<html><body>{}</body></html>", "<p>The <b>bell</b> is <a href='fog.html'>rung</a>.".repeat(n)))),
    ("HTML attributes", 20, |n| read("a.html", format!("<html><body>{}</body></html>", format!("<p {}>Bell</p>", (0..50).map(|at| format!("a{at}='{at} > 1' ")).collect::<String>()).repeat(n)))),
    ("HTML table", 100, |n| read("a.html", format!("<html><body><table>{}</table></body></html>", "<tr><td>a</td><td>b</td></tr>".repeat(n)))),
    ("HTML cells that span rows", 50, |n| read("a.html", format!("<html><body><table>{}</table></body></html>", "<tr><td rowspan=50>a</td><td rowspan=9>b</td></tr>".repeat(n)))),
    ("HTML elements without an end", 150, |n| read("a.html", format!("<html><body>{}", "<p><b>a".repeat(n.min(1_500))))),
    ("e-mail headers", 200, |n| read("a.eml", format!("From: a@quay.example\nDate: Mon, 1 Jan 2024 10:00:00 +0000\nMIME-Version: 1.0\n{}\nThe bell.\n", (0..n).map(|at| format!("X-Header{at}: {at}\n")).collect::<String>()))),
    ("e-mail parts", 12, |n| read("a.eml", format!("From: a@quay.example\nDate: Mon, 1 Jan 2024 10:00:00 +0000\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=b\n\n{}--b--\n", "--b\nContent-Type: text/plain\n\nThe bell.\n".repeat(n)))),
    ("Word paragraphs", 100, |n| word(&("<w:p><w:r><w:t>The bell is rung.</w:t></w:r></w:p>".repeat(n)))),
    ("Word tables", 100, |n| word(&(format!("<w:tbl>{}</w:tbl>", "<w:tr><w:tc><w:p><w:r><w:t>a</w:t></w:r></w:p></w:tc><w:tc><w:tcPr><w:gridSpan w:val=\"9\"/></w:tcPr><w:p/></w:tc></w:tr>".repeat(n))))),
    ("Word tables in tables", 8, |n| word(&("<w:tbl><w:tr><w:tc>".repeat(n) + "<w:p><w:r><w:t>deep</w:t></w:r></w:p>" + &"</w:tc></w:tr></w:tbl>".repeat(n)))),
    ("Word text boxes in text boxes", 40, |n| word(&(("<w:p><w:r><w:txbxContent>".repeat(5) + "<w:p><w:r><w:t>deep</w:t></w:r></w:p>" + &"</w:txbxContent></w:r></w:p>".repeat(5)).repeat(n)))),
    ("sheet of many rows", 100, |n| sheet(&(1..=n).map(|at| format!("<row r=\"{at}\"><c r=\"A{at}\"><v>{at}</v></c><c r=\"B{at}\"><v>8.4</v></c></row>")).collect::<String>(), "")),
    ("sheet of cells that span others", 100, |n| sheet(&(1..=n).map(|at| format!("<row r=\"{at}\"><c r=\"A{at}\"><v>{at}</v></c><c r=\"C{at}\"><v>8.4</v></c></row>")).collect::<String>(), &format!("<mergeCells>{}</mergeCells>", (1..=n).map(|at| format!("<mergeCell ref=\"A{at}:B{at}\"/>")).collect::<String>()))),
    ("tables in a sheet", 60, |n| sheet(&(1..=n).map(|at| format!("<row r=\"{}\"><c r=\"A{0}\"><v>1</v></c><c r=\"C{0}\"><v>2</v></c></row>", 2 * at)).collect::<String>(), &format!("<mergeCells>{}</mergeCells>", (1..=n).map(|at| format!("<mergeCell ref=\"A{0}:B{0}\"/>", 2 * at)).collect::<String>()))),
    ("PDF lines", 80, |n| pdf(&((0..n).map(|at| format!("BT /F 8 Tf 1 0 0 1 40 {} Tm (The bell is rung in fog.) Tj ET\n", 8_000 - 12 * at)).collect::<String>()))),
    ("PDF labels", 500, |n| pdf(&((0..n).map(|at| format!("BT /F 6 Tf 1 0 0 1 {} {} Tm (b{at}) Tj ET\n", 20 + at / 50 * 30, 20 + at % 50 * 12)).collect::<String>()))),
    // Up to 4,000 rules are compared with one another, more are no tables.
    ("PDF rules", 4_100, |n| pdf(&((0..n).map(|at| format!("{} {} m {} {} l S\n", 20, 20 + at * 20 % 7_900, 380, 20 + at * 20 % 7_900)).collect::<String>() + "BT /F 8 Tf 1 0 0 1 40 40 Tm (The bell.) Tj ET\n"))),
    ("PDF dictionaries in dictionaries", 200, |n| pdf_of_objects(&("<< /A ".repeat(n) + "1" + &" >>".repeat(n)))),
    ("PDF objects", 100, |n| pdf_of_objects(&((0..n).map(|at| format!("{at} ")).collect::<String>()))),
];

harness::assert_growth!(ALL);

fn read(name: &str, content: impl AsRef<[u8]>) {
    // A refusal is an answer too; that it came of a limit would be none.
    if let Err(error) = parse(name, content.as_ref()) {
        assert_ne!(error.kind(), logothete_core::ErrorKind::Limit, "{error}");
    }
}

fn archive(name: &str, parts: &[(&str, String)]) {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, content) in parts {
        writer.start_file(*name, stored).expect("a part");
        writer.write_all(content.as_bytes()).expect("its content");
    }
    read(name, writer.finish().expect("an archive").into_inner());
}

fn word(body: &str) {
    let mut document = String::new();
    let _ = write!(document, "<w:document xmlns:w=\"w\"><w:body>{body}</w:body></w:document>");
    archive("a.docx", &[("word/document.xml", document)]);
}

fn sheet(rows: &str, more: &str) {
    let book = "<workbook xmlns:r=\"r\"><sheets><sheet name=\"S\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>";
    let relation =
        "<Relationships><Relationship Id=\"r1\" Type=\"x/worksheet\" Target=\"worksheets/s.xml\"/></Relationships>";
    let sheet = format!("<worksheet><sheetData>{rows}</sheetData>{more}</worksheet>");
    archive(
        "a.xlsx",
        &[
            ("xl/workbook.xml", book.to_owned()),
            ("xl/_rels/workbook.xml.rels", relation.to_owned()),
            ("xl/worksheets/s.xml", sheet),
        ],
    );
}

fn pdf(content: &str) {
    read("a.pdf", crate::common::pdf(400, 8_000, &[content]));
}

fn pdf_of_objects(last: &str) {
    let objects = [
        "<< /Type /Catalog /Pages 2 0 R >>",
        "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 400 400] >>",
    ];
    let all: Vec<String> = objects.into_iter().map(str::to_owned).chain([last.to_owned()]).collect();
    read("a.pdf", crate::common::file(&all));
}
