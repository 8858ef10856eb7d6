//! What a question wants computed.

use crate::quantity::{Notation, Unit, numbers};
use crate::text::{Language, fold, is_listed, is_stopword, words};

use super::vocabulary::{
    ABOUT, AT_LEAST, AT_MOST, BETWEEN, CONCEPTS, Concept, DIFFERENCE, HOW_MANY, LEAST, MEAN, MINUS, MOST, NONE,
    NUMBERS, ORDER, OVER, PLUS, SUM, SUM_PHRASES, THAN, UNDER, WHICH,
};

/// What is computed over the rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Operation {
    /// The rows with the greatest values, so many.
    Greatest(usize),
    /// The rows with the least values, so many.
    Least(usize),
    /// The number of rows.
    Count,
    /// The sum of values.
    Sum,
    /// Their mean.
    Mean,
    /// By how much two rows differ.
    Difference,
    /// Which of two rows has more.
    Comparison,
    /// All rows in order, the greatest first or last.
    Order {
        /// Whether the greatest comes first.
        descending: bool,
    },
    /// The rows that meet a condition.
    Which,
}

/// A condition on a value. Numbers are in the unit of their dimension if one is named.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum Bound {
    /// From one to another, both included.
    Between(f64, f64),
    /// Within a tenth of a number.
    About(f64),
    /// More than a number.
    Over(f64),
    /// Less than a number.
    Under(f64),
    /// A number or more.
    AtLeast(f64),
    /// A number or less.
    AtMost(f64),
    /// A number.
    Exactly(f64),
}

/// What a question wants computed over the rows of a table.
#[derive(Clone, Debug)]
pub struct Request {
    /// What is computed.
    pub operation: Operation,
    /// The condition on a value, and the unit of its number.
    pub bound: Option<(Bound, Option<Unit>)>,
    /// The words in lower case.
    pub(super) folded: Vec<String>,
    /// The significant words as terms, each with its place among the words.
    pub(super) terms: Vec<(usize, String)>,
    pub(super) concept: Option<&'static Concept>,
    /// The places of the words that say what is computed, and are no names of columns.
    pub(super) spoken_for: Vec<usize>,
    /// The terms of what rows must not have.
    pub(super) without: Vec<String>,
}

impl Request {
    /// Reads what a question wants computed; `None` if it asks for nothing of the kind. Most questions do not, and cost a look at each word.
    pub fn of(question: &str) -> Option<Self> {
        const MAX_WORDS: usize = 60;
        let all: Vec<_> = words(question).take(MAX_WORDS + 1).collect();
        if all.is_empty() || all.len() > MAX_WORDS {
            return None;
        }
        let folded: Vec<String> = all.iter().map(|word| fold(word.text)).collect();
        let significant = all.iter().enumerate().filter(|(at, _)| !is_stopword(&folded[*at]));
        let terms = significant.map(|(at, word)| (at, word.term.clone())).collect();
        let spaced = format!(" {} ", folded.join(" "));
        let mut request = Self {
            operation: Operation::Which,
            bound: bound(question, &spaced),
            terms,
            concept: None,
            spoken_for: Vec::new(),
            without: without(&folded),
            folded,
        };
        let degree = request.degree();
        let phrase = |phrases: &[&str]| phrases.iter().any(|phrase| spaced.contains(&format!(" {phrase} ")));
        let word = |list: &str| request.folded.iter().position(|word| is_listed(list, word));
        let asks_which = request.folded.iter().take(3).any(|word| is_listed(WHICH, word));
        let counts = phrase(HOW_MANY);
        let than = request.folded.iter().any(|word| is_listed(THAN, word)) && request.folded.len() > 3;
        let operation = if phrase(ORDER) {
            let ascending = degree.is_some_and(|degree| !degree.more);
            Operation::Order { descending: !ascending }
        } else if let Some(at) = word(MEAN) {
            request.spoken_for.push(at);
            Operation::Mean
        } else if word(DIFFERENCE).is_some()
            || (than && (phrase(&["how much", "um wie viel", "wie viel", "de combien", "cuánto", "quanto"])))
        {
            Operation::Difference
        } else if word(SUM).is_some() || phrase(SUM_PHRASES) {
            request.spoken_for.extend(word(SUM));
            Operation::Sum
        } else if counts {
            Operation::Count
        } else if let Some(degree) = degree.filter(|degree| degree.superlative) {
            let count = request.top(degree.at);
            if degree.more { Operation::Greatest(count) } else { Operation::Least(count) }
        } else if than && degree.is_some() && request.bound.is_none() {
            Operation::Comparison
        } else if asks_which && (request.bound.is_some() || !request.without.is_empty()) {
            Operation::Which
        } else {
            return None;
        };
        request.operation = operation;
        if let Some(degree) = degree {
            request.concept = degree.concept;
            request.spoken_for.push(degree.at);
        }
        Some(request)
    }

