//! The keys that a configuration may have, found from the structs themselves.

use std::cell::RefCell;
use std::fmt;

use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};
use serde::de::value::StrDeserializer;
use serde::de::{DeserializeSeed, Deserializer, MapAccess, Visitor};
use serde::{Deserialize, forward_to_deserialize_any};

/// The keys of each table of a configuration, in the order of the struct's fields; none for a table whose keys are the user's own.
pub(super) type Tables = Vec<(&'static str, &'static [&'static str])>;

/// Returns the tables of a struct of structs, each of which has a default for every field.
pub(super) fn tables<'de, T: Deserialize<'de>>() -> Tables {
    let found = RefCell::new(Vec::new());
    let names = fields_of::<T>();
    for &name in names {
        let before = found.borrow().len();
        // The value of the one key is refused, but its deserializer has seen the names of its fields by then.
        let _ = T::deserialize(OneKey { name, found: &found });
        // The keys of a map are the user's own.
        if found.borrow().len() == before {
            found.borrow_mut().push((name, &[]));
        }
    }
    found.into_inner()
}

/// Returns the names of the fields of a struct.
pub(super) fn fields_of<'de, T: Deserialize<'de>>() -> &'static [&'static str] {
    let found = RefCell::new(Vec::new());
    let _ = T::deserialize(Fields { table: "", found: &found });
    found.into_inner().first().map_or(&[], |(_, fields)| fields)
}

/// Returns an error for the first unknown key of one table.
pub(super) fn check_table(given: &toml::Table, name: &'static str, keys: &'static [&'static str]) -> Result<()> {
    let whole = [(name.to_owned(), toml::Value::Table(given.clone()))].into_iter().collect();
    check(&whole, &vec![(name, keys)])
}

/// Returns an error for the first key that is unknown, with the nearest known one.
///
/// Tables whose names are the user's own, such as headers, are values and are not looked into.
pub(super) fn check(given: &toml::Table, known: &Tables) -> Result<()> {
    let unknown = |key: &str, place: &str, candidates: Vec<&'static str>| {
        let within = if place.is_empty() { String::new() } else { format!(" in [{place}]") };
        let hint = match closest(key, candidates.iter().map(|name| (*name).to_owned())) {
            Some(name) => format!("did you mean `{name}`?"),
            None => format!("known keys: {}", candidates.join(", ")),
        };
        Err(Error::new(ErrorKind::Configuration, format!("unknown key `{key}`{within}; {hint}")))
    };
    for (table, value) in given {
        let Some((_, keys)) = known.iter().find(|(name, _)| name == table) else {
            return unknown(table, "", known.iter().map(|(name, _)| *name).collect());
        };
        if keys.is_empty() {
            continue;
        }
        for key in value.as_table().into_iter().flat_map(toml::Table::keys) {
            if !keys.contains(&key.as_str()) {
                return unknown(key, table, keys.to_vec());
            }
        }
    }
    Ok(())
}

/// The error that ends each look.
#[derive(Debug)]
struct Seen;

impl fmt::Display for Seen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the fields were seen")
    }
}

impl std::error::Error for Seen {}

impl serde::de::Error for Seen {
    fn custom<T: fmt::Display>(_: T) -> Self {
        Self
    }
}

/// Notes the names of the fields of a struct, and refuses to make one.
struct Fields<'f> {
    table: &'static str,
    found: &'f RefCell<Tables>,
}

impl<'de> Deserializer<'de> for Fields<'_> {
    type Error = Seen;

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        fields: &'static [&'static str],
        _: V,
    ) -> Result<V::Value, Seen> {
        self.found.borrow_mut().push((self.table, fields));
        Err(Seen)
    }

    fn deserialize_any<V: Visitor<'de>>(self, _: V) -> Result<V::Value, Seen> {
        Err(Seen)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit unit_struct
        newtype_struct seq tuple tuple_struct map enum identifier ignored_any
    }
}

/// A map of one key, whose value is [`Fields`].
struct OneKey<'f> {
    name: &'static str,
    found: &'f RefCell<Tables>,
}

impl<'de> Deserializer<'de> for OneKey<'_> {
    type Error = Seen;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Seen> {
        visitor.visit_map(self)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit unit_struct
        newtype_struct seq tuple tuple_struct map struct enum identifier ignored_any
    }
}

impl<'de> MapAccess<'de> for OneKey<'_> {
    type Error = Seen;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, Seen> {
        seed.deserialize(StrDeserializer::new(self.name)).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, Seen> {
        seed.deserialize(Fields { table: self.name, found: self.found })
    }
}
