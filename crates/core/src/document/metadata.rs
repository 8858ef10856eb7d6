//! Metadata of documents, as typed values.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::fmt;

use serde::de::{Deserializer, Visitor};
use serde::{Deserialize, Serialize};

use crate::{Error, ErrorKind, Result};

/// Metadata by name.
pub type Metadata = BTreeMap<String, Value>;

/// A date, with or without a time of day, as ISO 8601 writes it: `2025-05-27`, `2025-05-27T06:40:00Z`.
///
/// Dates order by their written form.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Date(String);

impl Date {
    /// Parses a date; `None` if it is not one.
    pub fn from_written(written: &str) -> Option<Self> {
        let (day, time) = match written.split_once(['T', ' ']) {
            Some((day, time)) => (day, Some(time)),
            None => (written, None),
        };
        let number = |part: &str, digits: usize| {
            (part.len() == digits && part.bytes().all(|b| b.is_ascii_digit())).then(|| part.parse::<u32>().ok())?
        };
        let mut parts = day.split('-');
        let (_, month, date) = (number(parts.next()?, 4)?, number(parts.next()?, 2)?, number(parts.next()?, 2)?);
        let sound = parts.next().is_none() && (1..=12).contains(&month) && (1..=31).contains(&date);
        let clock = |time: &str| {
            time.len() >= 5
                && time.is_char_boundary(5)
                && time[..5].split_once(':').is_some_and(|(hour, minute)| {
                    number(hour, 2).is_some_and(|hour| hour < 24) && number(minute, 2).is_some_and(|minute| minute < 60)
                })
                && time[5..].chars().all(|c| c.is_ascii_digit() || ":.+-Z".contains(c))
        };
        let text = || time.map_or_else(|| day.to_owned(), |time| format!("{day}T{time}"));
        (sound && time.is_none_or(clock)).then(|| Self(text()))
    }

    /// Returns a moment in Coordinated Universal Time, from its seconds since 1970.
    pub fn from_unix(seconds: i64) -> Self {
        let (days, rest) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
        let (year, month, day) = Self::civil(days.clamp(-700_000, 2_900_000));
        let (hour, minute, second) = (rest / 3600, rest / 60 % 60, rest % 60);
        Self(format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}Z"))
    }

    /// Returns year, month and day of a count of days from 1 January 1970, in the Gregorian calendar (the algorithm is H.
    /// Hinnant's, 2013).
    pub fn civil(days: i64) -> (i64, u32, u32) {
        let shifted = days + 719_468;
        let era = shifted.div_euclid(146_097);
        let of_era = shifted.rem_euclid(146_097);
        let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
        let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
        let month = (5 * of_year + 2) / 153;
        let day = of_year - (153 * month + 2) / 5 + 1;
        let month = if month < 10 { month + 3 } else { month - 9 };
        (year_of_era + era * 400 + i64::from(month <= 2), month as u32, day as u32)
    }

    /// Returns `true` for a date, or the beginning of one up to its year, month, day, hour or minute.
    pub fn is_beginning(written: &str) -> bool {
        let full = ["", "-01", "-01-01", ":00"].map(|rest| format!("{written}{rest}"));
        full.iter().any(|full| Self::from_written(full).is_some())
    }

    /// Returns the written form.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Date {
    type Error = &'static str;

    fn try_from(written: String) -> std::result::Result<Self, Self::Error> {
        Self::from_written(&written).ok_or("not a date")
    }
}

impl From<Date> for String {
    fn from(date: Date) -> Self {
        date.0
    }
}

/// A value of metadata. Types of JSON and front matter are kept; text in the form of a date becomes a date.
///
/// A number is one only if 64 bits hold it exactly: `01234`, `1.10` and 9007199254740993 are text, so that no two of them are the
/// same value.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(untagged)]
pub enum Value {
    /// Yes or no.
    Flag(bool),
    /// A number.
    Number(f64),
    /// A date.
    Date(Date),
    /// Text.
    Text(String),
}

impl Value {
    /// Parses a value: `true` and `false` are flags, decimals that come back as they were written are numbers, all else is text.
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
            _ => exact_number(bare).map_or_else(|| Self::date_or_text(bare), Self::Number),
        }
    }

    /// Returns a date if the text is one, else text.
    pub fn date_or_text(text: &str) -> Self {
        Date::from_written(text.trim()).map_or_else(|| Self::Text(text.trim().to_owned()), Self::Date)
    }

    /// Returns the text of a text or a date.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Date(date) => Some(date.as_str()),
            _ => None,
        }
    }
}

