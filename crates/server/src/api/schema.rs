//! The shapes of the library's values as JSON, for the description of the API. A test reads real responses with them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// The result of a search.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct SearchResult {
    pub query: String,
    pub passages: Vec<Passage>,
    pub took_ms: f64,
}

/// A passage, with its rank and its scores.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Passage {
    pub rank: u64,
    /// Higher is better.
    pub score: f64,
    pub chunk: String,
    pub document: String,
    pub title: Option<String>,
    /// The first and the last page, counted from 1; null for a document without pages.
    pub pages: Option<[u64; 2]>,
    /// The headings above, outermost first.
    pub section: Vec<String>,
    /// Where it lies in the text of the document, in bytes.
    pub span: [u64; 2],
    pub text: String,
    /// For each way of finding it, its rank and its score there.
    pub legs: BTreeMap<String, LegScore>,
}

/// A rank and a score.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct LegScore {
    pub rank: u64,
    pub score: f64,
}

/// The reply to a question.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Reply {
    /// The name under which its trace is found.
    pub trace_id: String,
    pub question: String,
    pub status: Status,
    /// The text with its markers; for a refusal, the reason.
    pub answer: String,
    pub claims: Vec<Claim>,
    pub sources: Vec<Source>,
    /// For a refusal, the nearest passages.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub nearest: Vec<Passage>,
    /// The probability that the evidence answers the question; absent for the answer of a model.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    pub tokens: Tokens,
    /// The stages, if the request asked for them.
    #[schema(value_type = Vec<Object>)]
    pub trace: Vec<Value>,
}

/// The reply to a question of a conversation.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Turn {
    /// The number, counted from 1.
    pub number: u64,
    /// When it was asked, such as `2026-03-31T12:00:00Z`.
    pub asked: String,
    /// The question as it was asked.
    pub said: String,
    #[serde(flatten)]
    pub reply: Reply,
}

/// A conversation that was kept. Its turns have no traces any more.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Conversation {
    pub id: String,
    pub turns: Vec<KeptTurn>,
}

/// A turn of a conversation that was kept.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct KeptTurn {
    pub number: u64,
    pub asked: String,
    pub said: String,
    pub question: String,
    pub status: Status,
    pub answer: String,
    pub claims: Vec<Claim>,
    pub sources: Vec<Source>,
}

/// Whether a question was answered.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Status {
    Answered,
    Closest,
    Refused,
}

/// A sentence of an answer, held against its sources.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Claim {
    pub text: String,
    pub verdict: String,
    /// The share that is supported, from 0 to 1.
    pub support: f64,
    /// Why, in few words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The markers of its sources.
    pub citations: Vec<u64>,
}

/// A source that is cited.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Source {
    pub marker: u64,
    pub document: String,
    pub title: Option<String>,
    pub pages: Option<[u64; 2]>,
    pub section: Vec<String>,
    pub span: [u64; 2],
    pub quotation: String,
}

/// The tokens that a model read and wrote.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Tokens {
    #[serde(rename = "in")]
    pub read: u64,
    #[serde(rename = "out")]
    pub written: u64,
}

/// The documents of a corpus.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct DocumentList {
    pub corpus: String,
    pub documents: Vec<ListedDocument>,
    pub fields: Vec<Field>,
}

/// A document.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct ListedDocument {
    pub document: String,
    pub title: Option<String>,
    pub media_type: String,
    /// 0 for a document without pages.
    pub pages: u64,
    pub text_bytes: u64,
    pub chunks: u64,
    pub warnings: Vec<String>,
    /// Whether it was uploaded, and not read from a folder of the machine.
    pub uploaded: bool,
}

/// A field of the metadata, for filters.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Field {
    pub name: String,
    #[serde(rename = "type")]
    pub kind: String,
    pub documents: u64,
}

/// A document with its metadata and its chunks.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct DocumentDetail {
    pub document: String,
    pub title: Option<String>,
    pub media_type: String,
    pub pages: u64,
    pub text_bytes: u64,
    pub chunks: u64,
    pub warnings: Vec<String>,
    pub date: Option<String>,
    #[schema(value_type = Object)]
    pub metadata: Value,
    pub chunk_list: Vec<Chunk>,
}

/// A chunk of a document.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Chunk {
    pub chunk: String,
    pub span: [u64; 2],
    pub pages: Option<[u64; 2]>,
    pub section: Vec<String>,
    /// The number of words.
    pub size: u64,
    pub same_as: Option<String>,
}
