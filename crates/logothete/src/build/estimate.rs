//! What a build would do and cost, without doing it.

use std::time::Instant;

use logothete_core::Result;
use logothete_core::chunk::Chunk;
use logothete_core::cite::Tokens;
use logothete_core::vector::{Encoder, Role};
use rayon::prelude::*;
use serde::Serialize;

use super::batch::Change;
use super::encoding::read_tokens;
use super::plan::{self, Seen, Walk, Window};
use super::work::{Look, Outcome};
use super::{BuildReport, BuildRequest, Failure, contexts};
use crate::config::Settings;
use crate::corpus::{Cache, Inner};
use crate::pool::Waiter;

/// How many texts are encoded to measure the encoder's speed.
const SAMPLE: usize = 48;

/// What a build would do and cost.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Estimate {
    /// The documents that would be read or cut again.
    pub documents: Vec<DocumentEstimate>,
    /// Documents that are as they were.
    pub unchanged: usize,
    /// Files that could not be read.
    pub failed: Vec<Failure>,
    /// All documents together. In JSON its fields stand beside the others.
    #[serde(flatten)]
    pub total: DocumentEstimate,
    /// The tokens a second that the encoder was just seen to read; nothing where it runs elsewhere, since trying it could
    /// cost.
    pub tokens_per_second: Option<f64>,
}

/// What a build would do with a document.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct DocumentEstimate {
    /// Its name.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub document: String,
    /// How many chunks it would have.
    pub chunks: usize,
    /// How many of them were encoded before, and are kept.
    pub chunks_cached: usize,
    /// The tokens that the encoder would read of the others.
    pub encoded_tokens: u64,
    /// How long encoding them would take, in seconds, at the speed just measured.
    pub seconds: Option<f64>,
    /// Contexts that a generator would write.
    pub contexts: usize,
    /// Contexts that were written before and are kept.
    pub contexts_cached: usize,
    /// What the generator would read, and at most write.
    pub tokens: Tokens,
    /// What all tokens cost at the prices of the settings, in their currency; nothing where no price is set.
    pub cost: Option<f64>,
}

/// Reads and cuts what a build would, and counts.
pub(crate) fn run(inner: &Inner, request: &BuildRequest, waiter: &Waiter) -> Result<Estimate> {
    let mut report = BuildReport::default();
    let mut estimate = Estimate::default();
    let look = Look::new(inner, request, waiter, None);
    let mut sample = Vec::new();
    let planned = plan::sources(&mut inner.catalogue(), request, true, &mut report)?;
    let mut seen = Seen::default();
    for source in &planned {
        let Some(mut walk) = Walk::begin(source, waiter, &mut report) else { continue };
        loop {
            let window = walk.next(Window::of(&inner.pipeline.settings), &inner.catalogue(), &mut seen, &mut report)?;
            if window.is_empty() || request.stop_token().is_stopped() {
                break;
            }
            let outcomes: Vec<Result<Looked>> = window
                .par_iter()
                .map(|candidate| match look.at(candidate) {
                    Outcome::Unchanged(_) | Outcome::Stopped => Ok(Looked::Unchanged),
                    Outcome::Failed(failure) => Ok(Looked::Failed(failure)),
                    Outcome::Read(change) => document(inner, &change),
                })
                .collect();
            for outcome in outcomes {
                match outcome? {
                    Looked::Unchanged => estimate.unchanged += 1,
                    Looked::Failed(failure) => report.failed.push(failure),
                    Looked::Read(document, texts) => {
                        sample.extend(texts.into_iter().take(SAMPLE - sample.len()));
                        estimate.documents.push(document);
                    }
                }
            }
        }
    }
    estimate.failed = report.failed;
    estimate.tokens_per_second = speed(&*inner.pipeline.encoder, &sample)?;
    estimate.complete(&inner.pipeline.settings);
    Ok(estimate)
}

/// Counts what a document needs; also gives some of the texts that are to be encoded.
fn document(inner: &Inner, change: &Change) -> Result<Looked> {
    let needed = contexts::estimate(inner, &change.document, &change.chunks)?;
    let encoder = &*inner.pipeline.encoder;
    let fingerprint = encoder.fingerprint();
    let texts: Vec<String> = change.chunks.iter().map(Chunk::indexed_text).collect();
    let keys: Vec<[u8; 32]> = texts.iter().map(|text| Cache::vector_key(&fingerprint, text)).collect();
    let cached = inner.cache.vectors(&keys)?;
    let missing = texts.iter().zip(&cached).filter(|(_, cached)| cached.is_none()).map(|(text, _)| text);
    let document = DocumentEstimate {
        document: change.document.name.clone(),
        chunks: texts.len(),
        chunks_cached: cached.iter().flatten().count(),
        encoded_tokens: missing.clone().map(|text| read_tokens(encoder, text)).sum(),
        contexts: needed.asked,
        contexts_cached: needed.cached,
        tokens: needed.tokens,
        ..DocumentEstimate::default()
    };
    Ok(Looked::Read(document, missing.take(SAMPLE).cloned().collect()))
}

/// The tokens a second that an encoder reads of some texts. One that runs elsewhere is not tried.
fn speed(encoder: &dyn Encoder, texts: &[String]) -> Result<Option<f64>> {
    if encoder.is_remote() || texts.is_empty() {
        return Ok(None);
    }
    let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
    let tokens: u64 = texts.iter().map(|text| read_tokens(encoder, text)).sum();
    // The first time is slower: what it needs is not in memory yet.
    encoder.encode(&texts[..1], Role::Passage)?;
    let since = Instant::now();
    encoder.encode(&texts, Role::Passage)?;
    Ok(Some(tokens as f64 / since.elapsed().as_secs_f64().max(1e-9)))
}

enum Looked {
    Unchanged,
    Failed(Failure),
    Read(DocumentEstimate, Vec<String>),
}

impl Estimate {
    /// Works out times and costs, and sums up.
    fn complete(&mut self, settings: &Settings) {
        let priced = settings.has_prices();
        for document in &mut self.documents {
            document.seconds = self.tokens_per_second.map(|speed| document.encoded_tokens as f64 / speed);
            let cost = settings.price(document.tokens) + settings.price_of_encoding(document.encoded_tokens);
            document.cost = priced.then_some(cost);
            self.total.add(document);
        }
        if self.total.encoded_tokens == 0 {
            self.total.seconds = Some(0.0);
        }
        if priced {
            self.total.cost.get_or_insert(0.0);
        }
    }
}

impl DocumentEstimate {
    fn add(&mut self, other: &Self) {
        let sum = |a: Option<f64>, b: Option<f64>| b.map(|b| a.unwrap_or(0.0) + b);
        self.chunks += other.chunks;
        self.chunks_cached += other.chunks_cached;
        self.encoded_tokens += other.encoded_tokens;
        self.seconds = sum(self.seconds, other.seconds);
        self.contexts += other.contexts;
        self.contexts_cached += other.contexts_cached;
        self.tokens.sent += other.tokens.sent;
        self.tokens.received += other.tokens.received;
        self.cost = sum(self.cost, other.cost);
    }
}
