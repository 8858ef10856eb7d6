//! Numbers in words, written in figures.

use crate::document::Span;
use crate::quantity::{Dimension, Unit};
use crate::text::{fold, words};

const UNITS: [&str; 20] = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
];
const TENS: [&str; 10] = ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
/// A text in which numbers in words are written in figures, and where its parts stood.
pub(super) struct Figured {
    pub(super) text: String,
    /// The start in `text` and the place in the given text of each word that was replaced, in order.
    replaced: Vec<(Span, Span)>,
}

impl Figured {
    /// Returns the place in the given text of a place in this one.
    pub(super) fn original(&self, span: Span) -> Span {
        Span::new(self.position(span.start, false), self.position(span.end, true))
    }

    fn position(&self, at: usize, is_end: bool) -> usize {
        let mut shift = 0_isize;
        for (new, old) in &self.replaced {
            if at < new.start || (at == new.start && is_end) {
                break;
            }
            if at < new.end || (at == new.end && is_end) {
                return if is_end { old.end } else { old.start };
            }
            shift = old.end as isize - new.end as isize;
        }
        (at as isize + shift).max(0) as usize
    }
}

/// Returns `true` for a number word, such as `eleven`.
pub(in crate::verify) fn is_number_word(word: &str) -> bool {
    small(word).is_some() || matches!(word, "hundred" | "thousand" | "million")
}

/// Returns the value of a number word below a hundred.
fn small(word: &str) -> Option<f64> {
    let of = |list: &[&str]| list.iter().position(|known| *known == word);
    of(&UNITS).map(|at| at as f64).or_else(|| of(&TENS).filter(|at| *at > 1).map(|at| at as f64 * 10.0)).or(
        match word {
            "dozen" => Some(12.0),
            "twice" | "double" | "doubled" | "both" => Some(2.0),
            "thrice" => Some(3.0),
            _ => None,
        },
    )
}

pub(super) fn figured(text: &str) -> Figured {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let mut figured = Figured { text: String::with_capacity(text.len()), replaced: Vec::new() };
    let (mut at, mut copied) = (0, 0);
    while at < all.len() {
        let Some((value, count)) = number_in_words(text, &all[at..]) else {
            at += 1;
            continue;
        };
        let old = Span::new(all[at].0.start, all[at + count - 1].0.end);
        figured.text.push_str(&text[copied..old.start]);
        let start = figured.text.len();
        figured.text.push_str(&format!("{value}"));
        figured.replaced.push((Span::new(start, figured.text.len()), old));
        (copied, at) = (old.end, at + count);
    }
    figured.text.push_str(&text[copied..]);
    figured
}

/// Returns the number that some words begin with, and of how many words it is. A lone `one` is none.
fn number_in_words(text: &str, all: &[(Span, String)]) -> Option<(f64, usize)> {
    let word = |at: usize| all.get(at).map(|(_, word)| word.as_str());
    let joined = |at: usize| {
        let between = &text[all[at - 1].0.end..all[at].0.start];
        between == "-" || between == " " || between == "\u{2011}"
    };
    // A figure before `million` counts as well: 2 million.
    let first = word(0)?;
    let scaled = |at: usize| match word(at) {
        Some("hundred") => Some(100.0),
        Some("thousand") => Some(1_000.0),
        Some("million" | "millions") => Some(1e6),
        Some("billion") => Some(1e9),
        _ => None,
    };
    let mut count = 1;
    let mut value = match first {
        // `Half a million` and `half a centimetre` are shares of these.
        "half" if matches!(word(1), Some("a" | "an")) && scaled(2).is_some() => {
            return Some((0.5 * scaled(2)?, 3));
        }
        "half" if matches!(word(1), Some("a" | "an")) => {
            let unit = word(2).filter(|unit| unit.len() > 2).and_then(Unit::named)?;
            return is_weighed(&unit.dimension).then_some((0.5, 2));
        }
        "a" | "an" if scaled(1).is_some() || word(1) == Some("dozen") => 1.0,
        "every" | "each"
            if word(1).is_some_and(|next| {
                next.len() > 2 && Unit::named(next).is_some_and(|unit| unit.dimension == Dimension::Duration)
            }) =>
        {
            return Some((1.0, 1));
        }
        // A litre is an amount; a day in `twice a day` is none, but an hour and a half is one.
        "a" | "an"
            if word(1).is_some_and(|next| {
                let has_part =
                    matches!((word(2), word(3), word(4)), (Some("and"), Some("a"), Some("half" | "quarter")));
                next.len() > 2
                    && Unit::named(next).is_some_and(|unit| {
                        is_weighed(&unit.dimension) || (has_part && unit.dimension == Dimension::Duration)
                    })
            }) =>
        {
            return Some((1.0, 1));
        }
        _ if first.starts_with(|c: char| c.is_ascii_digit()) => {
            scaled(1)?;
            first.replace(',', "").parse().ok()?
        }
        _ => small(first)?,
    };
    let tens = (20.0..100.0).contains(&value) && TENS.contains(&first);
    if tens && let Some(unit) = word(1).and_then(small).filter(|unit| *unit > 0.0 && *unit < 10.0 && joined(1)) {
        (value, count) = (value + unit, 2);
    }
    if word(1) == Some("dozen") && matches!(first, "a" | "an") {
        return Some((12.0, 2));
    }
    while let Some(scale) = scaled(count).filter(|_| joined(count)) {
        (value, count) = (value * scale, count + 1);
        let rest = usize::from(word(count) == Some("and"));
        if let Some((more, taken)) = word(count + rest).and_then(|_| number_in_words(text, &all[count + rest..]))
            && more < scale
            && joined(count)
        {
            (value, count) = (value + more, count + rest + taken);
        }
    }
    let part = match (word(count), word(count + 1), word(count + 2)) {
        (Some("and"), Some("a"), Some("half")) => 0.5,
        (Some("and"), Some("a"), Some("quarter")) => 0.25,
        _ => 0.0,
    };
    if part > 0.0 {
        return Some((value + part, count + 3));
    }
    let lone_one = first == "one" && count == 1;
    let lone_two = first == "both";
    (!lone_one || word(1).is_some_and(|next| Unit::named(next).is_some())).then_some(())?;
    (!lone_two).then_some((value, count))
}

/// Returns `true` for what is weighed or measured out.
fn is_weighed(dimension: &Dimension) -> bool {
    matches!(dimension, Dimension::Length | Dimension::Volume | Dimension::Mass)
}
