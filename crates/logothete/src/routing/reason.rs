//! Why a question goes down a route.

use std::fmt;

use logothete_core::search::{Filter, Rule};
use serde::Serialize;

/// Why a route was chosen.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Reason {
    /// The question is like the description of the route: their cosine.
    Similarity(f32),
    /// The generator of this name chose it by its description.
    Generator(String),
    /// No other route fitted, or those that did found nothing.
    Fallback,
    /// A rule of the route holds.
    #[serde(untagged)]
    Rule(Rule),
}

impl Reason {
    /// Returns the reason if a rule holds for the words of a request and its filter.
    pub(super) fn of(rule: &Rule, text: &str, filter: Option<&Filter>) -> Option<Self> {
        rule.holds(text, filter).then(|| Self::Rule(rule.clone()))
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rule(rule) => rule.fmt(f),
            Self::Similarity(cosine) => write!(f, "the question is like its description ({cosine:.2})"),
            Self::Generator(name) => write!(f, "{name} chose it by its description"),
            Self::Fallback => f.write_str("no other route has it"),
        }
    }
}
