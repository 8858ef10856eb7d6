//! The fields of a row, which have weights of their own.

use serde::{Deserialize, Serialize};

/// What a row is indexed by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fields<'a> {
    /// The title of its document.
    pub title: &'a str,
    /// The headings above it.
    pub headings: &'a str,
    /// What else helps to find it: the header of a table, a sentence that was written for it.
    pub context: &'a str,
    /// Its text.
    pub body: &'a str,
}

impl<'a> Fields<'a> {
    /// Text without anything that helps to find it.
    pub fn body(body: &'a str) -> Self {
        Self { body, ..Self::default() }
    }

    pub(super) fn iter(self) -> impl Iterator<Item = &'a str> {
        [self.title, self.headings, self.context, self.body].into_iter()
    }
}

/// A chunk's context, parted into fields.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ContextParts {
    title: String,
    headings: String,
    rest: String,
}

impl ContextParts {
    /// What a context has of its document's title and of the headings above the chunk, and the rest of it.
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

    /// They and a text, as they are indexed.
    pub fn fields<'a>(&'a self, body: &'a str) -> Fields<'a> {
        Fields { title: &self.title, headings: &self.headings, context: &self.rest, body }
    }
}

/// How often a word of each field counts. They are fixed when a segment is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct FieldWeights {
    /// In the title of the document; 0 leaves it out.
    pub title: u8,
    /// In the headings above.
    pub headings: u8,
    /// In the rest of the context.
    pub context: u8,
    /// In the text.
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
