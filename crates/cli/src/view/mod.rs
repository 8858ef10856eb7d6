//! Views for a terminal or a pipe: styles, wrapping, tables.

mod answer;
pub mod beside;
mod chart;
mod check;
mod digest;
pub mod expected;
mod flow;
mod grid;
mod measures;
mod prompt;
mod quote;
mod style;
mod table;
mod trace;
mod tree;
mod visible;
pub mod why;

pub use answer::{answer, sources, verdict};
pub use chart::{histogram, side_by_side, strip};
pub use check::{checked_pairs, checked_text, verdict_measures};
pub use digest::digests;
pub use flow::Flow;
pub use grid::{broken, grid};
pub use measures::{comparison, measure_names, measures, questions, rank, runs};
pub use prompt::prompt;
pub use quote::{SetOff, quotation};
pub use style::Style;
pub use table::{Align, table};
pub use trace::trace;
pub use tree::tree;
pub use visible::{is_harmless, visible};

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// How wide text is when nobody looks at a terminal.
const PLAIN_WIDTH: usize = 100;
/// Text is never wrapped narrower than this, nor wider than is pleasant to read.
const NARROWEST: usize = 30;
const WIDEST: usize = 110;

/// Returns the width of the output.
pub fn width() -> usize {
    let columns = terminal_size::terminal_size().map_or(PLAIN_WIDTH, |(width, _)| usize::from(width.0));
    columns.clamp(NARROWEST, WIDEST)
}

/// Breaks text into lines of at most `width` columns, between words. A longer word stands alone, and a marker such as
/// `[1]` never begins a line.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        let marker = word.starts_with('[') && word.ends_with(']');
        match lines.last_mut() {
            Some(line) if marker || line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// Wraps text with an indent before every line.
pub fn indented(text: &str, indent: usize) -> String {
    let lines = wrap(text, width().saturating_sub(indent).max(NARROWEST / 2));
    lines.iter().map(|line| format!("{:indent$}{line}\n", "")).collect()
}

/// Returns the beginning of a text on one line of at most `width` columns.
pub fn shortened(text: &str, width: usize) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    if line.width() <= width {
        return line;
    }
    let (mut short, mut room) = (String::new(), width.saturating_sub(1));
    for c in line.chars() {
        let Some(left) = room.checked_sub(c.width().unwrap_or(0)) else { break };
        room = left;
        short.push(c);
    }
    // Between words, unless the last word alone takes up most of the room.
    let end = short.rfind(' ').filter(|&end| end * 2 > short.len()).unwrap_or(short.len());
    format!("{}…", short[..end].trim_end_matches([' ', ',', ';', '.']))
}

/// `1 chunk`, `12 chunks`, `3,456 chunks`.
pub fn count(number: impl Into<u64>, one: &str, many: &str) -> String {
    let number = number.into();
    format!("{} {}", thousands(number), if number == 1 { one } else { many })
}

/// Formats a number with thousands separators.
pub fn thousands(number: u64) -> String {
    let digits = number.to_string();
    let mut parted = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            parted.push(',');
        }
        parted.push(digit);
    }
    parted
}

