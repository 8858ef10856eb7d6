//! The reply to a question.

use std::fmt;

use logothete_core::answer::Answer;
use logothete_core::search::Passage;
use logothete_core::trace::{TRACE_VERSION, Trace};
use serde::Serialize;

/// An answer, and the record of how it was made.
///
/// It prints as a person would read it: the answer with its markers, then the sources.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Reply {
    /// The answer, or the refusal.
    #[serde(flatten)]
    pub answer: Answer,
    /// The version of the schema of the trace.
    pub trace_version: u32,
    /// The trace; empty unless the request [asked](crate::SearchRequest::traced) for it.
    pub trace: Trace,
    /// The passages that the search found for a model; empty without one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub passages: Vec<Passage>,
    /// What did not work in the search and was left out, in sentences.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

impl Reply {
    /// Returns the documents whose words the answer may hold.
    pub(crate) fn documents(&self) -> Vec<String> {
        let sources = self.answer.sources.iter().flat_map(|source| {
            let others = source.also.iter().map(|other| &other.location.document);
            std::iter::once(&source.location.document).chain(others)
        });
        let passages = self.answer.nearest.iter().chain(&self.passages).map(|passage| &passage.location.document);
        let mut all: Vec<String> = sources.chain(passages).cloned().collect();
        all.sort();
        all.dedup();
        all
    }

    pub(crate) fn new(answer: Answer, trace: Trace) -> Self {
        Self { answer, trace_version: TRACE_VERSION, trace, passages: Vec::new(), notes: Vec::new() }
    }
}

impl fmt::Display for Reply {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.answer.answer)?;
        if let Some(certainty) = self.answer.certainty() {
            write!(f, "\n{certainty}")?;
        }
        for source in &self.answer.sources {
            write!(f, "\n\n[{}] {}\n    “{}”", source.marker, source.location, one_line(&source.quotation))?;
            for other in &source.more {
                write!(f, "\n    “{}”", one_line(&other.quotation))?;
            }
            for other in &source.also {
                write!(f, "\n    also in {}", other.location)?;
            }
        }
        for passage in &self.answer.nearest {
            write!(f, "\n  - {}", passage.location)?;
        }
        match &self.answer.note {
            Some(note) => write!(f, "\n\n{note}"),
            None => Ok(()),
        }
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
