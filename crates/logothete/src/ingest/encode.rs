//! Encoding: vectors that the document had before, then the cache, then the encoder.

use std::collections::HashMap;
use std::fmt;
use std::time::{Duration, Instant};

use logothete_core::chunk::ChunkId;
use logothete_core::vector::{Encoder, Role};
use logothete_core::{Error, ErrorKind, Result};

use super::Meter;
use crate::opened::Opened;
use crate::spending::Spending;
use crate::storage::{CachedVector, Indexed, VectorKey, vector_key};
use crate::threads::{Driver, StopToken, caught_in};

/// The number of texts that are encoded between two commits to the cache, where a stop is checked too.
const BATCH_TEXTS: usize = 64;

/// A text that is indexed.
pub(crate) struct Text {
    /// The place of its chunk in the document.
    pub at: usize,
    pub chunk: ChunkId,
    /// The text for the encoder.
    pub text: String,
    pub indexed: Indexed,
}

impl Text {
    pub(crate) fn new(at: usize, chunk: ChunkId, indexed: Indexed) -> Self {
        Self { at, chunk, text: indexed.text(), indexed }
    }
}

/// The vector of a text.
#[derive(Clone)]
pub(crate) struct Vector {
    pub vector: Vec<f32>,
    /// Whether the encoder computed it just now.
    pub fresh: bool,
}

/// The result of encoding.
pub(crate) struct Encoded {
    /// For each text its vector, if there was the time and the money for all texts of its document.
    pub vectors: Vec<Option<Vector>>,
    /// The tokens that the encoder read.
    pub tokens: u64,
}

/// The input of encoding.
pub(crate) struct Encoding<'a> {
    pub opened: &'a Opened,
    pub driver: &'a Driver,
    pub spending: &'a Spending,
    /// What stops it; `None` means that it is done whatever happens, unless there is no money for it.
    pub stop: Option<&'a StopToken>,
}

impl Encoding<'_> {
    /// Encodes the texts of some documents with these names. What is `known` already, in the same order, is taken as it is.
    pub(crate) fn run(
        &self,
        documents: &[(&str, &[Text])],
        known: &[Option<&Vec<f32>>],
        meter: &mut Meter<'_>,
    ) -> Result<Encoded> {
        let encoder = &*self.opened.encoder;
        let all: Vec<(&str, &Text)> =
            documents.iter().flat_map(|(name, texts)| texts.iter().map(move |wanted| (*name, wanted))).collect();
        if all.is_empty() {
            return Ok(Encoded { vectors: Vec::new(), tokens: 0 });
        }
        let fingerprint = encoder.fingerprint();
        let keys: Vec<VectorKey> = all.iter().map(|(_, text)| vector_key(fingerprint.as_str(), &text.text)).collect();
        let cached = self.opened.storage.cache.vectors(&keys)?;
        let usable = |vector: &Vec<f32>| vector.len() == encoder.dimensions();
        let cached = keys.iter().map(|key| cached.get(key).cloned().filter(usable));
        let found = known.iter().zip(cached).map(|(known, cached)| known.cloned().or(cached));
        let mut vectors: Vec<Option<Vector>> =
            found.map(|found| found.map(|vector| Vector { vector, fresh: false })).collect();

        let missing = self.affordable(documents, &keys, &vectors)?;
        let mut tokens = 0;
        let mut clock = Clock::new(self.opened.config().limits.encoding_seconds);
        for (part, some) in missing.chunks(BATCH_TEXTS).enumerate() {
            if self.stop.is_some_and(|stop| stop.is_stopped() || self.spending.is_late()) {
                break;
            }
            clock.check()?;
            meter.encoding(part * BATCH_TEXTS, missing.len());
            let texts: Vec<&str> = some.iter().map(|&at| all[at].1.text.as_str()).collect();
            let counts: Vec<u64> = texts.iter().map(|text| read_tokens(encoder, text)).collect();
            tokens += counts.iter().sum::<u64>();
            let since = Instant::now();
            let made = encode(self.opened, self.driver, &texts)?;
            let owners = some.iter().map(|&at| all[at].0);
            clock.share(since.elapsed(), owners.zip(counts));
            let new =
                some.iter().zip(&made).map(|(&at, vector)| CachedVector { key: keys[at], vector, owner: all[at].0 });
            self.opened.storage.cache.put_vectors(&new.collect::<Vec<_>>())?;
            for (&at, vector) in some.iter().zip(made) {
                vectors[at] = Some(Vector { vector, fresh: true });
            }
        }
        // The same text again has the same vector.
        let by_key: HashMap<VectorKey, Vec<f32>> =
            keys.iter().zip(&vectors).filter_map(|(key, found)| Some((*key, found.as_ref()?.vector.clone()))).collect();
        for (key, vector) in keys.iter().zip(&mut vectors) {
            if vector.is_none() {
                *vector = by_key.get(key).map(|vector| Vector { vector: vector.clone(), fresh: false });
            }
        }
        Ok(Encoded { vectors, tokens })
    }

    /// Returns the texts that have to be encoded, each once, up to the first document that there is no money for.
    ///
    /// # Errors
    /// If one of the documents has more tokens than is allowed.
    fn affordable(
        &self,
        documents: &[(&str, &[Text])],
        keys: &[VectorKey],
        found: &[Option<Vector>],
    ) -> Result<Vec<usize>> {
        let encoder = &*self.opened.encoder;
        let most = self.opened.config().limits.file_tokens;
        let mut first: HashMap<VectorKey, usize> = HashMap::new();
        let mut wanted: Vec<(Vec<usize>, u64)> = Vec::with_capacity(documents.len());
        let mut begun = 0;
        for (_, texts) in documents {
            let places = begun..begun + texts.len();
            begun = places.end;
            let new: Vec<usize> = places
                .clone()
                .filter(|&at| found[at].is_none() && *first.entry(keys[at]).or_insert(at) == at)
                .collect();
            let tokens = new.iter().map(|&at| read_tokens(encoder, &texts[at - places.start].text)).sum();
            if tokens > most {
                let message = format!(
                    "encoding it would read {tokens} tokens, and {most} are allowed; raise file_tokens in [limits], or split it"
                );
                return Err(Error::new(ErrorKind::Limit, message).because(TooManyTokens));
            }
            wanted.push((new, tokens));
        }
        let mut missing = Vec::new();
        for (new, tokens) in wanted {
            if !new.is_empty() && !self.spending.spend(tokens, self.opened.config().encoder.price_of(tokens)) {
                break;
            }
            missing.extend(new);
        }
        Ok(missing)
    }
}

