//! `[digest.NAME]`: what is told of whole documents.

use logothete_core::digest::{DigestField, FieldKind};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// How a model reads a document that is longer than its context.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DigestMethod {
    /// Parts of it, several at a time; then what was said of the parts is combined.
    #[default]
    Combine,
    /// Part after part, each with what was said so far.
    Refine,
}

/// How a digest is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DigestFormat {
    /// Text for a terminal.
    #[default]
    Text,
    /// Markdown.
    Markdown,
    /// JSON.
    Json,
}

/// `[digest.NAME]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct DigestConfig {
    /// What is told, in this order.
    pub fields: Vec<DigestField>,
    /// How a model reads a long document.
    pub method: DigestMethod,
    /// How it is written.
    pub format: DigestFormat,
}

impl Default for DigestConfig {
    fn default() -> Self {
        Self { fields: DigestField::defaults(), method: DigestMethod::default(), format: DigestFormat::default() }
    }
}

impl DigestConfig {
    /// The name of the digest that is told if none is named.
    pub const DEFAULT: &str = "default";

    pub(super) fn validate(&self, name: &str) -> Result<()> {
        let invalid =
            |message: String| Err(Error::new(ErrorKind::Configuration, message).at(format!("[digest.{name}] fields")));
        if self.fields.is_empty() {
            return invalid("a digest needs a field, such as { name = \"summary\", kind = \"summary\" }".to_owned());
        }
        for (at, field) in self.fields.iter().enumerate() {
            if !field.name.chars().any(char::is_alphanumeric) || field.name.contains(['\n', '#']) {
                return invalid(format!("field {} needs a name of one line, with a letter", at + 1));
            }
            if self.fields[..at].iter().any(|other| other.name.to_lowercase() == field.name.to_lowercase()) {
                return invalid(format!("two fields have the name {}", field.name));
            }
            if field.kind == FieldKind::Answer && field.question.trim().is_empty() {
                return invalid(format!("the field {} needs a question, or a kind, such as \"dates\"", field.name));
            }
            if field.max_words == 0 {
                return invalid(format!("the field {} needs max_words of 1 or more", field.name));
            }
        }
        Ok(())
    }
}
