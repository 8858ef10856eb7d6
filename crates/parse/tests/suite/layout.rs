//! Layout on PDFs made here, glyph by glyph and rule by rule.

use std::fmt::Write;

use logothete_core::document::{BlockKind, Document};
use logothete_parse::parse;
use proptest::prelude::*;
use rstest::rstest;

/// A page being drawn. Places are points from the lower left corner.
#[derive(Default)]
struct Drawing(String);

impl Drawing {
    fn text(mut self, x: f64, y: f64, size: f64, words: &str) -> Self {
        writeln!(self.0, "BT /F {size} Tf 1 0 0 1 {x} {y} Tm ({words}) Tj ET").expect("a string takes it");
        self
    }

    fn rule(mut self, thin_box: bool, from: (f64, f64), to: (f64, f64)) -> Self {
        let ((x, y), (right, top)) = (from, to);
        if thin_box {
            let (width, height) = ((right - x).max(0.5), (top - y).max(0.5));
            writeln!(self.0, "{x} {y} {width} {height} re f").expect("a string takes it");
        } else {
            writeln!(self.0, "0.5 w {x} {y} m {right} {top} l S").expect("a string takes it");
        }
        self
    }

    /// A grid with words in its cells, each row 20 points high.
    fn grid(mut self, thin_box: bool, left: f64, top: f64, widths: &[f64], rows: &[Vec<String>]) -> Self {
        let right = left + widths.iter().sum::<f64>();
        let foot = top - 20.0 * rows.len() as f64;
        for row in 0..=rows.len() {
            let y = top - 20.0 * row as f64;
            self = self.rule(thin_box, (left, y), (right, y));
        }
        let mut x = left;
        for column in 0..=widths.len() {
            self = self.rule(thin_box, (x, foot), (x, top));
            for (row, cells) in rows.iter().enumerate() {
                if let Some(cell) = cells.get(column) {
                    self = self.text(x + 4.0, top - 20.0 * row as f64 - 14.0, 10.0, cell);
                }
            }
            x += widths.get(column).copied().unwrap_or(0.0);
        }
        self
    }
}

/// The document of these pages, 600 by 800 points each.
fn pdf(pages: &[Drawing]) -> Document {
    let streams: Vec<&str> = pages.iter().map(|Drawing(stream)| stream.as_str()).collect();
    parse("made.pdf", &crate::common::pdf(600, 800, &streams)).expect("it is readable")
}

fn kinds(document: &Document) -> Vec<(BlockKind, &str)> {
    document.blocks.iter().map(|block| (block.kind, document.block_text(block))).collect()
}

fn table_cells(document: &Document) -> Vec<Vec<Vec<String>>> {
    let tables = document.blocks.iter().filter_map(|block| block.table.as_ref());
    let row =
        |row: &logothete_core::document::Row| row.cells.iter().map(|cell| document.slice(*cell).to_owned()).collect();
    tables.map(|table| table.rows.iter().map(row).collect()).collect()
}

#[rstest]
#[case(true)]
#[case(false)]
fn rules_that_meet_make_a_table_between_paragraphs(#[case] thin_box: bool) {
    let rows: Vec<Vec<String>> = [["Berth", "Length"], ["Berth 1", "55"], ["Berth 2", "48"]]
        .iter()
        .map(|row| row.map(String::from).to_vec())
        .collect();
    let page = Drawing::default()
        .text(60.0, 700.0, 10.0, "The berths are these.")
        .grid(thin_box, 60.0, 680.0, &[120.0, 80.0], &rows)
        .text(60.0, 580.0, 10.0, "Lengths are in metres.");
    let document = pdf(&[page]);
    assert_eq!(
        kinds(&document),
        [
            (BlockKind::Paragraph, "The berths are these."),
            (BlockKind::Table, "Berth | Length\nBerth 1 | 55\nBerth 2 | 48"),
            (BlockKind::Paragraph, "Lengths are in metres."),
        ]
    );
    let table = document.blocks[1].table.as_ref().expect("a table");
    assert_eq!(table.row_alone(&document.text, 2).as_deref(), Some("Berth 2 · Length: 48"));
}

