//! The record of one search, question or build: nested, typed, and readable as JSON.
//!
//! Core only defines the values. The caller measures the times, since core has no clock.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::chunk::identity::ChunkId;
use crate::prompt::Message;
use crate::round::{serialize_milliseconds, serialize_score};
use crate::search::{ExpansionKind, LegScore};
use crate::usage::TokenUsage;
use crate::verify::Verdict;

/// The version of the schema of [`TraceDetails`]. New fields and stages do not change it.
pub const TRACE_VERSION: u32 = 1;

/// A record of steps. A step comes after its parent.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Trace {
    /// The steps, in the order in which they began.
    pub records: Vec<TraceRecord>,
}

/// One step.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct TraceRecord {
    /// The number of the step within its trace.
    pub id: u32,
    /// The parent of the step; `None` for the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<u32>,
    /// The details.
    #[serde(flatten)]
    pub details: TraceDetails,
    /// When the step began, in milliseconds from the start of the trace.
    #[serde(serialize_with = "serialize_milliseconds")]
    pub start_ms: f64,
    /// How long the step took, in milliseconds.
    #[serde(serialize_with = "serialize_milliseconds")]
    pub took_ms: f64,
    /// What a model read and wrote.
    #[serde(default, skip_serializing_if = "TokenUsage::is_zero")]
    pub usage: TokenUsage,
    /// How the step ended.
    #[serde(default, skip_serializing_if = "StepOutcome::is_done")]
    pub outcome: StepOutcome,
}

/// How a step ended.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum StepOutcome {
    /// It succeeded.
    #[default]
    Done,
    /// The caller stopped it.
    Stopped,
    /// It failed with this message.
    Failed(String),
}

