//! Filters: which chunks a search may return, by the metadata of their documents and by where they are.
//!
//! A filter is built in code, or parsed from a small language:
//!
//! ```
//! use logothete_core::search::Filter;
//!
//! let written = Filter::parse("kind in (notice, byelaw) and date >= 2025-03 and not title contains draft")?;
//! let built = Filter::field("kind").is_one_of(["notice", "byelaw"])
//!     .and(Filter::field("date").at_least("2025-03"))
//!     .and(!Filter::field("title").contains("draft"));
//! assert_eq!(written, built);
//! # Ok::<(), logothete_core::Error>(())
//! ```
//!
//! | written | true when |
//! |---|---|
//! | `field = value`, `!=` | the value is the same, or is not, or there is none |
//! | `field < value`, `<=`, `>`, `>=` | it is less, and so on; dates by as much as is written of them |
//! | `field in 3..5`, `3..`, `..5` | it is between the two, both included |
//! | `field in (a, b, "c d")` | it is one of them |
//! | `field contains "some words"` | it contains the words in this order, ignoring case |
//! | `field fits "notices/*.md"` | all of it fits, `*` standing for anything and `?` for one sign |
//! | `has field` | there is a value |
//! | `and`, `or`, `not`, `( )` | as usual; `not` binds closest, `or` loosest |
//!
//! Besides the fields of the metadata there are `document` (its name), `title`, `type` (the media type), `page` and
//! `section` (the headings above; any of them may be meant).

mod decide;
mod parse;

use std::fmt;
use std::ops::Not;
use std::str::FromStr;

use crate::document::{Date, Value};
use crate::error::{Error, Result};

pub use decide::{ChunkFacts, DocumentFacts};

/// What a chunk must be to be returned.
#[derive(Clone, Debug, PartialEq)]
pub enum Filter {
    /// All of these hold.
    All(Vec<Self>),
    /// One of these holds.
    Any(Vec<Self>),
    /// This does not hold.
    Not(Box<Self>),
    /// A field is as it should be.
    Test {
        /// Its name.
        field: String,
        /// What it should be.
        is: Is,
    },
}

/// What a field should be.
#[derive(Clone, Debug, PartialEq)]
pub enum Is {
    /// There.
    Present,
    /// The same.
    Equal(Value),
    /// Less.
    Less(Value),
    /// More.
    More(Value),
    /// No less than the first and no more than the second, where they are given.
    Between(Option<Value>, Option<Value>),
    /// One of these.
    OneOf(Vec<Value>),
    /// Text that has these words.
    Contains(String),
    /// Text of this pattern.
    Fits(String),
}

/// The fields that every chunk has, besides its document's metadata.
pub const BUILT_IN_FIELDS: [&str; 5] = ["document", "title", "type", "page", "section"];

/// A field that is to be compared with something.
#[derive(Clone, Debug)]
pub struct Field(String);

impl Filter {
    /// Parses a filter as it is written on the command line.
    ///
    /// # Errors
    /// If it is not a filter. The place is the position of the first wrong character, counted from 1.
    pub fn parse(text: &str) -> Result<Self> {
        parse::parse(text)
    }

    /// Begins a filter with a field.
    pub fn field(name: impl Into<String>) -> Field {
        Field(name.into())
    }

    /// Both hold.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        match self {
            Self::All(mut all) => {
                all.push(other);
                Self::All(all)
            }
            first => Self::All(vec![first, other]),
        }
    }

    /// One of the two holds.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        match self {
            Self::Any(mut any) => {
                any.push(other);
                Self::Any(any)
            }
            first => Self::Any(vec![first, other]),
        }
    }

    /// Its tests, each with the name of its field, as they are written.
    pub fn tests(&self) -> Vec<(&str, &Is)> {
        match self {
            Self::All(parts) | Self::Any(parts) => parts.iter().flat_map(Self::tests).collect(),
            Self::Not(part) => part.tests(),
            Self::Test { field, is } => vec![(field, is)],
        }
    }
}

impl FromStr for Filter {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::parse(text)
    }
}

impl Is {
    /// The values that it compares a field's with.
    pub fn values(&self) -> Vec<&Value> {
        match self {
            Self::Present | Self::Contains(_) | Self::Fits(_) => Vec::new(),
            Self::Equal(value) | Self::Less(value) | Self::More(value) => vec![value],
            Self::Between(least, most) => [least, most].into_iter().flatten().collect(),
            Self::OneOf(values) => values.iter().collect(),
        }
    }
}

impl Not for Filter {
    type Output = Self;

