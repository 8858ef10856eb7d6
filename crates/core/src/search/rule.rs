//! Rules about a question, by which a part of a pipeline is used or not.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::Filter;
use crate::query::{has_words, is_question};
use crate::text::Language;

/// A rule about a question: what a route is taken for, or a leg runs for. Written as a table, such as `{ words = "berth" }`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Rule {
    /// The question has these words, one after the other; compared by their stems.
    Words(String),
    /// The filter of the request names this field.
    Field(String),
    /// The question is in this language, as its function words tell. Written as its code, such as `de`.
    Language(Language),
    /// It is a question; or, with `false`, words to look up.
    Question(bool),
}

impl Rule {
    /// Returns `true` if the rule holds for the words of a request and its filter.
    pub fn holds(&self, text: &str, filter: Option<&Filter>) -> bool {
        match self {
            Self::Words(wanted) => has_words(text, wanted),
            Self::Field(field) => filter.is_some_and(|filter| filter.names(field)),
            Self::Language(language) => Language::of_question(text) == Some(*language),
            Self::Question(wanted) => is_question(text) == *wanted,
        }
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Words(words) => write!(f, "the question has “{words}”"),
            Self::Field(field) => write!(f, "the filter names {field}"),
            Self::Language(language) => write!(f, "the question is in {}", language.code()),
            Self::Question(true) => f.write_str("it is a question"),
            Self::Question(false) => f.write_str("it is no question"),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Rule::Words("berths".to_owned()), true)]
    #[case(Rule::Words("swing bridge".to_owned()), false)]
    #[case(Rule::Field("kind".to_owned()), true)]
    #[case(Rule::Field("date".to_owned()), false)]
    #[case(Rule::Language(Language::English), true)]
    #[case(Rule::Language(Language::German), false)]
    #[case(Rule::Question(true), true)]
    #[case(Rule::Question(false), false)]
    fn a_rule_holds_or_not(#[case] rule: Rule, #[case] holds: bool) {
        let filter = Filter::parse("kind = notice").expect("a filter");
        assert_eq!(rule.holds("Which of the berths is the deepest?", Some(&filter)), holds);
    }

    #[rstest]
    #[case(r#"{"words":"berth"}"#, "the question has “berth”")]
    #[case(r#"{"field":"kind"}"#, "the filter names kind")]
    #[case(r#"{"language":"de"}"#, "the question is in de")]
    #[case(r#"{"question":false}"#, "it is no question")]
    fn a_rule_is_written_as_a_table(#[case] written: &str, #[case] said: &str) {
        let rule: Rule = serde_json::from_str(written).expect("a rule");
        assert_eq!((rule.to_string().as_str(), serde_json::to_string(&rule).expect("JSON").as_str()), (said, written));
    }

    #[test]
    fn an_unknown_language_is_named() {
        let error = serde_json::from_str::<Rule>(r#"{"language":"tlh"}"#).expect_err("an unknown language");
        assert!(error.to_string().contains("“tlh” is not the code of a language"), "{error}");
    }
}
