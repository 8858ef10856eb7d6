//! What sends a question down a route.

use std::fmt;

use logothete_core::query::{has_words, is_question};
use logothete_core::search::Filter;
use logothete_core::text::Language;
use serde::Serialize;

/// A rule of a route. One that holds is enough.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Rule {
    /// The question has these words, one after the other; compared by their stems.
    Words(String),
    /// The filter of the request names this field.
    Field(String),
    /// The question is in this language, as its function words tell.
    Language(Language),
    /// It is a question; or, with `false`, words to look up.
    Question(bool),
}

/// Why a route was chosen.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Reason {
    /// The question has these words.
    Words(String),
    /// The filter names this field.
    Field(String),
    /// The question is in this language, by its code.
    Language(String),
    /// It is a question, or it is none.
    Question(bool),
    /// The question is like the description of the route: their cosine.
    Similarity(f32),
    /// The generator of this name chose it by its description.
    Generator(String),
    /// No other route fitted, or those that did found nothing.
    Fallback,
}

impl Rule {
    /// Returns the reason if the rule holds for the words of a request and its filter.
    pub(super) fn holds(&self, text: &str, filter: Option<&Filter>) -> Option<Reason> {
        match self {
            Self::Words(wanted) => has_words(text, wanted).then(|| Reason::Words(wanted.clone())),
            Self::Field(field) => filter.filter(|filter| filter.names(field)).map(|_| Reason::Field(field.clone())),
            Self::Language(language) => {
                (Language::of_question(text) == Some(*language)).then(|| Reason::Language(language.code().to_owned()))
            }
            Self::Question(wanted) => (is_question(text) == *wanted).then_some(Reason::Question(*wanted)),
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Words(words) => write!(f, "the question has “{words}”"),
            Self::Field(field) => write!(f, "the filter names {field}"),
            Self::Language(code) => write!(f, "the question is in {code}"),
            Self::Question(true) => f.write_str("it is a question"),
            Self::Question(false) => f.write_str("it is no question"),
            Self::Similarity(cosine) => write!(f, "the question is like its description ({cosine:.2})"),
            Self::Generator(name) => write!(f, "{name} chose it by its description"),
            Self::Fallback => f.write_str("no other route has it"),
        }
    }
}
