//! What is written in a format is what is read from it.

use std::fmt::Write as _;
use std::io::{Cursor, Write as _};

use logothete_core::document::{BlockKind, Document, DocumentBuilder, InlineLink, Span, TableCell, TableRow};
use logothete_parse::parse;
use proptest::prelude::*;

/// A cell that every format can hold as it is.
fn cell() -> impl Strategy<Value = String> {
    "[A-Z][a-z]{2,9}( [a-z]{2,8}){0,2}|[1-9][0-9]{0,3}(\\.[0-9])?"
}

fn rows() -> impl Strategy<Value = Vec<Vec<String>>> {
    (2..6usize, 2..8usize).prop_flat_map(|(columns, count)| {
        let header = prop::collection::vec("[A-Z][a-z]{3,9}", columns);
        (header, prop::collection::vec(prop::collection::vec(cell(), columns), count)).prop_map(|(mut header, rows)| {
            // The names of columns differ.
            header.iter_mut().zip('A'..).for_each(|(name, letter)| name.push_str(&format!(" {letter}")));
            std::iter::once(header).chain(rows).collect()
        })
    })
}

fn archive(parts: &[(&str, &str)]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in parts {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).expect("a part");
        writer.write_all(content.as_bytes()).expect("its content");
    }
    writer.finish().expect("an archive").into_inner()
}

fn cells(document: &Document) -> Vec<Vec<String>> {
    let tables = document.blocks.iter().filter_map(|block| block.table.as_ref());
    let rows = tables.flat_map(|table| &table.rows);
    rows.map(|row| row.cells.iter().map(|cell| document.slice(*cell).to_owned()).collect()).collect()
}

