//! Metadata of documents, as typed values.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

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

    /// Returns the written form.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Date {
    type Error = &'static str;

    fn try_from(written: String) -> Result<Self, Self::Error> {
        Self::from_written(&written).ok_or("not a date")
    }
}

impl From<Date> for String {
    fn from(date: Date) -> Self {
        date.0
    }
}

/// A value of metadata. Types of JSON and front matter are kept; text in the form of a date becomes a date.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
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
    /// Parses a value: `true` and `false` are flags, plain decimals are numbers, all else is text.
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
                _ => Date::from_written(bare).map_or_else(|| Self::Text(bare.to_owned()), Self::Date),
            },
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
