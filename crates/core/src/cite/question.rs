//! What a question asks for.

use std::collections::HashMap;

use crate::document::Span;
use crate::text::{fold, is_function_word, words};

/// What kind of thing an answer must contain, as far as the question's own words tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Expectation {
    /// A quantity: how many, how far, how much.
    Quantity,
    /// A time or date: when, at what time, how long.
    Time,
    /// Nothing in particular.
    Anything,
}

/// A question taken apart for matching.
#[derive(Clone, Debug)]
pub struct Question {
    /// Its telling terms, each once, in order, with how much each tells.
    pub terms: Vec<(String, f32)>,
    /// What an answer must contain.
    pub expects: Expectation,
}

impl Question {
    /// Takes a question apart. `weight` says how much a term tells; see [`Statistics::weight`](crate::keyword::Statistics::weight).
    pub fn new(question: &str, weight: impl Fn(&str) -> f32) -> Self {
        let folded: Vec<String> = words(question).map(|word| fold(word.text)).collect();
        let asks = |first: &str, second: &[&str]| {
            folded.windows(2).any(|pair| pair[0] == first && second.contains(&pair[1].as_str()))
        };
        let expects = if folded.iter().any(|word| word == "when") || asks("what", &["time", "date", "day", "year"]) || asks("which", &["day", "year"])
            || asks("how", &["long", "soon", "often", "early", "late"])
        {
            Expectation::Time
        } else if asks("how", &["many", "much", "far", "high", "deep", "wide", "fast", "heavy", "large", "big", "tall"]) {
            Expectation::Quantity
        } else {
            Expectation::Anything
        };
        let terms = crate::keyword::query_terms(question).into_iter().map(|term| (weight(&term), term)).map(|(w, t)| (t, w)).collect();
        Self { terms, expects }
    }

    /// How much its terms tell together.
    pub fn total_weight(&self) -> f32 {
        self.terms.iter().map(|(_, weight)| weight).sum()
    }

    /// Where its terms stand in a text, in bytes of it.
    pub fn matches(&self, text: &str) -> Vec<Span> {
        let known: HashMap<&str, f32> = self.terms.iter().map(|(term, weight)| (term.as_str(), *weight)).collect();
        words(text)
            .filter(|word| known.contains_key(word.term.as_str()) && !is_function_word(&fold(word.text)))
            .map(|word| word.span)
            .collect()
    }
}

impl Expectation {
    /// Whether a text has what is expected: a numeral, or a number word.
    pub fn is_met(self, text: &str) -> bool {
        const NUMBERS: &[&str] = &[
            "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve", "fourteen", "fifteen",
            "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety", "hundred", "thousand", "half",
            "twice", "once", "daily", "sunrise", "sunset", "noon", "midnight",
        ];
        match self {
            Self::Anything => true,
            Self::Quantity | Self::Time => {
                text.contains(|c: char| c.is_numeric()) || words(text).any(|word| NUMBERS.contains(&fold(word.text).as_str()))
            }
        }
    }
}