fn wrapped(rows: &[Vec<String>], row: (&str, &str), cell: (&str, &str)) -> String {
    let mut out = String::new();
    for cells in rows {
        out.push_str(row.0);
        cells.iter().for_each(|text| write!(out, "{}{text}{}", cell.0, cell.1).expect("a string takes it"));
        out.push_str(row.1);
    }
    out
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn tables_of_every_format_keep_their_cells(rows in rows()) {
        let comma: String = rows.iter().map(|row| row.join(",") + "\n").collect();
        prop_assert_eq!(&cells(&parse("a.csv", comma.as_bytes()).expect("csv")), &rows);

        let mut markdown: Vec<String> = rows.iter().map(|row| format!("| {} |", row.join(" | "))).collect();
        markdown.insert(1, format!("|{}", "---|".repeat(rows[0].len())));
        prop_assert_eq!(&cells(&parse("a.md", markdown.join("\n").as_bytes()).expect("markdown")), &rows);

        let html = format!("<html><body><table>{}</table></body></html>", wrapped(&rows, ("<tr>", "</tr>"), ("<td>", "</td>")));
        prop_assert_eq!(&cells(&parse("a.html", html.as_bytes()).expect("html")), &rows);

        let word = wrapped(&rows, ("<w:tr>", "</w:tr>"), ("<w:tc><w:p><w:r><w:t xml:space=\"preserve\">", "</w:t></w:r></w:p></w:tc>"));
        let word = format!("<w:document><w:body><w:tbl>{word}</w:tbl></w:body></w:document>");
        prop_assert_eq!(&cells(&parse("a.docx", &archive(&[("word/document.xml", &word)])).expect("docx")), &rows);

        let sheet = wrapped(&rows, ("<row>", "</row>"), ("<c t=\"inlineStr\"><is><t>", "</t></is></c>"));
        let mut named = String::new();
        for (number, part) in sheet.split("<row>").skip(1).enumerate() {
            let mut column = b'A';
            let part = part.split("<c ").map(|cell| {
                let place = format!("<c r=\"{}{}\" ", char::from(column), number + 1);
                column += u8::from(cell.contains("</c>"));
                if cell.contains("</c>") { place + cell } else { cell.to_owned() }
            });
            write!(named, "<row>{}", part.collect::<String>()).expect("a string takes it");
        }
        let book = archive(&[
            ("xl/workbook.xml", "<workbook><sheets><sheet name=\"One\" r:id=\"rId1\"/></sheets></workbook>"),
            ("xl/_rels/workbook.xml.rels", "<Relationships><Relationship Id=\"rId1\" Type=\"t/worksheet\" Target=\"a.xml\"/></Relationships>"),
            ("xl/a.xml", &format!("<worksheet><sheetData>{named}</sheetData></worksheet>")),
        ]);
        prop_assert_eq!(&cells(&parse("a.xlsx", &book).expect("xlsx")), &rows);
    }

    #[test]
    fn a_grid_on_a_page_keeps_its_cells(rows in rows(), width in 90..120u32) {
        let (columns, count) = (rows[0].len() as u32, rows.len() as u32);
        let (left, top, height) = (40, 760, 20);
        let mut stream = String::new();
        for row in 0..=count {
            writeln!(stream, "0.5 w {left} {y} m {} {y} l S", left + columns * width, y = top - row * height).expect("a string takes it");
        }
        for column in 0..=columns {
            writeln!(stream, "{x} {top} m {x} {} l S", top - count * height, x = left + column * width).expect("a string takes it");
        }
        for (row, cells) in (0u32..).zip(&rows) {
            for (column, text) in (0u32..).zip(cells) {
                let (x, y) = (left + column * width + 3, top - row * height - 14);
                // Small enough to stay in its cell.
                writeln!(stream, "BT /F 5 Tf 1 0 0 1 {x} {y} Tm ({text}) Tj ET").expect("a string takes it");
            }
        }
        let document = parse("a.pdf", &crate::common::pdf(800, 800, &[&stream])).expect("readable");
        prop_assert_eq!(cells(&document), rows);
    }

    #[test]
    fn paragraphs_survive_word_and_the_web(words in prop::collection::vec("[A-Za-zäöüéñ港]{1,12}( [a-z0-9,;]{1,8}){0,6}", 1..8)) {
        let word: String = words.iter().map(|text| format!("<w:p><w:r><w:t xml:space=\"preserve\">{text}</w:t></w:r></w:p>")).collect();
        let word = format!("<w:document><w:body>{word}</w:body></w:document>");
        let document = parse("a.docx", &archive(&[("word/document.xml", &word)])).expect("docx");
        prop_assert_eq!(&document.text, &words.join("\n\n"));
        let page: String = words.iter().map(|text| format!("<p>{text}</p>")).collect();
        let document = parse("a.html", format!("<html><body>{page}</body></html>").as_bytes()).expect("html");
        prop_assert_eq!(&document.text, &words.join("\n\n"));
    }

    /// However a document is written, its places lie on characters, in order, and its Markdown has whole tables.
    #[test]
    fn places_are_right_by_construction(
        texts in prop::collection::vec("[ \\na-zé\u{300}\r\u{c}]{0,24}", 1..8),
        grid in prop::collection::vec(prop::collection::vec(0..4u8, 1..5), 1..5),
        from in 0..20usize,
    ) {
        let mut builder = DocumentBuilder::new("a", "text/plain");
        for text in &texts {
            let span = Span::new(from.min(text.len()), text.len());
            builder.linked_block(BlockKind::Paragraph, 0, text, vec![InlineLink { span, target: "x".to_owned() }]);
        }
        let made: Vec<TableRow> = grid
            .iter()
            .map(|row| TableRow {
                cells: row
                    .iter()
                    .map(|kind| match kind {
                        0 => TableCell::Above,
                        1 => TableCell::Left,
                        _ => TableCell::Text(format!("a|{kind}")),
                    })
                    .collect(),
                ..TableRow::default()
            })
            .collect();
        builder.table_rows(1, &made);
        let document = builder.finish();
        let mut end = 0;
        for block in &document.blocks {
            prop_assert!(block.span.start >= end && document.text.get(block.span.range()).is_some());
            end = block.span.end;
            for cell in block.table.iter().flat_map(|table| &table.rows).flat_map(|row| &row.cells) {
                prop_assert!(document.text.get(cell.range()).is_some());
            }
        }
        for link in &document.links {
            prop_assert!(document.text.get(link.span.range()).is_some(), "{:?} in {:?}", link.span, document.text);
        }
        let widths: Vec<usize> = document
            .to_markdown()
            .lines()
            .filter(|line| line.starts_with('|'))
            .map(|line| line.replace("\\|", "").matches('|').count())
            .collect();
        prop_assert!(widths.windows(2).all(|pair| pair[0] == pair[1]), "{widths:?}");
    }
}