/// The details of a step, by stage.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "stage", rename_all = "snake_case")]
#[non_exhaustive]
pub enum TraceDetails {
    /// A question was answered.
    Ask {
        /// The question.
        question: String,
    },
    /// A question was split into parts.
    Split {
        /// The parts.
        parts: Vec<String>,
    },
    /// A question that wants to know what a whole document says was answered with a summary of it.
    Digest {
        /// The document.
        document: String,
        /// The number of statements of the summary.
        statements: usize,
    },
    /// Passages were searched.
    Search {
        /// The query.
        query: String,
    },
    /// A filter was applied.
    Filter {
        /// The filter as written.
        filter: String,
        /// The number of rows that it allows.
        rows: u64,
    },
    /// The keyword leg ran.
    Keyword {
        /// The terms of the query.
        terms: Vec<String>,
        /// The terms that no document has.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        missing: Vec<String>,
        /// Words that no document has, and the terms that were searched instead.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        misspelt: Vec<Misspelt>,
        /// The leg's part in the search.
        #[serde(flatten)]
        leg: LegRecord,
    },
    /// The vector leg ran.
    Vector {
        /// The name of the encoder.
        encoder: String,
        /// The leg's part in the search.
        #[serde(flatten)]
        leg: LegRecord,
    },
    /// Another leg ran.
    Leg {
        /// The name of the leg.
        name: String,
        /// The leg's part in the search.
        #[serde(flatten)]
        leg: LegRecord,
    },
    /// A leg or a reranker of the user's own failed, and the search went on without it.
    LeftOut {
        /// What failed and why, in a sentence.
        note: String,
    },
    /// The rankings of the legs were fused.
    Fusion {
        /// The number of different chunks in the rankings.
        considered: usize,
        /// The best of them: as many as the search returns, or all that are reranked, if the request asked for that.
        passages: Vec<PassageRecord>,
    },
    /// The best candidates were put in a new order.
    Rerank {
        /// The name of the reranker.
        reranker: String,
        /// How long it was waited for before the search, in milliseconds; `None` if the search computed the scores itself.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        waited_ms: Option<f64>,
        /// The candidates in their new order: as many as the search returns, or all, if the request asked for that.
        candidates: Vec<RerankRecord>,
    },
    /// The passages were chosen from the order.
    Choose {
        /// The number of candidates that came last because there were enough of their document.
        later: usize,
        /// The number of candidates that were left out because a better one has most of their text.
        #[serde(default)]
        left_out: usize,
        /// The chunks of the passages, in their order.
        passages: Vec<ChunkId>,
    },
    /// More of the documents was taken around the passages.
    Expand {
        /// What was added.
        kind: ExpansionKind,
        /// The number of passages that became a part of another.
        merged: usize,
        /// The number of passages that are left.
        passages: usize,
    },
    /// Sentences were selected for the answer.
    Extract {
        /// The terms of the question.
        terms: Vec<TermRecord>,
        /// The share of the question that the sentences cover.
        #[serde(serialize_with = "serialize_score")]
        coverage: f32,
        /// The probability that they answer it.
        #[serde(serialize_with = "serialize_score")]
        confidence: f32,
        /// The least probability of a sure answer.
        #[serde(serialize_with = "serialize_score")]
        min_confidence: f32,
        /// The probability that the corpus says something of what is asked.
        #[serde(serialize_with = "serialize_score")]
        related: f32,
        /// What both were told from, by name.
        facts: BTreeMap<String, f32>,
        /// The terms that no sentence covers.
        missing: Vec<String>,
        /// The best candidates, chosen or not, the best first; all of them, if the request asked for that.
        candidates: Vec<CandidateRecord>,
        /// The sentences.
        picked: Vec<SentenceRecord>,
    },
    /// Something was computed over tables, or could not be.
    Compute {
        /// What was asked for, such as `Greatest(1)`.
        operation: String,
        /// The titles of the tables that were looked at.
        tables: Vec<String>,
        /// What came of it; `None` if no table fits.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        result: Option<String>,
    },
    /// The claims were verified.
    Check {
        /// The claims, in the order of the answer.
        claims: Vec<ClaimRecord>,
    },
    /// A follow-up became a question that stands alone.
    Condense {
        /// The follow-up.
        follow_up: String,
        /// The question that was searched for.
        question: String,
    },
    /// Other searches were made of the question: by a generator, or of synonyms and abbreviations.
    Transform {
        /// The kind: `rewrite`, `split`, `hypothetical` or `wording`.
        kind: String,
        /// What is searched for besides the question.
        queries: Vec<String>,
    },
    /// The prompt was assembled.
    Prompt {
        /// The messages, exactly as they are sent.
        messages: Vec<Message>,
        /// The chunks in it, in the order of their markers.
        passages: Vec<ChunkId>,
        /// The chunks of which only the first sentences are in it.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        shortened: Vec<ChunkId>,
        /// The chunks that had no room, or that others contain.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        left_out: Vec<ChunkId>,
        /// The number of the oldest messages of the conversation that had no room.
        #[serde(default, skip_serializing_if = "is_zero")]
        messages_left_out: usize,
        /// The number of tokens of the messages, by the generator's estimate.
        prompt_tokens: u64,
    },
    /// A generator was called.
    Generate {
        /// The name of the generator.
        generator: String,
        /// The host that received the prompt; `None` for a generator on this machine.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        host: Option<String>,
        /// Whether the reply came from the cache.
        cached: bool,
        /// The number of attempts that failed before.
        retries: u32,
        /// The reply as it came, with what was masked put back.
        reply: String,
        /// Why the reply is not whole.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        broken: Option<String>,
        /// The cost, at the prices of the configuration.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        cost: Option<f64>,
    },
}

impl TraceDetails {
    /// Returns the name of the stage, as in JSON.
    pub fn stage(&self) -> &'static str {
        match self {
            Self::Ask { .. } => "ask",
            Self::Split { .. } => "split",
            Self::Digest { .. } => "digest",
            Self::Search { .. } => "search",
            Self::Filter { .. } => "filter",
            Self::Keyword { .. } => "keyword",
            Self::Vector { .. } => "vector",
            Self::Fusion { .. } => "fusion",
            Self::Rerank { .. } => "rerank",
            Self::Choose { .. } => "choose",
            Self::Leg { .. } => "leg",
            Self::LeftOut { .. } => "left_out",
            Self::Expand { .. } => "expand",
            Self::Extract { .. } => "extract",
            Self::Compute { .. } => "compute",
            Self::Check { .. } => "check",
            Self::Condense { .. } => "condense",
            Self::Transform { .. } => "transform",
            Self::Prompt { .. } => "prompt",
            Self::Generate { .. } => "generate",
        }
    }
}

