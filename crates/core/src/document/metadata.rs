//! What is known about a document, with its types kept.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

/// Metadata by name.
pub type Metadata = BTreeMap<String, Value>;

/// A value of metadata. JSON and front matter keep their types; a date is text of the form `2025-05-27`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Value {
    /// Yes or no.
    Flag(bool),
    /// A number.
    Number(f64),
    /// Text, dates included.
    Text(String),
}

impl Value {
    /// A value from its written form: `true` and `false` are flags, plain decimals numbers, all else text.
    pub fn from_written(written: &str) -> Self {
        let bare = written.trim();
        if let [quote @ ('"' | '\''), .., last] = bare.chars().collect::<Vec<_>>()[..]
            && quote == last
        {
            return Self::Text(bare[1..bare.len() - 1].to_owned());
        }
        match bare {
            "true" => Self::Flag(true),
            "false" => Self::Flag(false),
            _ => match bare.parse::<f64>() {
                Ok(number) if number.is_finite() && bare.starts_with(|c: char| c.is_ascii_digit() || c == '-') => {
                    Self::Number(number)
                }
                _ => Self::Text(bare.to_owned()),
            },
        }
    }

    /// The text, if it is text.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Flag(flag) => write!(f, "{flag}"),
            Self::Number(number) => write!(f, "{number}"),
            Self::Text(text) => f.write_str(text),
        }
    }
}