#[test]
fn a_frame_or_a_line_is_no_table() {
    let page = Drawing::default()
        .rule(false, (50.0, 500.0), (300.0, 500.0))
        .rule(false, (50.0, 600.0), (300.0, 600.0))
        .rule(false, (50.0, 500.0), (50.0, 600.0))
        .rule(false, (300.0, 500.0), (300.0, 600.0))
        .text(60.0, 550.0, 10.0, "A framed notice.")
        .rule(true, (50.0, 300.0), (500.0, 300.0));
    assert_eq!(kinds(&pdf(&[page])), [(BlockKind::Paragraph, "A framed notice.")]);
}

#[test]
fn sizes_make_headings_and_gaps_make_paragraphs() {
    let page = Drawing::default()
        .text(60.0, 740.0, 20.0, "Tide tables")
        .text(60.0, 700.0, 14.0, "January")
        .text(60.0, 680.0, 10.0, "High water comes")
        .text(60.0, 668.0, 10.0, "twice a day.")
        .text(60.0, 644.0, 10.0, "Low water too.")
        .text(60.0, 632.0, 10.0, "A spring tide is higher.");
    let document = pdf(&[page]);
    assert_eq!(
        kinds(&document),
        [
            (BlockKind::Heading, "Tide tables"),
            (BlockKind::Heading, "January"),
            (BlockKind::Paragraph, "High water comes twice a day."),
            (BlockKind::Paragraph, "Low water too. A spring tide is higher."),
        ]
    );
    assert_eq!((document.blocks[0].level, document.blocks[1].level), (1, 2));
    assert_eq!(document.title.as_deref(), Some("Tide tables"));
}

#[test]
fn running_heads_are_furniture_and_a_single_page_has_none() {
    let page = |number: usize| {
        Drawing::default()
            .text(60.0, 770.0, 9.0, "Harbour handbook")
            .text(60.0, 600.0, 10.0, ["First words.", "Second words.", "Third words."][number])
            .text(290.0, 30.0, 9.0, &format!("{}", number + 1))
    };
    let document = pdf(&[page(0), page(1), page(2)]);
    assert_eq!(document.text, "First words.\n\nSecond words.\n\nThird words.");
    let furniture = document.blocks.iter().filter(|block| block.kind == BlockKind::Furniture);
    assert_eq!(
        furniture.map(|block| document.block_text(block)).collect::<Vec<_>>().concat().matches("handbook").count(),
        3
    );
    assert!(pdf(&[page(0)]).text.contains("Harbour handbook"));
}

