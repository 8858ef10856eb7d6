//! The languages of what is built, beside those that the encoder knows.

use std::collections::BTreeMap;

use logothete_core::document::{Document, Value};
use logothete_core::vector::Encoder;

/// The number of documents in each language.
#[derive(Default)]
pub(super) struct Languages {
    counts: BTreeMap<String, usize>,
}

impl Languages {
    /// Counts a document whose language is known.
    pub(super) fn add(&mut self, document: &Document) {
        if let Some(Value::Text(language)) = document.metadata.get("language") {
            // A tag may go on with a region or a script.
            let code = language.split(['-', '_']).next().unwrap_or(language).to_lowercase();
            *self.counts.entry(code).or_default() += 1;
        }
    }

    /// Returns a remark if the encoder was not made for some of the documents.
    pub(super) fn advice(&self, encoder: &dyn Encoder) -> Option<String> {
        let known = encoder.languages()?;
        let foreign: Vec<(&String, &usize)> = self.counts.iter().filter(|(code, _)| !known.contains(code)).collect();
        let count: usize = foreign.iter().map(|(_, count)| **count).sum();
        let codes: Vec<&str> = foreign.iter().map(|(code, _)| code.as_str()).collect();
        let (documents, are) = if count == 1 { ("document", "is") } else { ("documents", "are") };
        (count > 0).then(|| {
            format!(
                "{count} {documents} {are} in a language that the encoder “{}” was not made for ({}): such text is found by its words \
                 and less by meaning; give a model for it with kind = \"folder\" in [encoder]",
                encoder.name(),
                codes.join(", ")
            )
        })
    }
}
