//! What a search returns.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize, Serializer};

use crate::chunk::{ChunkId, Sentence, Statements};
use crate::document::{BlockKind, Pages, Span};

/// A chunk that a search returned.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Passage {
    /// Its place, counted from 1.
    pub rank: usize,
    /// Its score after fusion, between 0 and 1.
    #[serde(serialize_with = "rounded")]
    pub score: f32,
    /// The chunk.
    pub chunk: ChunkId,
    /// The name of its document.
    pub document: String,
    /// The title of its document.
    pub title: Option<String>,
    /// The date of its document, as its metadata give it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Where it is in its document's text.
    pub span: Span,
    /// Its text, as the document has it.
    pub text: String,
    /// What helped to find it and is not its text.
    #[serde(skip)]
    pub context: String,
    /// What can be quoted from it.
    #[serde(skip)]
    pub sentences: Vec<Sentence>,
    /// How each leg ranked it.
    pub legs: BTreeMap<String, LegScore>,
    /// Where else the same is said, or nearly the same.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<OtherPlace>,
}

/// Another place that says what a passage says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OtherPlace {
    /// The chunk.
    pub chunk: ChunkId,
    /// The name of its document.
    pub document: String,
    /// The title of its document.
    pub title: Option<String>,
    /// The date of its document, as its metadata give it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Where it is in its document's text.
    pub span: Span,
    /// For each sentence of the passage where it stands there, and how it is written.
    #[serde(skip)]
    pub sentences: Vec<Option<(Sentence, String)>>,
}

impl OtherPlace {
    /// What another chunk says of a passage.
    pub fn new(passage: &Passage, other: Passage) -> Self {
        let places = passage.statements().places_in(&other.statements());
        let sentence = |place: usize| {
            let sentence = other.sentences.get(place)?;
            Some((sentence.clone(), other.slice(sentence.span).to_owned()))
        };
        let sentences = places.into_iter().map(|place| place.and_then(sentence)).collect();
        let Passage { chunk, document, title, date, pages, section, span, .. } = other;
        Self { chunk, document, title, date, pages, section, span, sentences }
    }
}

/// A leg's opinion of a passage.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegScore {
    /// The place in that leg, counted from 1.
    pub rank: usize,
    /// The leg's own score: BM25 for `keyword`, the cosine for `vector`.
    #[serde(serialize_with = "rounded")]
    pub score: f32,
}

impl Passage {
    /// Its text below the headings that it begins with; all of it when there is nothing else.
    pub fn body(&self) -> &str {
        let first = self.sentences.iter().find(|sentence| sentence.kind != BlockKind::Heading);
        let start = first.map_or(0, |sentence| sentence.span.start.saturating_sub(self.span.start));
        self.text.get(start..).unwrap_or(&self.text)
    }

    /// What it says, to be compared with other passages and chunks.
    pub fn statements(&self) -> Statements {
        // A quotable part that is no whole sentence stands at an end of the passage and is all of it.
        let covered: usize = self.sentences.iter().map(|sentence| sentence.span.len()).sum();
        let written = self.text.len() - self.text.matches(char::is_whitespace).count();
        Statements::new(&self.text, self.span, &self.sentences, &self.section, covered >= written)
    }

    /// The latest date of the documents that a sentence of it stands in.
    pub fn date_of(&self, sentence: usize) -> Option<&str> {
        let others = self.also.iter().filter(|other| other.sentences.get(sentence).is_some_and(Option::is_some));
        others.map(|other| &other.date).chain([&self.date]).filter_map(Option::as_deref).max()
    }

    /// The headings above it, and those that stand in it.
    pub fn headings(&self) -> Vec<String> {
        let inside = self.sentences.iter().filter(|sentence| sentence.kind == BlockKind::Heading);
        let inside = inside.map(|sentence| self.slice(sentence.span).split_whitespace().collect::<Vec<_>>().join(" "));
        self.section.iter().cloned().chain(inside).collect()
    }

    /// The text at a span of the document; empty when the span is not inside this passage.
    pub fn slice(&self, span: Span) -> &str {
        if !self.span.contains(span) {
            return "";
        }
        self.text.get(span.start - self.span.start..span.end - self.span.start).unwrap_or_default()
    }
}

/// Writes a score to six decimals: a `f32` knows no more.
#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
pub(crate) fn rounded<S: Serializer>(score: &f32, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_f64((f64::from(*score) * 1e6).round() / 1e6)
}
