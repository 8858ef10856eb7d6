//! Decides whether a filter holds for a chunk, or for all chunks of a document.

use std::cmp::Ordering;

use super::{Filter, Is};
use crate::document::{Metadata, Pages, Value, compare_decimals};
use crate::text::{fold, words};

/// The facts of a document that filters use.
#[derive(Clone, Copy, Debug)]
pub struct DocumentFacts<'a> {
    /// The name.
    pub document: &'a str,
    /// The title.
    pub title: Option<&'a str>,
    /// The media type.
    pub media_type: &'a str,
    /// The metadata.
    pub metadata: &'a Metadata,
}

/// The facts of a chunk that filters use.
#[derive(Clone, Copy, Debug)]
pub struct ChunkFacts<'a> {
    /// The document.
    pub document: DocumentFacts<'a>,
    /// The pages that it touches.
    pub pages: Option<Pages>,
    /// The headings above it.
    pub section: &'a [String],
}

/// The values of a field.
enum Values<'a> {
    Of(Vec<std::borrow::Cow<'a, Value>>),
    Pages(Pages),
    /// They depend on the chunk.
    ByChunk,
}

impl Filter {
    /// Returns `true` if the filter holds for a chunk.
    pub fn holds(&self, chunk: &ChunkFacts<'_>) -> bool {
        self.decide(&|field| values(field, &chunk.document, Some(chunk))).unwrap_or(false)
    }

    /// Returns whether the filter holds for every chunk of a document or for none; `None` if that depends on the chunk.
    pub fn holds_for_all(&self, document: &DocumentFacts<'_>) -> Option<bool> {
        self.decide(&|field| values(field, document, None))
    }

    fn decide<'a>(&self, values: &dyn Fn(&str) -> Values<'a>) -> Option<bool> {
        match self {
            Self::All(parts) => {
                let mut known = Some(true);
                for part in parts {
                    match part.decide(values) {
                        Some(false) => return Some(false),
                        Some(true) => {}
                        None => known = None,
                    }
                }
                known
            }
            Self::Any(parts) => {
                let mut known = Some(false);
                for part in parts {
                    match part.decide(values) {
                        Some(true) => return Some(true),
                        Some(false) => {}
                        None => known = None,
                    }
                }
                known
            }
            Self::Not(part) => part.decide(values).map(|holds| !holds),
            Self::Test { field, is } => match values(field) {
                Values::Of(values) => Some(values.iter().any(|value| is.holds(value))),
                Values::Pages(pages) => Some(is.holds_for_pages(pages)),
                Values::ByChunk => None,
            },
        }
    }
}

fn values<'a>(field: &str, document: &DocumentFacts<'a>, chunk: Option<&ChunkFacts<'a>>) -> Values<'a> {
    use std::borrow::Cow;
    let text = |text: &str| Cow::Owned(Value::Text(text.to_owned()));
    match field {
        "document" => Values::Of(vec![text(document.document)]),
        "title" => Values::Of(document.title.map(text).into_iter().collect()),
        "type" => Values::Of(vec![text(document.media_type)]),
        "page" => match chunk {
            Some(chunk) => chunk.pages.map_or(Values::Of(Vec::new()), Values::Pages),
            None => Values::ByChunk,
        },
        "section" => match chunk {
            Some(chunk) => Values::Of(chunk.section.iter().map(|heading| text(heading)).collect()),
            None => Values::ByChunk,
        },
        _ => Values::Of(document.metadata.get(field).map(Cow::Borrowed).into_iter().collect()),
    }
}

impl Is {
    fn holds(&self, value: &Value) -> bool {
        use Ordering::{Equal, Greater, Less};
        let order = |other: &Value| order(value, other);
        match self {
            Self::Present => true,
            Self::Equal(other) => equal(value, other),
            Self::Less(other) => order(other) == Some(Less),
            Self::More(other) => order(other) == Some(Greater),
            Self::Between(least, most) => {
                least.as_ref().is_none_or(|least| matches!(order(least), Some(Equal | Greater)))
                    && most.as_ref().is_none_or(|most| matches!(order(most), Some(Equal | Less)))
            }
            Self::OneOf(values) => values.iter().any(|other| equal(value, other)),
            Self::Lists(values) => {
                let whole = value.to_string();
                let listed = || whole.split(',').map(|item| item.trim().to_lowercase());
                values.iter().any(|other| listed().any(|item| item == other.to_string().to_lowercase()))
            }
            Self::Contains(wanted) => {
                let folded = |text: &str| words(text).map(|word| fold(word.text)).collect::<Vec<_>>();
                let (all, wanted) = (folded(&value.to_string()), folded(wanted));
                wanted.is_empty() || all.windows(wanted.len()).any(|some| some == wanted)
            }
            Self::Fits(pattern) => {
                let lower = |text: &str| text.to_lowercase().chars().collect::<Vec<_>>();
                fits(&lower(&value.to_string()), &lower(pattern))
            }
        }
    }