#[test]
fn items_begin_at_their_markers_and_figures_in_running_text_do_not() {
    let page = Drawing::default()
        .text(60.0, 700.0, 10.0, "\\(1\\) Ropes are coiled")
        .text(60.0, 688.0, 10.0, "and hung up.")
        .text(60.0, 676.0, 10.0, "\\(2\\) Nets are dried.")
        .text(60.0, 640.0, 10.0, "The watch listens on channel")
        .text(60.0, 628.0, 10.0, "9. Pilots use another.");
    assert_eq!(
        kinds(&pdf(&[page])),
        [
            (BlockKind::ListItem, "(1) Ropes are coiled and hung up."),
            (BlockKind::ListItem, "(2) Nets are dried."),
            (BlockKind::Paragraph, "The watch listens on channel 9. Pilots use another."),
        ]
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_ruled_grid_comes_back_cell_by_cell(
        thin_box: bool,
        columns in 2usize..5,
        rows in prop::collection::vec(prop::collection::vec("[a-z]{1,6}( [0-9]{1,3})?", 5), 2..8),
    ) {
        let rows: Vec<Vec<String>> = rows.into_iter().map(|row| row[..columns].to_vec()).collect();
        let document = pdf(&[Drawing::default().grid(thin_box, 50.0, 700.0, &vec![90.0; columns], &rows)]);
        prop_assert_eq!(table_cells(&document), vec![rows]);
    }

    #[test]
    fn lines_drawn_in_any_order_are_read_from_the_top(mut order in Just((0..8usize).collect::<Vec<_>>()).prop_shuffle()) {
        let mut page = Drawing::default();
        for &line in &order {
            page = page.text(60.0, 700.0 - 40.0 * line as f64, 10.0, &format!("Line number {line}."));
        }
        let document = pdf(&[page]);
        order.sort_unstable();
        let expected: Vec<String> = order.iter().map(|line| format!("Line number {line}.")).collect();
        prop_assert_eq!(document.text.split("\n\n").collect::<Vec<_>>(), expected);
    }
}

/// Lines of prose, each of some words, for a column.
fn prose(tag: &str, lines: usize) -> Vec<String> {
    (0..lines).map(|line| format!("{tag}{line} ropes and nets lie here")).collect()
}

#[rstest]
#[case(0.0)] // both columns on the same baselines
#[case(5.0)] // each on its own
fn columns_are_read_one_after_the_other(#[case] shift: f64) {
    let mut page =
        Drawing::default().text(60.0, 740.0, 10.0, "A line above that runs over the whole breadth of the page and on");
    for (line, (left, right)) in prose("left", 6).iter().zip(prose("right", 6)).enumerate() {
        let y = 700.0 - 12.0 * line as f64;
        page = page.text(60.0, y, 10.0, left).text(330.0, y - shift, 10.0, &right);
    }
    page = page.text(60.0, 590.0, 10.0, "A line below that runs over the whole breadth of the page again");
    let document = pdf(&[page]);
    let place =
        |words: &str| document.text.find(words).unwrap_or_else(|| panic!("{words} is not in {}", document.text));
    let order = ["A line above", "left0", "left5", "right0", "right5", "A line below"].map(place);
    assert!(order.is_sorted(), "{}", document.text);
}

#[test]
fn three_columns_are_columns_within_columns() {
    let mut page = Drawing::default();
    for line in 0..6 {
        for (column, tag) in ["one", "two", "three"].iter().enumerate() {
            let (x, y) = (40.0 + 185.0 * column as f64, 700.0 - 12.0 * f64::from(line));
            page = page.text(x, y, 10.0, &format!("{tag}{line} ropes and nets lie here"));
        }
    }
    let text = pdf(&[page]).text;
    let order =
        ["one0", "one5", "two0", "two5", "three0", "three5"].map(|words| text.find(words).expect("it is there"));
    assert!(order.is_sorted(), "{text}");
}

#[test]
fn labels_and_short_cells_are_no_columns() {
    let mut page = Drawing::default();
    for (line, label) in ["Ebb", "Flood", "Neap", "Spring", "Slack", "Surge"].iter().enumerate() {
        let y = 700.0 - 14.0 * line as f64;
        page = page.text(60.0, y, 10.0, label).text(
            200.0,
            y,
            10.0,
            &format!("means number {line} of the tides that are known"),
        );
    }
    let text = pdf(&[page]).text;
    assert!(text.contains("Neap means number 2") && text.contains("Surge means number 5"), "{text}");
}

#[test]
fn the_entries_of_a_table_of_contents_stand_alone_and_head_nothing() {
    let page = Drawing::default()
        .text(60.0, 740.0, 18.0, "Contents")
        .text(60.0, 700.0, 14.0, "1 Tides . . . . . . . 3")
        .text(60.0, 684.0, 10.0, "1.1 High water . . . . . . . 4")
        .text(60.0, 672.0, 10.0, "1.2 Low water . . . . . . . 12")
        .text(60.0, 600.0, 10.0, "The tables that follow are for one year and for this one harbour only.");
    let document = pdf(&[page]);
    let headings: Vec<&str> =
        kinds(&document).into_iter().filter(|(kind, _)| *kind == BlockKind::Heading).map(|(_, text)| text).collect();
    assert_eq!(headings, ["Contents"]);
    assert!(kinds(&document).contains(&(BlockKind::Contents, "1.2 Low water . . . . . . . 12")));
}

#[test]
fn numbers_tell_the_level_of_headings() {
    let page = Drawing::default()
        .text(60.0, 760.0, 24.0, "Handbook")
        .text(60.0, 720.0, 14.0, "1 Tides")
        .text(60.0, 690.0, 12.0, "1.1 High water")
        .text(60.0, 670.0, 10.0, "It comes twice a day, as everybody in the harbour knows.")
        .text(60.0, 640.0, 12.0, "1.2 Low water")
        .text(60.0, 620.0, 10.0, "It comes in between, and nobody is ever surprised by that.")
        .text(60.0, 590.0, 14.0, "2 Winds")
        .text(60.0, 560.0, 14.0, "Winds from the north");
    let document = pdf(&[page]);
    let levels: Vec<(u8, &str)> = document
        .blocks
        .iter()
        .filter(|block| block.kind == BlockKind::Heading)
        .map(|block| (block.level, document.block_text(block)))
        .collect();
    assert_eq!(
        levels,
        [
            (1, "Handbook"),
            (1, "1 Tides"),
            (2, "1.1 High water"),
            (2, "1.2 Low water"),
            (1, "2 Winds"),
            (1, "Winds from the north")
        ]
    );
}