/// A word that the corpus does not have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Misspelt {
    /// The word.
    pub word: String,
    /// The terms that were searched instead: stems of words.
    pub taken_for: Vec<String>,
}

/// A leg's part in a search.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegRecord {
    /// The weight of the leg.
    #[serde(serialize_with = "serialize_score")]
    pub weight: f32,
    /// The number of candidates that the leg found.
    pub found: usize,
    /// The score of the best candidate.
    #[serde(serialize_with = "serialize_optional_score")]
    pub best: Option<f32>,
}

/// A passage of a trace.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PassageRecord {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The name of the document.
    pub document: String,
    /// The score after fusion.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
    /// The rank and the score in each leg that found it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub legs: BTreeMap<String, LegScore>,
}

/// A candidate that was reranked.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RerankRecord {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The name of the document.
    pub document: String,
    /// Its rank before.
    pub from: usize,
    /// The score of the reranker, between 0 and 1.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
    /// How much each fact moved it from the mean of the candidates, in the sum that the score is made of, to two digits. What moved it by less
    /// than 0.05 is left out.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub shares: BTreeMap<String, f64>,
    /// What the reranker was given, to train it.
    #[serde(skip)]
    pub features: Vec<f32>,
}

/// A term of a question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TermRecord {
    /// The term.
    pub term: String,
    /// The weight.
    #[serde(serialize_with = "serialize_score")]
    pub weight: f32,
}

/// A sentence that may answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CandidateRecord {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The sentence.
    pub text: String,
    /// Its score; only the order means something.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
    /// What each feature added to the score, by name, the largest first.
    pub shares: Vec<(String, f32)>,
    /// Its features, in the order of [`FEATURE_NAMES`](crate::evidence::FEATURE_NAMES), if the request asked for all candidates.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub features: Vec<f32>,
    /// Why it is not in the answer; `None` if it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost: Option<String>,
}

/// A sentence that was selected.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SentenceRecord {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The sentence.
    pub text: String,
    /// The share of the question that it covers alone.
    #[serde(serialize_with = "serialize_score")]
    pub coverage: f32,
}

/// A claim that was verified.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClaimRecord {
    /// The verdict.
    pub verdict: Verdict,
    /// How much of the claim is supported.
    #[serde(serialize_with = "serialize_score")]
    pub support: f32,
    /// Why it is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

impl TraceRecord {
    /// Creates a step that has just begun. The caller sets the duration when it ends.
    pub fn new(id: u32, parent: Option<u32>, details: TraceDetails, start_ms: f64) -> Self {
        let (usage, outcome) = (TokenUsage::default(), StepOutcome::Done);
        Self { id, parent, details, start_ms, took_ms: 0.0, usage, outcome }
    }
}

impl Trace {
    /// Returns `true` if nothing was recorded.
    pub fn is_empty(&self) -> bool {
        self.records.is_empty()
    }

    /// Returns the depth of a step: 0 for the root.
    pub fn depth(&self, record: &TraceRecord) -> usize {
        let parent = record.parent.and_then(|parent| self.records.iter().find(|other| other.id == parent));
        parent.map_or(0, |parent| self.depth(parent) + 1)
    }
}

impl StepOutcome {
    /// Returns `true` if the step succeeded.
    pub fn is_done(&self) -> bool {
        *self == Self::Done
    }
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
fn is_zero(count: &usize) -> bool {
    *count == 0
}

#[allow(clippy::ref_option)] // the signature that serde asks for
fn serialize_optional_score<S: serde::Serializer>(score: &Option<f32>, serializer: S) -> Result<S::Ok, S::Error> {
    match score {
        Some(score) => serialize_score(score, serializer),
        None => serializer.serialize_none(),
    }
}
