//! JSON and JSON Lines: one or more records, each with a text, a title and other fields.

use logothete_core::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use serde_json::Value as Json;

use crate::plain;

/// Usual names of the field with a record's text, the best first.
const TEXTS: &[&str] = &["/text", "/content", "/body", "/message", "/description", "/summary"];
/// The same for titles.
const TITLES: &[&str] = &["/title", "/name", "/subject", "/heading", "/id"];
/// Fields inside one another are written out this deep.
const MAX_DEPTH: usize = 6;

/// The places of the text and the metadata of a record: JSON pointers (RFC 6901), such as `/body/text`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JsonFields {
    /// The field with the text. `None` looks for a usual name, and writes all fields out if there is none.
    pub text: Option<String>,
    /// The title.
    pub title: Option<String>,
    /// The fields that become metadata, by name. `None` takes all other plain fields.
    pub metadata: Option<Vec<(String, String)>>,
}

/// Reads JSON and JSON Lines.
#[derive(Clone, Debug, Default)]
pub struct JsonParser {
    fields: JsonFields,
}

impl JsonParser {
    /// Reads records whose fields are at the given places.
    pub fn new(fields: JsonFields) -> Self {
        Self { fields }
    }
}

impl Parser for JsonParser {
    fn media_types(&self) -> &[&str] {
        &["application/json", "application/jsonl", "application/x-ndjson"]
    }

    fn endings(&self) -> &[&str] {
        &["json", "jsonl", "ndjson"]
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([format!("json 1 {:?}", self.fields)])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "application/json", input.budget);
        decoded.note(&mut builder);
        let text = decoded.text();
        match serde_json::from_str::<Json>(text) {
            Ok(Json::Array(records)) => self.records(records, input, &mut builder)?,
            Ok(record) => self.only(&record, &mut builder),
            Err(error) => {
                let records = lines(text, &error, &mut builder)?;
                self.records(records, input, &mut builder)?;
            }
        }
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "no record of it holds text"));
        }
        Ok(builder.finish())
    }
}

/// Reads the records of JSON Lines. A warning counts the lines that are not JSON.
fn lines(text: &str, whole: &serde_json::Error, builder: &mut DocumentBuilder) -> Result<Vec<Json>> {
    let lines = || text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    let mut records = Vec::new();
    let mut bad = Vec::new();
    for (number, line) in lines() {
        match serde_json::from_str(line) {
            Ok(record) => records.push(record),
            Err(_) => bad.push(number + 1),
        }
    }
    if records.is_empty() || bad.len() > records.len() {
        let message = format!("it is no JSON: {whole}");
        return Err(Error::new(ErrorKind::Unreadable, message));
    }
    if let Some(first) = bad.first() {
        builder.warn(format!("{} of its lines are no JSON and were left out, the first in line {first}", bad.len()));
    }
    Ok(records)
}

impl JsonParser {
    /// A file with one record: its plain fields are the document's metadata.
    fn only(&self, record: &Json, builder: &mut DocumentBuilder) {
        if let Some(title) = self.title(record) {
            builder.metadata("title", Value::Text(title));
        }
        for (name, value) in self.metadata(record) {
            builder.metadata(name, value);
        }
        self.body(record, builder);
    }

    /// A file with many: each is a section under its title.
    fn records(&self, records: Vec<Json>, input: &Input<'_>, builder: &mut DocumentBuilder) -> Result<()> {
        for (index, record) in records.into_iter().enumerate() {
            input.budget.check()?;
            match self.title(&record) {
                Some(title) => builder.heading(1, &title),
                None => builder.heading(1, &format!("Record {}", index + 1)),
            }
            self.body(&record, builder);
        }
        Ok(())
    }