    /// Returns `true` if the test holds for one of some pages.
    fn holds_for_pages(&self, pages: Pages) -> bool {
        let (first, last) = (f64::from(pages.first), f64::from(pages.last));
        let number = |value: &Value| match value {
            Value::Number(number) => Some(*number),
            Value::Text(text) => text.parse().ok(),
            _ => None,
        };
        let between = |least: f64, most: f64| least.max(first).ceil() <= most.min(last).floor();
        match self {
            Self::Present => true,
            Self::Equal(value) => number(value).is_some_and(|page| between(page, page)),
            Self::Less(value) => number(value).is_some_and(|page| first < page),
            Self::More(value) => number(value).is_some_and(|page| last > page),
            Self::Between(least, most) => {
                let side = |value: &Option<Value>, open: f64| value.as_ref().map_or(Some(open), number);
                side(least, f64::NEG_INFINITY)
                    .zip(side(most, f64::INFINITY))
                    .is_some_and(|(least, most)| between(least, most))
            }
            Self::OneOf(values) => values.iter().filter_map(number).any(|page| between(page, page)),
            Self::Lists(_) | Self::Contains(_) | Self::Fits(_) => false,
        }
    }
}

/// Returns `true` if a value is the one that was written. The value's type decides: numbers are compared as numbers, or by their
/// digits with text; dates by the written part; text as it is written, ignoring case.
fn equal(value: &Value, written: &Value) -> bool {
    match value {
        Value::Text(text) => text.to_lowercase() == written.to_string().to_lowercase(),
        Value::Flag(_) => value.to_string() == written.to_string(),
        Value::Number(number) => match written {
            Value::Number(written) => number == written,
            written => value.to_string() == written.to_string(),
        },
        Value::Date(_) => order(value, written) == Some(Ordering::Equal),
    }
}

/// Compares a value with a written one; `None` if the two cannot be compared. Two decimals are compared as numbers, even in text.
pub(super) fn order(value: &Value, written: &Value) -> Option<Ordering> {
    match (value, written) {
        (Value::Number(a), Value::Number(b)) => a.partial_cmp(b),
        (Value::Number(_), Value::Text(text)) => compare_decimals(&value.to_string(), text),
        (Value::Flag(a), Value::Flag(b)) => Some(a.cmp(b)),
        (Value::Flag(_), Value::Text(text)) => (value.to_string() == *text).then_some(Ordering::Equal),
        (Value::Date(date), written) => {
            let written = written.to_string();
            let part = date.as_str().get(..written.len()).unwrap_or(date.as_str());
            written.starts_with(|c: char| c.is_ascii_digit()).then(|| part.cmp(written.as_str()))
        }
        (Value::Text(text), written) => {
            let written = written.to_string();
            let as_text = || text.to_lowercase().cmp(&written.to_lowercase());
            Some(compare_decimals(text, &written).unwrap_or_else(as_text))
        }
        _ => None,
    }
}

/// Returns `true` if text matches a pattern. A mismatch goes back to the last `*`, so the cost is at most the product of both
/// lengths.
fn fits(text: &[char], pattern: &[char]) -> bool {
    let (mut at, mut place) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while at < text.len() {
        match pattern.get(place) {
            Some('*') => {
                star = Some((place, at));
                place += 1;
            }
            Some(&sign) if sign == '?' || sign == text[at] => {
                at += 1;
                place += 1;
            }
            _ => {
                let Some((begin, from)) = star else { return false };
                star = Some((begin, from + 1));
                (place, at) = (begin + 1, from + 1);
            }
        }
    }
    pattern[place..].iter().all(|&sign| sign == '*')
}