/// The cause of an error that the same document meets again, whenever it is built within the same limits.
#[derive(Debug)]
struct TooManyTokens;

impl fmt::Display for TooManyTokens {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("too many tokens")
    }
}

impl std::error::Error for TooManyTokens {}

/// Returns `true` if encoding the same document would fail again. What took too long is gone on with by a later build.
pub(super) fn fails_again(error: &Error) -> bool {
    std::error::Error::source(error).and_then(|cause| cause.downcast_ref::<TooManyTokens>()).is_some()
}

/// The time that documents have taken.
struct Clock<'a> {
    most: u64,
    /// For each document by name, in seconds.
    taken: HashMap<&'a str, f64>,
}

impl<'a> Clock<'a> {
    fn new(most: u64) -> Self {
        Self { most, taken: HashMap::new() }
    }

    /// Shares the time for some texts out among their documents, by the numbers of tokens.
    fn share(&mut self, time: Duration, texts: impl Iterator<Item = (&'a str, u64)> + Clone) {
        let all: u64 = texts.clone().map(|(_, tokens)| tokens).sum();
        for (document, tokens) in texts {
            *self.taken.entry(document).or_default() += time.as_secs_f64() * tokens as f64 / all.max(1) as f64;
        }
    }

    /// # Errors
    /// If a document has taken longer than is allowed.
    fn check(&self) -> Result<()> {
        if self.taken.values().all(|taken| *taken <= self.most as f64) {
            return Ok(());
        }
        let message = format!(
            "encoding it took more than {} s and was stopped; what was encoded is kept: raise encoding_seconds in [limits] to go on, or split it",
            self.most
        );
        Err(Error::new(ErrorKind::Limit, message))
    }
}

/// Returns the tokens that an encoder reads of a text.
pub(super) fn read_tokens(encoder: &dyn Encoder, text: &str) -> u64 {
    encoder.count_tokens(text).min(encoder.max_tokens().unwrap_or(usize::MAX)) as u64
}

/// Encodes passages. An encoder that is a service is waited for on the driver; any other computes on the pool.
fn encode(opened: &Opened, driver: &Driver, texts: &[&str]) -> Result<Vec<Vec<f32>>> {
    let encoder = &*opened.encoder;
    let vectors = match encoder.is_remote() {
        true => caught_in("the encoder", || encoder.encode(texts, Role::Passage))?,
        false => driver.compute(|| caught_in("the encoder", || encoder.encode(texts, Role::Passage)))?,
    };
    if vectors.len() == texts.len() {
        Ok(vectors.iter().map(<[f32]>::to_vec).collect())
    } else {
        let message =
            format!("the encoder returned {} vectors for {} texts; check the encoder", vectors.len(), texts.len());
        Err(Error::new(ErrorKind::Unreadable, message))
    }
}