    fn body(&self, record: &Json, builder: &mut DocumentBuilder) {
        match self.text(record) {
            Some(text) => {
                for part in text.split("\n\n") {
                    builder.block(BlockKind::Paragraph, part.trim());
                }
                let others: Vec<String> =
                    self.metadata(record).into_iter().map(|(name, value)| format!("{name}: {value}")).collect();
                builder.block(BlockKind::Paragraph, &others.join("\n"));
            }
            None => {
                let mut written = String::new();
                write(record, "", 0, &mut written);
                builder.block(BlockKind::Paragraph, written.trim_end());
            }
        }
    }

    fn text(&self, record: &Json) -> Option<String> {
        if let Json::String(text) = record {
            return Some(text.clone());
        }
        let at = |pointer: &str| Some(record.pointer(pointer)?.as_str()?.to_owned());
        match &self.fields.text {
            Some(pointer) => at(pointer),
            None => TEXTS.iter().find_map(|pointer| at(pointer)),
        }
    }

    fn title(&self, record: &Json) -> Option<String> {
        let at = |pointer: &str| match record.pointer(pointer)? {
            Json::String(text) => Some(text.clone()),
            Json::Number(number) => Some(number.to_string()),
            _ => None,
        };
        match &self.fields.title {
            Some(pointer) => at(pointer),
            None => TITLES.iter().find_map(|pointer| at(pointer)),
        }
    }

    fn metadata(&self, record: &Json) -> Vec<(String, Value)> {
        match (&self.fields.metadata, record) {
            (Some(fields), _) => fields
                .iter()
                .filter_map(|(name, pointer)| Some((name.clone(), plain_value(record.pointer(pointer)?)?)))
                .collect(),
            (None, Json::Object(fields)) => {
                let taken = |name: &str| {
                    let pointer = format!("/{name}");
                    let text = self.fields.text.as_deref().or_else(|| {
                        TEXTS.iter().copied().find(|pointer| record.pointer(pointer).is_some_and(Json::is_string))
                    });
                    let title = self.fields.title.as_deref().or_else(|| {
                        TITLES
                            .iter()
                            .copied()
                            .find(|pointer| record.pointer(pointer).is_some_and(|value| !value.is_object()))
                    });
                    text == Some(&pointer) || title == Some(&pointer)
                };
                let named = fields.iter().filter(|(name, _)| !taken(name));
                named.filter_map(|(name, value)| Some((name.clone(), plain_value(value)?))).collect()
            }
            (None, _) => Vec::new(),
        }
    }
}

/// Returns a JSON value as a value of metadata; `None` if it is a list or an object.
fn plain_value(value: &Json) -> Option<Value> {
    match value {
        Json::Bool(flag) => Some(Value::Flag(*flag)),
        Json::Number(number) => match (number.as_i64(), number.as_u64()) {
            (Some(integer), _) => Some(Value::from(integer)),
            (_, Some(integer)) => Some(Value::from(integer)),
            _ => number.as_f64().map(Value::Number),
        },
        Json::String(text) => Some(Value::date_or_text(text)),
        Json::Array(list) => {
            let words: Option<Vec<&str>> = list.iter().map(Json::as_str).collect();
            words.filter(|words| !words.is_empty()).map(|words| Value::Text(words.join(", ")))
        }
        _ => None,
    }
}

/// Writes the fields of a record as lines, `name: value`.
fn write(value: &Json, path: &str, depth: usize, to: &mut String) {
    let below = |name: &str| if path.is_empty() { name.to_owned() } else { format!("{path} {name}") };
    match value {
        _ if depth > MAX_DEPTH => {}
        Json::Object(fields) => fields.iter().for_each(|(name, value)| write(value, &below(name), depth + 1, to)),
        Json::Array(list) => match plain_value(value) {
            Some(words) => to.push_str(&format!("{path}: {words}\n")),
            None => list.iter().for_each(|value| write(value, path, depth + 1, to)),
        },
        Json::Null => {}
        Json::String(text) if path.is_empty() => to.push_str(text),
        Json::String(text) => to.push_str(&format!("{path}: {text}\n")),
        other => to.push_str(&format!("{path}: {other}\n")),
    }
}