/// Returns the number of a decimal, if the number is written like that again.
fn exact_number(text: &str) -> Option<f64> {
    let number: f64 = text.parse().ok()?;
    let is_decimal = text.strip_prefix('-').unwrap_or(text).starts_with(|c: char| c.is_ascii_digit());
    (is_decimal && number.is_finite() && number.to_string() == text).then_some(number)
}

/// Compares two decimals, such as `1.10` and `-2`, by every digit; `None` if one of them is none.
pub(crate) fn compare_decimals(a: &str, b: &str) -> Option<Ordering> {
    let (a, b) = (Decimal::of(a)?, Decimal::of(b)?);
    let size = |one: &Decimal<'_>, other: &Decimal<'_>| {
        let whole = one.whole.len().cmp(&other.whole.len()).then_with(|| one.whole.cmp(other.whole));
        whole.then_with(|| one.fraction.cmp(other.fraction))
    };
    Some(match (a.negative, b.negative) {
        (false, false) => size(&a, &b),
        (true, true) => size(&b, &a),
        (false, true) => Ordering::Greater,
        (true, false) => Ordering::Less,
    })
}

/// The digits of a decimal, without zeros that mean nothing.
struct Decimal<'a> {
    negative: bool,
    whole: &'a str,
    fraction: &'a str,
}

impl<'a> Decimal<'a> {
    fn of(text: &'a str) -> Option<Self> {
        let digits = text.strip_prefix('-').unwrap_or(text);
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, "0"));
        let is_number = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
        if !is_number(whole) || !is_number(fraction) {
            return None;
        }
        let (whole, fraction) = (whole.trim_start_matches('0'), fraction.trim_end_matches('0'));
        let is_zero = whole.is_empty() && fraction.is_empty();
        Some(Self { negative: text.starts_with('-') && !is_zero, whole, fraction })
    }
}

impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        deserializer.deserialize_any(ValueVisitor)
    }
}

struct ValueVisitor;

impl Visitor<'_> for ValueVisitor {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("text, a number, a date, or true or false")
    }

    fn visit_bool<E>(self, flag: bool) -> std::result::Result<Value, E> {
        Ok(Value::Flag(flag))
    }

    fn visit_i64<E>(self, number: i64) -> std::result::Result<Value, E> {
        Ok(Value::from(number))
    }

    fn visit_u64<E>(self, number: u64) -> std::result::Result<Value, E> {
        Ok(Value::from(number))
    }

    fn visit_f64<E>(self, number: f64) -> std::result::Result<Value, E> {
        Ok(Value::Number(number))
    }

    fn visit_str<E>(self, text: &str) -> std::result::Result<Value, E> {
        Ok(Value::from(text))
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}

/// Integers that 64-bit floating-point numbers do not hold exactly become text.
macro_rules! from_integers {
    ($($integer:ty),*) => {
        $(impl From<$integer> for Value {
            fn from(number: $integer) -> Self {
                let written = number.to_string();
                exact_number(&written).map_or(Self::Text(written), Self::Number)
            }
        })*
    };
}

from_integers!(i8, i16, i32, i64, isize, u8, u16, u32, u64, usize);

impl From<f32> for Value {
    fn from(number: f32) -> Self {
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

impl From<&str> for Value {
    /// Returns a date if the text is one, else the text.
    fn from(text: &str) -> Self {
        Date::from_written(text).map_or_else(|| Self::Text(text.to_owned()), Self::Date)
    }
}

impl From<&String> for Value {
    fn from(text: &String) -> Self {
        Self::from(text.as_str())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Date::from_written(&text).map_or(Self::Text(text), Self::Date)
    }
}

/// Refuses numbers that JSON does not have.
///
/// # Errors
/// If a number is infinite or not a number; the message names the field.
pub fn check_metadata(metadata: &Metadata) -> Result<()> {
    let is_broken = |value: &Value| matches!(value, Value::Number(number) if !number.is_finite());
    match metadata.iter().find(|(_, value)| is_broken(value)) {
        Some((name, value)) => {
            let message = format!("the metadata field “{name}” is {value}; give it a finite number, or text");
            Err(Error::new(ErrorKind::InvalidRequest, message))
        }
        None => Ok(()),
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Flag(flag) => write!(f, "{flag}"),
            Self::Number(number) => write!(f, "{number}"),
            Self::Date(date) => f.write_str(date.as_str()),
            Self::Text(text) => f.write_str(text),
        }
    }
}