    /// Returns the superlative or comparative of the question: the last, since a name such as `greatest draught` comes before what is asked of it.
    fn degree(&self) -> Option<Degree> {
        let mut found: Option<Degree> = None;
        for (at, word) in self.folded.iter().enumerate() {
            let before = at.checked_sub(1).map_or("", |before| self.folded[before].as_str());
            let (plus, minus) = (is_listed(PLUS, before), is_listed(MINUS, before));
            let superlative = |word: &str| {
                word.len() > 4 && ["est", "ste", "sten", "ster", "stes", "stem"].iter().any(|end| word.ends_with(end))
            };
            let concept = CONCEPTS.iter().find_map(|concept| {
                let more = is_listed(concept.more, word);
                (more || is_listed(concept.less, word)).then_some((concept, more))
            });
            let degree = match concept {
                Some((concept, more)) => Degree {
                    at,
                    more: more != minus,
                    superlative: superlative(word) || ((plus || minus) && !self.than_follows(at)) || word == "latest",
                    concept: Some(concept),
                },
                None if is_listed(MOST, word) => Degree { at, more: true, superlative: true, concept: None },
                None if is_listed(LEAST, word) => Degree { at, more: false, superlative: true, concept: None },
                None => continue,
            };
            // `How long` and `how deep` ask for a value and compare nothing; a plain adjective counts only before `than`.
            if degree.superlative || self.than_follows(at) {
                found = Some(match found {
                    // Behind `most` or `least`, the adjective says what is compared.
                    Some(earlier) if earlier.at + 1 == at => {
                        Degree { more: degree.more && earlier.more, superlative: true, ..degree }
                    }
                    _ => degree,
                });
            }
        }
        found
    }

    fn than_follows(&self, at: usize) -> bool {
        self.folded[at + 1..].iter().take(4).any(|word| is_listed(THAN, word))
            || self.folded.iter().any(|word| ["or", "oder", "ou", "o"].contains(&word.as_str()))
                && ["er"].iter().any(|end| self.folded[at].ends_with(end))
    }

    /// Returns how many rows are wanted: `the three longest`, `which three berths are the longest`, `top 5`.
    fn top(&self, superlative: usize) -> usize {
        // The Italian word for two is another word in English.
        let italian = Language::of_question(&self.folded.join(" ")) == Some(Language::Italian);
        let in_words = |word: &String| {
            NUMBERS.iter().position(|names| is_listed(names, word) && (italian || word != "due")).map(|at| at + 1)
        };
        let in_figures = |word: &String| word.parse().ok();
        let among = |range: std::ops::Range<usize>, read: &dyn Fn(&String) -> Option<usize>| {
            let words = self.folded.iter().take(range.end).skip(range.start);
            words.filter_map(read).find(|count| (2..=50).contains(count))
        };
        let near = superlative.saturating_sub(2)..superlative + 3;
        let wide = superlative.saturating_sub(6)..superlative + 3;
        among(near, &in_figures).or_else(|| among(wide, &in_words)).unwrap_or(1)
    }
}

/// An adjective that compares.
#[derive(Clone, Copy, Debug)]
struct Degree {
    at: usize,
    more: bool,
    superlative: bool,
    concept: Option<&'static Concept>,
}

/// Reads the condition on a value, and the unit of its number.
fn bound(question: &str, spaced: &str) -> Option<(Bound, Option<Unit>)> {
    let found = numbers(question, Notation::Point);
    // A number right behind a word with a capital is part of a name: `Berth 7`.
    let free = found.iter().filter(|number| {
        number.unit.is_some() || {
            let before = question[..number.span.start].split_whitespace().next_back().unwrap_or_default();
            !before.starts_with(char::is_uppercase)
        }
    });
    let free: Vec<_> = free.collect();
    let unit = free.iter().rev().find_map(|number| number.unit.clone());
    let base = |number: &crate::quantity::Number| {
        number.value * number.unit.as_ref().or(unit.as_ref()).map_or(1.0, |unit| unit.factor)
    };
    let says = |phrases: &[&str]| phrases.iter().any(|phrase| spaced.contains(&format!(" {phrase} ")));
    let bound = match free[..] {
        [low, high] if says(BETWEEN) => Bound::Between(base(low).min(base(high)), base(low).max(base(high))),
        [number] => {
            let value = base(number);
            if says(AT_LEAST) {
                Bound::AtLeast(value)
            } else if says(AT_MOST) {
                Bound::AtMost(value)
            } else if says(ABOUT) {
                Bound::About(value)
            } else if says(OVER) {
                Bound::Over(value)
            } else if says(UNDER) {
                Bound::Under(value)
            } else {
                Bound::Exactly(value)
            }
        }
        _ => return None,
    };
    Some((bound, unit))
}

/// Returns the terms behind a word that says that there is none of something.
fn without(folded: &[String]) -> Vec<String> {
    let Some(at) = folded.iter().position(|word| is_listed(NONE, word)) else { return Vec::new() };
    folded[at + 1..].iter().take(3).filter(|word| !is_stopword(word)).map(|word| crate::text::stem(word)).collect()
}

impl Bound {
    /// Returns `true` if a value meets it.
    pub(super) fn holds(self, value: f64) -> bool {
        // A tenth of a cell's last digit is lost when units are converted.
        let near = |a: f64, b: f64| (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0);
        match self {
            Self::Between(low, high) => (low..=high).contains(&value) || near(value, low) || near(value, high),
            Self::About(wanted) => (value - wanted).abs() <= 0.1 * wanted.abs() + 1e-9,
            Self::Over(limit) => value > limit && !near(value, limit),
            Self::Under(limit) => value < limit && !near(value, limit),
            Self::AtLeast(limit) => value >= limit || near(value, limit),
            Self::AtMost(limit) => value <= limit || near(value, limit),
            Self::Exactly(wanted) => near(value, wanted),
        }
    }
}
