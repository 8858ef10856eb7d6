//! Estimates the work and the cost of a build without doing it.

use std::time::Instant;

use logothete_core::chunk::Chunk;
use logothete_core::vector::{Encoder, Role, token_bytes};
use logothete_core::{Result, TokenUsage};
use serde::Serialize;

use super::batch::Change;
use super::encode::read_tokens;
use super::list::{self, Seen, Walk, Window};
use super::read::{FileOutcome, Reader};
use super::{BuildReport, BuildRequest, Failure, contexts};
use crate::config::Config;
use crate::opened::Opened;
use crate::storage::{VectorKey, vector_key};
use crate::threads::Driver;
use crate::tree::{TreeCounter, TreeEstimate};

/// The number of texts that are encoded to measure the speed of the encoder.
const SAMPLE: usize = 48;

/// The work and the cost of a build.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Estimate {
    /// The documents that would be read or cut again.
    pub documents: Vec<DocumentEstimate>,
    /// Documents that are as they were.
    pub unchanged: usize,
    /// Files that could not be read.
    pub failed: Vec<Failure>,
    /// The sums over all documents. In JSON, its fields are beside the others.
    #[serde(flatten)]
    pub total: DocumentEstimate,
    /// The size of the index of tokens for the chunks that would be encoded, by the settings of `[index]`; 0 without one. Their tokens are encoded
    /// once more for it.
    pub token_index_bytes: u64,
    /// What a model would be asked for summaries of these documents; `None` if none writes any. Its price is part of the total.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tree: Option<TreeEstimate>,
    /// The tokens a second that the encoder was just seen to read; `None` if it runs elsewhere, since trying it could
    /// cost.
    pub tokens_per_second: Option<f64>,
}

/// The work of a build on a document.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct DocumentEstimate {
    /// Its name.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub document: String,
    /// The number of chunks.
    pub chunks: usize,
    /// The number of chunks whose vectors exist and are kept.
    pub chunks_cached: usize,
    /// The tokens that the encoder would read of the others.
    pub encoded_tokens: u64,
    /// How long encoding them would take, in seconds, at the speed just measured.
    pub seconds: Option<f64>,
    /// Contexts that a generator would write.
    pub contexts: usize,
    /// Contexts that were written before and are kept.
    pub contexts_cached: usize,
    /// The tokens that the generator would read, and at most write.
    pub tokens: TokenUsage,
    /// The cost of all tokens at the prices of the settings, in their currency; `None` if no price is set.
    pub cost: Option<f64>,
}

/// Reads and cuts what a build would, and counts.
pub(crate) fn run(opened: &Opened, driver: &Driver, request: &BuildRequest) -> Result<Estimate> {
    let mut report = BuildReport::default();
    let mut estimate = Estimate::default();
    let reader = Reader::new(opened, driver, request);
    let mut sample = Vec::new();
    let mut tree = TreeCounter::new(opened)?;
    let planned = list::sources(&opened.storage, None, request, &mut report)?;
    let mut seen = Seen::default();
    for source in &planned {
        let Some(mut walk) = Walk::begin(source, driver, &mut report) else { continue };
        loop {
            let room = Window::of(&opened.config().limits);
            let window = walk.next(room, &*opened.storage.read()?, &mut seen, &mut report)?;
            if window.is_empty() || request.stop_token().is_stopped() {
                break;
            }
            let (same, window): (Vec<_>, Vec<_>) = window.into_iter().partition(|item| reader.is_unchanged(item));
            estimate.unchanged += same.len();
            for outcome in reader.read(&window, None)? {
                match outcome {
                    FileOutcome::Unchanged(_) | FileOutcome::Stopped => estimate.unchanged += 1,
                    FileOutcome::Failed(failure, _) => report.failed.push(failure),
                    FileOutcome::Read(change) => {
                        let (document, texts) = document(opened, &change)?;
                        if let Some(tree) = &mut tree {
                            change.chunks.iter().for_each(|chunk| tree.add(&chunk.text));
                        }
                        sample.extend(texts.into_iter().take(SAMPLE - sample.len()));
                        estimate.documents.push(document);
                    }
                }
            }
        }
    }
    estimate.failed = report.failed;
    estimate.tokens_per_second = driver.compute(|| speed(&*opened.encoder, &sample))?;
    estimate.complete(opened.config());
    if let Some(tree) = tree {
        let (told, price) = tree.finish(opened)?;
        estimate.tree = Some(told);
        estimate.total.cost = estimate.total.cost.map(|cost| cost + price);
    }
    if let Some(encoder) = opened.encoder.by_token() {
        let bits = opened.config().index.tokens;
        estimate.token_index_bytes = estimate.total.encoded_tokens * token_bytes(encoder.token_dimensions(), bits);
    }
    Ok(estimate)
}

/// Counts what a document needs; also returns some of the texts that would be encoded.
fn document(opened: &Opened, change: &Change) -> Result<(DocumentEstimate, Vec<String>)> {
    let needed = contexts::estimate(opened, &change.document, &change.chunks)?;
    let encoder = &*opened.encoder;
    let fingerprint = encoder.fingerprint();
    let texts: Vec<String> = change.chunks.iter().map(Chunk::indexed_text).collect();
    let keys: Vec<VectorKey> = texts.iter().map(|text| vector_key(fingerprint.as_str(), text)).collect();
    let cached = opened.storage.cache.vectors(&keys)?;
    let missing = texts.iter().zip(&keys).filter(|(_, key)| !cached.contains_key(*key)).map(|(text, _)| text);
    let document = DocumentEstimate {
        document: change.document.name.clone(),
        chunks: texts.len(),
        chunks_cached: keys.iter().filter(|key| cached.contains_key(*key)).count(),
        encoded_tokens: missing.clone().map(|text| read_tokens(encoder, text)).sum(),
        contexts: needed.asked,
        contexts_cached: needed.cached,
        tokens: needed.tokens,
        ..DocumentEstimate::default()
    };
    Ok((document, missing.take(SAMPLE).cloned().collect()))
}

/// Returns the tokens a second that an encoder reads of some texts. One that runs elsewhere is not tried.
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

impl Estimate {
    /// Works out times and costs, and sums up.
    fn complete(&mut self, config: &Config) {
        let priced = config.has_prices();
        for document in &mut self.documents {
            document.seconds = self.tokens_per_second.map(|speed| document.encoded_tokens as f64 / speed);
            document.cost = config.cost(document.tokens, document.encoded_tokens);
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
        self.tokens += other.tokens;
        self.cost = sum(self.cost, other.cost);
    }
}
