//! Passages: the results of a search.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::chunk::{Chunk, ChunkId, Sentence, Statements, indexed_text};
use crate::document::{BlockKind, Document, Location, Span};
use crate::round::serialize_score;

/// A chunk that a search returned. Written as JSON and read again, it is unchanged.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Passage {
    /// The rank, counted from 1.
    pub rank: usize,
    /// The score, between 0 and 1: the reranker's, which is the probability that it is the right passage; or that of the fusion, if the plan
    /// has no reranker. A reranker of the user's own may give any number.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The location of the chunk.
    #[serde(flatten)]
    pub location: Location,
    /// The text of the chunk, exactly as it is in the document.
    pub text: String,
    /// Text that helps to find the chunk and is not part of its text.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub context: String,
    /// The parts of the text that can be quoted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sentences: Vec<Sentence>,
    /// The rank and score in each leg that found the chunk.
    pub legs: BTreeMap<String, LegScore>,
    /// The rank and score after fusion; `None` if there was no reranker after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fused: Option<LegScore>,
    /// Other chunks that say the same, or nearly the same.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<Duplicate>,
}

/// Another chunk that says what a passage says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Duplicate {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The location of the chunk.
    #[serde(flatten)]
    pub location: Location,
    /// For each sentence of the passage, the sentence of this chunk that says the same; `None` if it has none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sentences: Vec<Option<Counterpart>>,
}

/// A sentence of a duplicate, with its text.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Counterpart {
    /// The sentence.
    pub sentence: Sentence,
    /// Its text, as that document has it.
    pub text: String,
}

impl Duplicate {
    /// Compares a chunk with a passage.
    pub fn new(passage: &Passage, other: Passage) -> Self {
        let positions = passage.statements().places_in(&other.statements());
        let counterpart = |position: usize| {
            let sentence = other.sentences.get(position)?;
            Some(Counterpart { sentence: sentence.clone(), text: other.slice(sentence.span).to_owned() })
        };
        let sentences = positions.into_iter().map(|position| position.and_then(counterpart)).collect();
        let Passage { chunk, location, .. } = other;
        Self { chunk, location, sentences }
    }
}

/// The rank and score of a passage in one leg.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegScore {
    /// The rank in that leg, counted from 1.
    pub rank: usize,
    /// The leg's own score: BM25 for `keyword`, the cosine for `vector`.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
}

impl Passage {
    /// Creates a passage without rank and score.
    pub fn new(chunk: ChunkId, location: Location, text: impl Into<String>) -> Self {
        Self {
            rank: 0,
            score: 0.0,
            chunk,
            location,
            text: text.into(),
            context: String::new(),
            sentences: Vec::new(),
            legs: BTreeMap::new(),
            fused: None,
            also: Vec::new(),
        }
    }

    /// Creates a passage from a chunk of a document, without rank and score.
    pub fn from_chunk(chunk: Chunk, document: &Document) -> Self {
        let mut location = Location::new(&document.name, chunk.span);
        location.title.clone_from(&document.title);
        location.date = document.metadata.get("date").map(ToString::to_string);
        location.pages = chunk.pages;
        location.section = chunk.section;
        Self { context: chunk.context, sentences: chunk.sentences, ..Self::new(chunk.id, location, chunk.text) }
    }

    /// Returns the text that was indexed: the context and the text.
    pub fn indexed_text(&self) -> String {
        indexed_text(&self.context, &self.text)
    }

    /// Returns the text after the headings that it begins with; the whole text if there is nothing else.
    pub fn body(&self) -> &str {
        let first = self.sentences.iter().find(|sentence| sentence.kind != BlockKind::Heading);
        let start = first.map_or(0, |sentence| sentence.span.start.saturating_sub(self.location.span.start));
        self.text.get(start..).unwrap_or(&self.text)
    }

    /// Returns the parts that can be quoted, each readable by itself: a table row has the names of its columns.
    pub fn readable_parts(&self) -> impl Iterator<Item = &str> {
        self.sentences.iter().map(|part| part.row.as_deref().unwrap_or_else(|| self.slice(part.span)))
    }

    /// Returns the statements for comparison with other passages and chunks.
    pub fn statements(&self) -> Statements {
        // A quotable part that is no whole sentence is at an end of the passage and is the whole part.
        let covered: usize = self.sentences.iter().map(|sentence| sentence.span.len()).sum();
        let written = self.text.len() - self.text.matches(char::is_whitespace).count();
        Statements::new(&self.text, self.location.span, &self.sentences, &self.location.section, covered >= written)
    }

    /// Returns the latest date of the documents that have one of its sentences.
    pub fn date_of(&self, sentence: usize) -> Option<&str> {
        let others = self.also.iter().filter(|other| other.sentences.get(sentence).is_some_and(Option::is_some));
        others.map(|other| &other.location.date).chain([&self.location.date]).filter_map(Option::as_deref).max()
    }

    /// Returns the headings above it and those in it.
    pub fn headings(&self) -> Vec<String> {
        let inside = self.sentences.iter().filter(|sentence| sentence.kind == BlockKind::Heading);
        let inside = inside.map(|sentence| self.slice(sentence.span).split_whitespace().collect::<Vec<_>>().join(" "));
        self.location.section.iter().cloned().chain(inside).collect()
    }

    /// Returns the location of the passage, with [all its headings](Self::headings) as its section.
    pub fn location_with_headings(&self) -> Location {
        Location { section: self.headings(), ..self.location.clone() }
    }

    /// Returns the text at a span of the document; empty if the span is not inside this passage.
    pub fn slice(&self, span: Span) -> &str {
        if !self.location.span.contains(span) {
            return "";
        }
        self.text.get(span.start - self.location.span.start..span.end - self.location.span.start).unwrap_or_default()
    }
}
