//! The parts of an answer, and how a reply of a model becomes one. How people see them is up to the caller.

mod from_reply;
mod judged;
mod markers;

pub use judged::UnsupportedPolicy;

use serde::{Deserialize, Serialize};

use crate::document::{Location, Span};
use crate::round::{serialize_score, serialize_some_score};
use crate::search::Passage;
use crate::usage::TokenUsage;
use crate::verify::{Verdict, cited_claims};

/// Whether a question was answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Status {
    /// The corpus holds an answer.
    Answered,
    /// What comes closest, which may not be the answer.
    Closest,
    /// The corpus holds no answer.
    Refused,
}

/// A sentence of an answer, with the sources that it cites.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Claim {
    /// The sentence.
    pub text: String,
    /// The outcome of the verification.
    pub verdict: Verdict,
    /// How much of the claim its sources support, from 0 to 1: for a claim of a model the probability that they do.
    #[serde(serialize_with = "serialize_score")]
    pub support: f32,
    /// Why its sources do not support it, in words; `None` if they do, or if nothing is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The markers of the cited sources.
    pub citations: Vec<usize>,
}

/// A source that an answer cites.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct CitedSource {
    /// The number that stands in the answer, counted from 1. In the answer of a model it is that of the passage in the prompt.
    pub marker: usize,
    /// The location of the quotation.
    #[serde(flatten)]
    pub location: Location,
    /// The exact text of the document.
    pub quotation: String,
    /// The words of the question in the quotation, as ranges of bytes of it.
    pub matches: Vec<Span>,
    /// Other documents that say the same, ignoring case, punctuation and articles.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<OtherSource>,
    /// Further sentences of the same passage that the answer cites.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub more: Vec<OtherSource>,
}

/// Another quotation and its location.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct OtherSource {
    /// The location of the quotation.
    #[serde(flatten)]
    pub location: Location,
    /// The exact text of its document.
    pub quotation: String,
}

/// A part of a question with its own answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct AnsweredPart {
    /// The part of the question, as it was asked.
    pub question: String,
    /// Whether it was answered.
    pub status: Status,
    /// The lines of the answer that belong to it, with their markers.
    pub answer: String,
    /// The markers in it.
    pub citations: Vec<usize>,
}

impl AnsweredPart {
    /// Creates a part from its lines of an answer. Which sources it cites is read from their markers.
    pub fn new(question: impl Into<String>, status: Status, answer: impl Into<String>) -> Self {
        let answer = answer.into();
        let mut citations: Vec<usize> = cited_claims(&answer).into_iter().flat_map(|claim| claim.markers).collect();
        citations.sort_unstable();
        citations.dedup();
        Self { question: question.into(), status, answer, citations }
    }
}

/// An answer, or a refusal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Answer {
    /// The question as it was asked.
    pub question: String,
    /// Whether the question was answered.
    pub status: Status,
    /// The text with its markers, one claim a line; for a refusal, the reason.
    pub answer: String,
    /// The claims, in the order of the text.
    pub claims: Vec<Claim>,
    /// The sources that the claims cite.
    pub sources: Vec<CitedSource>,
    /// For a question that asks several things, what answers each of them; empty for any other.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<AnsweredPart>,
    /// For a refusal, the nearest passages.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub nearest: Vec<Passage>,
    /// The probability that the evidence answers the question; `None` for the answer of a model and for what was computed.
    #[serde(default, skip_serializing_if = "Option::is_none", serialize_with = "serialize_some_score")]
    pub confidence: Option<f32>,
    /// Why it is sure or not, in few words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The tokens that a model read and wrote.
    pub tokens: TokenUsage,
    /// The model that wrote the answer; `None` if it is made of sentences of the documents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generator: Option<String>,
    /// Whether the reply broke off before its end.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub incomplete: bool,
    /// What the reader should know of how the answer came about, such as that the model failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

impl Claim {
    /// Creates a claim with its verdict, the share of it that is supported, and the markers of its sources.
    pub fn new(text: impl Into<String>, verdict: Verdict, support: f32, citations: Vec<usize>) -> Self {
        Self { text: text.into(), verdict, support, reason: None, citations }
    }
}

impl CitedSource {
    /// Creates a source with its marker and quotation.
    pub fn new(marker: usize, location: Location, quotation: impl Into<String>) -> Self {
        Self { marker, location, quotation: quotation.into(), matches: Vec::new(), also: Vec::new(), more: Vec::new() }
    }
}

impl OtherSource {
    /// Creates a quotation and its location.
    pub fn new(location: Location, quotation: impl Into<String>) -> Self {
        Self { location, quotation: quotation.into() }
    }
}

impl Answer {
    /// Creates an answer without claims and sources.
    pub fn new(question: impl Into<String>, status: Status, answer: impl Into<String>) -> Self {
        Self {
            question: question.into(),
            status,
            answer: answer.into(),
            claims: Vec::new(),
            sources: Vec::new(),
            parts: Vec::new(),
            nearest: Vec::new(),
            confidence: None,
            reason: None,
            tokens: TokenUsage::default(),
            generator: None,
            incomplete: false,
            note: None,
        }
    }

    /// Returns how sure the answer is, and why, as a sentence; `None` for the answer of a model, of which nothing of the kind is known.
    pub fn certainty(&self) -> Option<String> {
        let percent = self.confidence.map(|confidence| format!("{:.0} %", confidence * 100.0));
        let reason = self.reason.as_deref().map(|reason| format!(": {reason}")).unwrap_or_default();
        match (self.status, percent) {
            (Status::Answered, Some(percent)) => Some(format!("{percent} sure{reason}.")),
            (Status::Answered, None) => self.reason.as_deref().map(|reason| format!("Sure: {reason}.")),
            (Status::Closest, percent) => {
                let percent = percent.map(|percent| format!(", {percent}")).unwrap_or_default();
                Some(format!("Not sure{percent}{reason}."))
            }
            // A refusal says why in its text.
            (Status::Refused, _) => None,
        }
    }

    /// Returns `true` if this is a refusal.
    pub fn is_refusal(&self) -> bool {
        self.status == Status::Refused
    }
}