    fn not(self) -> Self {
        Self::Not(Box::new(self))
    }
}

impl Field {
    fn is(self, is: Is) -> Filter {
        Filter::Test { field: self.0, is }
    }

    /// It has a value.
    pub fn is_present(self) -> Filter {
        self.is(Is::Present)
    }

    /// It is this.
    pub fn equals(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Equal(value.into()))
    }

    /// It is less than this, or earlier.
    pub fn less_than(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Less(value.into()))
    }

    /// It is more than this, or later.
    pub fn more_than(self, value: impl Into<Value>) -> Filter {
        self.is(Is::More(value.into()))
    }

    /// It is no less than this, and no earlier.
    pub fn at_least(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Between(Some(value.into()), None))
    }

    /// It is no more than this, and no later.
    pub fn at_most(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Between(None, Some(value.into())))
    }

    /// It is between the two, both included.
    pub fn between(self, least: impl Into<Value>, most: impl Into<Value>) -> Filter {
        self.is(Is::Between(Some(least.into()), Some(most.into())))
    }

    /// It is one of these.
    pub fn is_one_of<V: Into<Value>>(self, values: impl IntoIterator<Item = V>) -> Filter {
        self.is(Is::OneOf(values.into_iter().map(Into::into).collect()))
    }

    /// It contains these words in this order.
    pub fn contains(self, words: impl Into<String>) -> Filter {
        self.is(Is::Contains(words.into()))
    }

    /// All of it fits a pattern, `*` standing for anything and `?` for one sign.
    pub fn fits(self, pattern: impl Into<String>) -> Filter {
        self.is(Is::Fits(pattern.into()))
    }
}

impl From<&str> for Value {
    /// As it would be written in a filter: a number, a date or a flag if it is one, else text.
    fn from(written: &str) -> Self {
        parse::value(written)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}

impl From<i32> for Value {
    fn from(number: i32) -> Self {
        Self::Number(number.into())
    }
}

impl From<bool> for Value {
    fn from(flag: bool) -> Self {
        Self::Flag(flag)
    }
}

impl From<Date> for Value {
    fn from(date: Date) -> Self {
        Self::Date(date)
    }
}

/// As it is written.
impl fmt::Display for Filter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let joined = |f: &mut fmt::Formatter<'_>, parts: &[Self], word: &str| {
            for (at, part) in parts.iter().enumerate() {
                if at > 0 {
                    write!(f, " {word} ")?;
                }
                match part {
                    Self::All(_) | Self::Any(_) => write!(f, "({part})")?,
                    _ => write!(f, "{part}")?,
                }
            }
            Ok(())
        };
        match self {
            Self::All(parts) => joined(f, parts, "and"),
            Self::Any(parts) => joined(f, parts, "or"),
            Self::Not(part) => match &**part {
                Self::Test { field, is: Is::Equal(value) } => write!(f, "{} != {}", name(field), written(value)),
                Self::All(_) | Self::Any(_) => write!(f, "not ({part})"),
                _ => write!(f, "not {part}"),
            },
            Self::Test { field, is } => test(f, &name(field), is),
        }
    }
}

fn test(f: &mut fmt::Formatter<'_>, field: &str, is: &Is) -> fmt::Result {
    match is {
        Is::Present => write!(f, "has {field}"),
        Is::Equal(value) => write!(f, "{field} = {}", written(value)),
        Is::Less(value) => write!(f, "{field} < {}", written(value)),
        Is::More(value) => write!(f, "{field} > {}", written(value)),
        Is::Between(Some(least), None) => write!(f, "{field} >= {}", written(least)),
        Is::Between(None, Some(most)) => write!(f, "{field} <= {}", written(most)),
        Is::Between(least, most) => {
            let side = |value: &Option<Value>| value.as_ref().map(written).unwrap_or_default();
            write!(f, "{field} in {}..{}", side(least), side(most))
        }
        Is::OneOf(values) => {
            write!(f, "{field} in ({})", values.iter().map(written).collect::<Vec<_>>().join(", "))
        }
        Is::Contains(words) => write!(f, "{field} contains {}", quoted(words)),
        Is::Fits(pattern) => write!(f, "{field} fits {}", quoted(pattern)),
    }
}

fn name(field: &str) -> String {
    if parse::is_bare(field) { field.to_owned() } else { quoted(field) }
}

fn written(value: &Value) -> String {
    match value {
        // Text that would be read as something else without its quotes.
        Value::Text(text) if !parse::is_bare(text) || parse::value(text) != *value => quoted(text),
        other => other.to_string(),
    }
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
