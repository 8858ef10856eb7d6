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
//! | `field = value`, `!=` | the value is the same, or is not, or there is none; the field's type decides: text is compared as it is written, ignoring case |
//! | `field < value`, `<=`, `>`, `>=` | it is less, and so on; dates by as much as is written of them |
//! | `field in 3..5`, `3..`, `..5` | it is between the two, both included |
//! | `field in (a, b, "c d")` | it is one of them |
//! | `field lists (a, b)` | one of the values that it lists, with commas between them, is one of them |
//! | `field contains "some words"` | it contains the words in this order, ignoring case |
//! | `field fits "notices/*.md"` | all of it fits, `*` standing for anything and `?` for one sign |
//! | `has field` | there is a value |
//! | `and`, `or`, `not`, `( )` | as usual; `not` binds closest, `or` loosest |
//!
//! Every chunk also has the fields `document` (the name), `title`, `type` (the media type), `page` and `section` (any of the
//! headings above).

mod decide;
mod parse;

use std::fmt;
use std::ops::Not;
use std::str::FromStr;

use crate::document::Value;
use crate::error::{Error, Result};

pub use decide::{ChunkFacts, DocumentFacts};

/// The condition that a returned chunk must meet.
#[derive(Clone, Debug, PartialEq)]
pub enum Filter {
    /// All of these filters hold.
    All(Vec<Self>),
    /// At least one of these filters holds.
    Any(Vec<Self>),
    /// This filter does not hold.
    Not(Box<Self>),
    /// A test of a field holds.
    Test {
        /// The name of the field.
        field: String,
        /// The test.
        is: Is,
    },
}

/// A test of a field.
#[derive(Clone, Debug, PartialEq)]
pub enum Is {
    /// The field has a value.
    Present,
    /// The value is equal.
    Equal(Value),
    /// The value is less.
    Less(Value),
    /// The value is greater.
    More(Value),
    /// The value is between the bounds, both included; `None` means no bound.
    Between(Option<Value>, Option<Value>),
    /// The value is one of these.
    OneOf(Vec<Value>),
    /// The value is a list with commas, and has one of these.
    Lists(Vec<Value>),
    /// The text contains these words in this order.
    Contains(String),
    /// The text matches this pattern.
    Fits(String),
}

/// The fields of every chunk, besides its document's metadata.
pub const BUILT_IN_FIELDS: [&str; 5] = ["document", "title", "type", "page", "section"];

/// A field without a test; its methods make filters.
#[derive(Clone, Debug)]
pub struct Field(String);

impl Filter {
    /// Parses the written form of a filter.
    ///
    /// # Errors
    /// If the text is no filter. The place is the position of the first wrong character, counted from 1.
    pub fn parse(text: &str) -> Result<Self> {
        parse::parse(text)
    }

    /// Returns `true` if it tests a field.
    pub fn names(&self, name: &str) -> bool {
        match self {
            Self::All(filters) | Self::Any(filters) => filters.iter().any(|filter| filter.names(name)),
            Self::Not(filter) => filter.names(name),
            Self::Test { field, .. } => field == name,
        }
    }

    /// Starts a filter with a field.
    pub fn field(name: impl Into<String>) -> Field {
        Field(name.into())
    }

    /// Requires both filters.
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

    /// Requires at least one of the two filters.
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

    /// Returns the tests with the names of their fields, as written.
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
    /// Returns a range whose beginning comes after its end.
    pub fn reversed(&self) -> Option<(&Value, &Value)> {
        match self {
            Self::Between(Some(least), Some(most))
                if decide::order(least, most) == Some(std::cmp::Ordering::Greater) =>
            {
                Some((least, most))
            }
            _ => None,
        }
    }

    /// Returns the values that it compares a field with.
    pub fn values(&self) -> Vec<&Value> {
        match self {
            Self::Present | Self::Contains(_) | Self::Fits(_) => Vec::new(),
            Self::Equal(value) | Self::Less(value) | Self::More(value) => vec![value],
            Self::Between(least, most) => [least, most].into_iter().flatten().collect(),
            Self::OneOf(values) | Self::Lists(values) => values.iter().collect(),
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

    /// Requires a value.
    pub fn is_present(self) -> Filter {
        self.is(Is::Present)
    }

    /// Requires this value.
    pub fn equals(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Equal(value.into()))
    }

    /// Requires a value that is less, or earlier.
    pub fn less_than(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Less(value.into()))
    }

    /// Requires a value that is greater, or later.
    pub fn more_than(self, value: impl Into<Value>) -> Filter {
        self.is(Is::More(value.into()))
    }

    /// Requires a value that is at least this.
    pub fn at_least(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Between(Some(value.into()), None))
    }

    /// Requires a value that is at most this.
    pub fn at_most(self, value: impl Into<Value>) -> Filter {
        self.is(Is::Between(None, Some(value.into())))
    }

    /// Requires a value between the two, both included.
    pub fn between(self, least: impl Into<Value>, most: impl Into<Value>) -> Filter {
        self.is(Is::Between(Some(least.into()), Some(most.into())))
    }

    /// Requires one of these values.
    pub fn is_one_of<V: Into<Value>>(self, values: impl IntoIterator<Item = V>) -> Filter {
        self.is(Is::OneOf(values.into_iter().map(Into::into).collect()))
    }

    /// Requires a list with commas that has one of these values.
    pub fn lists<V: Into<Value>>(self, values: impl IntoIterator<Item = V>) -> Filter {
        self.is(Is::Lists(values.into_iter().map(Into::into).collect()))
    }

    /// Requires these words in this order.
    pub fn contains(self, words: impl Into<String>) -> Filter {
        self.is(Is::Contains(words.into()))
    }

    /// Requires that the whole value matches a pattern; `*` stands for any text and `?` for one character.
    pub fn fits(self, pattern: impl Into<String>) -> Filter {
        self.is(Is::Fits(pattern.into()))
    }
}

/// Prints the written form.
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
        Is::OneOf(values) => write!(f, "{field} in ({})", all_written(values)),
        Is::Lists(values) => write!(f, "{field} lists ({})", all_written(values)),
        Is::Contains(words) => write!(f, "{field} contains {}", quoted(words)),
        Is::Fits(pattern) => write!(f, "{field} fits {}", quoted(pattern)),
    }
}

fn name(field: &str) -> String {
    if parse::is_bare(field) { field.to_owned() } else { quoted(field) }
}

fn written(value: &Value) -> String {
    match value {
        // Text needs quotes if it would be read as something else without them.
        Value::Text(text) if !parse::is_bare(text) || parse::value(text) != *value => quoted(text),
        other => other.to_string(),
    }
}

fn all_written(values: &[Value]) -> String {
    values.iter().map(written).collect::<Vec<_>>().join(", ")
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
