//! The fields of a row. Each has its own weight.

use serde::{Deserialize, Serialize};

/// The texts that a row is indexed by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fields<'a> {
    /// The title of the document.
    pub title: &'a str,
    /// The headings above the chunk.
    pub headings: &'a str,
    /// Other context, such as the header of a table or a generated sentence.
    pub context: &'a str,
    /// The text of the chunk.
    pub body: &'a str,
}

impl<'a> Fields<'a> {
    /// Returns the fields of a text without context.
    pub fn body(body: &'a str) -> Self {
        Self { body, ..Self::default() }
    }

    pub(super) fn iter(self) -> impl Iterator<Item = &'a str> {
        [self.title, self.headings, self.context, self.body].into_iter()
    }
}

/// A chunk's context, split into fields.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ContextParts {
    title: String,
    headings: String,
    rest: String,
}

impl ContextParts {
    /// Splits a context into the title of the document, the headings above the chunk, and the rest.
    pub fn new(title: Option<&str>, section: &[String], context: &str) -> Self {
        let mut parts = Self::default();
        let mut lines = context.splitn(2, '\n');
        for part in lines.next().unwrap_or_default().split(" › ").filter(|part| !part.is_empty()) {
            let to = match part {
                part if title == Some(part) => &mut parts.title,
                part if section.iter().any(|heading| heading == part) => &mut parts.headings,
                _ => &mut parts.rest,
            };
            to.push_str(part);
            to.push('\n');
        }
        parts.rest.push_str(lines.next().unwrap_or_default());
        parts
    }

    /// Returns these fields with a text, ready for the index.
    pub fn fields<'a>(&'a self, body: &'a str) -> Fields<'a> {
        Fields { title: &self.title, headings: &self.headings, context: &self.rest, body }
    }
}

/// The weights of words by field. They are fixed when a segment is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct FieldWeights {
    /// The weight of the title of the document; 0 leaves it out.
    pub title: u8,
    /// The weight of the headings.
    pub headings: u8,
    /// The weight of the rest of the context.
    pub context: u8,
    /// The weight of the text.
    pub body: u8,
}

impl Default for FieldWeights {
    fn default() -> Self {
        Self { title: 1, headings: 1, context: 1, body: 1 }
    }
}

impl FieldWeights {
    pub(super) fn bytes(self) -> [u8; 4] {
        [self.title, self.headings, self.context, self.body]
    }

    pub(super) fn from_bytes([title, headings, context, body]: [u8; 4]) -> Self {
        Self { title, headings, context, body }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_context_is_parted() {
        let section = ["Pilotage".to_owned(), "Fees › and dues".to_owned()];
        let parts = ContextParts::new(Some("Handbook"), &section, "Handbook › Pilotage\n| Vessel | Fee |\nA sentence.");
        let fields = parts.fields("Text.");
        assert_eq!((fields.title.trim(), fields.headings.trim()), ("Handbook", "Pilotage"));
        assert_eq!((fields.context, fields.body), ("| Vessel | Fee |\nA sentence.", "Text."));
        assert_eq!(ContextParts::new(None, &[], "").fields("x"), Fields::body("x"));
        assert_eq!(ContextParts::new(None, &[], "What was written").fields("x").context, "What was written\n");
    }
}
