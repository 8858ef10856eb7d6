//! Values that are written as a text, with an empty text for none.

use std::fmt::Display;
use std::str::FromStr;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serializer};

/// Writes a value as its text.
pub(super) fn serialize<T: Display, S: Serializer>(value: &Option<T>, serializer: S) -> Result<S::Ok, S::Error> {
    match value {
        Some(value) => serializer.collect_str(value),
        None => serializer.serialize_str(""),
    }
}

/// Reads a value from its text.
pub(super) fn deserialize<'de, T, D>(deserializer: D) -> Result<Option<T>, D::Error>
where
    T: FromStr<Err: Display>,
    D: Deserializer<'de>,
{
    let text = String::deserialize(deserializer)?;
    if text.trim().is_empty() { Ok(None) } else { text.parse().map(Some).map_err(D::Error::custom) }
}