/// Returns a size in the unit that fits.
pub fn bytes(number: u64) -> String {
    match number {
        0..1_000 => format!("{number} B"),
        1_000..1_000_000 => format!("{:.1} kB", number as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", number as f64 / 1e6),
        _ => format!("{:.1} GB", number as f64 / 1e9),
    }
}

/// Returns a time in the unit that fits.
pub fn duration(milliseconds: f64) -> String {
    match milliseconds {
        ms if ms < 10.0 => format!("{ms:.1} ms"),
        ms if ms < 1_000.0 => format!("{ms:.0} ms"),
        ms if ms < 60_000.0 => format!("{:.1} s", ms / 1e3),
        ms => format!("{:.0} min {:.0} s", (ms / 60_000.0).floor(), ms % 60_000.0 / 1e3),
    }
}

#[cfg(test)]
mod tests {
    use logothete::document::Span;
    use proptest::prelude::*;
    use rstest::rstest;
    use unicode_width::UnicodeWidthStr;

    use super::*;

    fn plain() -> Style {
        // Tests write to no terminal.
        Style::of_stdout()
    }

    #[rstest]
    #[case("one two three", 7, &["one two", "three"])]
    #[case("ends here. [1] next", 10, &["ends here. [1]", "next"])]
    #[case("immeasurable", 4, &["immeasurable"])]
    #[case("港口 港口", 4, &["港口", "港口"])]
    #[case("", 4, &[])]
    fn wrapping(#[case] text: &str, #[case] width: usize, #[case] expected: &[&str]) {
        assert_eq!(wrap(text, width), expected);
    }

    #[rstest]
    #[case("a short text", 20, "a short text")]
    #[case("a rather longer text", 14, "a rather…")]
    #[case("unbroken-and-long", 8, "unbroke…")]
    fn shortening(#[case] text: &str, #[case] width: usize, #[case] expected: &str) {
        assert_eq!(shortened(text, width), expected);
        assert!(shortened(text, width).width() <= width);
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_000, "1,000")]
    #[case(12_345_678, "12,345,678")]
    fn thousands_are_parted(#[case] number: u64, #[case] expected: &str) {
        assert_eq!(thousands(number), expected);
    }

    #[rstest]
    #[case(0.84, "0.8 ms")]
    #[case(421.0, "421 ms")]
    #[case(2_500.0, "2.5 s")]
    #[case(119_000.0, "1 min 59 s")]
    fn times_have_the_unit_that_fits(#[case] milliseconds: f64, #[case] expected: &str) {
        assert_eq!(duration(milliseconds), expected);
    }

    proptest! {
        #[test]
        fn wrapping_keeps_every_word_and_the_width(text in "([a-zäö港]{1,14}|\\[[0-9]\\]| |\n|\t){0,60}", width in 1_usize..60) {
            let lines = wrap(&text, width);
            let words: Vec<&str> = lines.iter().flat_map(|line| line.split(' ')).collect();
            prop_assert_eq!(words, text.split_whitespace().collect::<Vec<_>>());
            for line in &lines {
                let marked = line.ends_with(']');
                prop_assert!(line.width() <= width || !line.contains(' ') || marked, "{line:?} is wider than {width}");
            }
        }

        #[test]
        fn what_is_shortened_fits_and_begins_the_same(text in "([a-zäö港]{1,14}|[,.]| |\n){0,40}", width in 2_usize..50) {
            let (short, line) = (shortened(&text, width), text.split_whitespace().collect::<Vec<_>>().join(" "));
            prop_assert!(short.width() <= width, "{short:?}");
            match short.strip_suffix('…') {
                Some(begin) => prop_assert!(line.starts_with(begin) && line.width() > width),
                None => prop_assert_eq!(short, line),
            }
        }

        #[test]
        fn marks_stand_below_what_matches(words in prop::collection::vec("[a-zä港]{1,9}", 1..25), chosen: u32, width in 20_usize..80) {
            let (text, mut matches, mut at) = (words.join(" "), Vec::new(), 0);
            for (number, word) in words.iter().enumerate() {
                if chosen >> (number % 32) & 1 == 1 {
                    matches.push(Span::new(at, at + word.len()));
                }
                at += word.len() + 1;
            }
            let drawn = quotation(&text, SetOff { matches: &matches, alike: &[] }, 4, width, plain());
            let (mut quoted, mut marked) = (Vec::new(), 0);
            let mut lines = drawn.lines().peekable();
            while let Some(line) = lines.next() {
                let shown = line.trim_start().trim_matches(['“', '”']);
                quoted.extend(shown.split(' ').map(str::to_owned));
                if let Some(marks) = lines.next_if(|line| line.contains('‾')) {
                    prop_assert!(marks.width() <= line.width());
                    marked += marks.matches('‾').count();
                }
            }
            prop_assert_eq!(quoted, words);
            prop_assert_eq!(marked, matches.iter().map(|span| text[span.start..span.end].width()).sum::<usize>());
        }

        #[test]
        fn a_grid_keeps_every_word_of_every_cell(rows in prop::collection::vec(prop::collection::vec("([a-z港]{1,30} ?){0,6}", 3), 1..5)) {
            let drawn = grid(&rows, 1, 2, plain());
            let letters = |text: &str| {
                let mut all: Vec<char> = text.chars().filter(|c| c.is_alphabetic()).collect();
                all.sort_unstable();
                all
            };
            prop_assert_eq!(letters(&drawn), letters(&rows.concat().concat()));
            prop_assert!(drawn.lines().all(|line| line.width() <= width()), "{drawn}");
        }

        #[test]
        fn numbers_are_read_back_without_their_commas(number: u64) {
            prop_assert_eq!(thousands(number).replace(',', "").parse::<u64>().expect("a number"), number);
            prop_assert!(thousands(number).split(',').skip(1).all(|part| part.len() == 3));
        }
    }

    #[test]
    fn matches_are_marked_below_the_quotation() {
        let shown = quotation(
            "low water at noon",
            SetOff { matches: &[Span::new(4, 9)], alike: &[Span::new(13, 17)] },
            2,
            60,
            plain(),
        );
        assert_eq!(shown, "  “low water at noon”\n       ‾‾‾‾‾    ˙˙˙˙\n");
        let wrapped = quotation("low water at noon, low water at night", SetOff::default(), 0, 22, plain());
        assert!(wrapped.lines().all(|line| line.width() <= 22), "{wrapped}");
    }

    #[test]
    fn a_table_keeps_to_its_columns() {
        let rows = vec![vec!["Name".to_owned(), "No".to_owned()], vec!["Berth".to_owned(), "7".to_owned()]];
        assert_eq!(table(&rows, &[Align::Left, Align::Right], 0, plain()), "Name   No\nBerth   7\n");
    }
}
