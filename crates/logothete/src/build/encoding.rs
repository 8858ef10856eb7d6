//! Encoding what a build needs: from what is kept, from the cache, or by the encoder, in that order.

use std::collections::HashMap;

use logothete_core::chunk::ChunkId;
use logothete_core::vector::{Encoder, Role};
use logothete_core::{Error, ErrorKind, Result};

use super::spending::Spending;
use super::{Meter, StopToken};
use crate::corpus::{Cache, Indexed, Inner};

/// How many texts are encoded before their vectors are kept and the caps are looked at again.
const AT_ONCE: usize = 64;

/// A text that is indexed.
pub(super) struct Wanted {
    /// The place of its chunk in the document.
    pub at: usize,
    pub chunk: ChunkId,
    /// What the encoder reads.
    pub text: String,
    pub indexed: Indexed,
}

/// The vector of a text.
#[derive(Clone)]
pub(super) struct Encoded {
    pub vector: Vec<f32>,
    /// Whether the encoder made it just now.
    pub fresh: bool,
}

/// What came of encoding.
pub(super) struct Outcome {
    /// For each text its vector, if there was the time and the money for all texts of its document.
    pub vectors: Vec<Option<Encoded>>,
    /// The tokens that the encoder read.
    pub tokens: u64,
}

/// What encoding needs to know.
pub(super) struct Encoding<'a> {
    pub inner: &'a Inner,
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
}

impl Encoding<'_> {
    /// Encodes the texts of some documents with these names. What is `known` already, in the same order, is taken as it is.
    pub(super) fn run(
        &self,
        documents: &[(&str, &[Wanted])],
        known: &[Option<&Vec<f32>>],
        meter: &mut Meter<'_>,
    ) -> Result<Outcome> {
        let encoder = &*self.inner.pipeline.encoder;
        let all: Vec<(&str, &Wanted)> =
            documents.iter().flat_map(|(name, texts)| texts.iter().map(move |wanted| (*name, wanted))).collect();
        if all.is_empty() {
            return Ok(Outcome { vectors: Vec::new(), tokens: 0 });
        }
        let fingerprint = encoder.fingerprint();
        let keys: Vec<[u8; 32]> = all.iter().map(|(_, wanted)| Cache::vector_key(&fingerprint, &wanted.text)).collect();
        let cached = self.inner.cache.vectors(&keys)?;
        let usable = |vector: &Vec<f32>| vector.len() == encoder.dimensions();
        let found = known.iter().zip(cached).map(|(known, cached)| known.cloned().or(cached.filter(usable)));
        let mut vectors: Vec<Option<Encoded>> =
            found.map(|found| found.map(|vector| Encoded { vector, fresh: false })).collect();

        let missing = self.affordable(documents, &keys, &vectors);
        let mut tokens = 0;
        for (part, some) in missing.chunks(AT_ONCE).enumerate() {
            if self.stop.is_stopped() {
                break;
            }
            meter.encoding(part * AT_ONCE, missing.len());
            let texts: Vec<&str> = some.iter().map(|&at| all[at].1.text.as_str()).collect();
            tokens += texts.iter().map(|text| read_tokens(encoder, text)).sum::<u64>();
            let made = encode(self.inner, &texts)?;
            let kept = some.iter().zip(&made).map(|(&at, vector)| (keys[at], vector.as_slice(), all[at].0));
            self.inner.cache.put_vectors(kept)?;
            for (&at, vector) in some.iter().zip(made) {
                vectors[at] = Some(Encoded { vector, fresh: true });
            }
        }
        // The same text again has the same vector.
        let by_key: HashMap<[u8; 32], Vec<f32>> =
            keys.iter().zip(&vectors).filter_map(|(key, found)| Some((*key, found.as_ref()?.vector.clone()))).collect();
        for (key, vector) in keys.iter().zip(&mut vectors) {
            if vector.is_none() {
                *vector = by_key.get(key).map(|vector| Encoded { vector: vector.clone(), fresh: false });
            }
        }
        Ok(Outcome { vectors, tokens })
    }

    /// The texts that have to be encoded, each once, up to the first document that there is no money for.
    fn affordable(&self, documents: &[(&str, &[Wanted])], keys: &[[u8; 32]], found: &[Option<Encoded>]) -> Vec<usize> {
        let encoder = &*self.inner.pipeline.encoder;
        let mut first: HashMap<[u8; 32], usize> = HashMap::new();
        let mut missing = Vec::new();
        let mut begun = 0;
        for (_, texts) in documents {
            let places = begun..begun + texts.len();
            begun = places.end;
            let new: Vec<usize> = places
                .clone()
                .filter(|&at| found[at].is_none() && *first.entry(keys[at]).or_insert(at) == at)
                .collect();
            let tokens = new.iter().map(|&at| read_tokens(encoder, &texts[at - places.start].text)).sum();
            if !new.is_empty() && !self.spending.spend(tokens, self.inner.pipeline.settings.price_of_encoding(tokens)) {
                break;
            }
            missing.extend(new);
        }
        missing
    }
}

/// The tokens that an encoder reads of a text.
pub(super) fn read_tokens(encoder: &dyn Encoder, text: &str) -> u64 {
    encoder.count_tokens(text).min(encoder.longest().unwrap_or(usize::MAX)) as u64
}

/// Encodes passages.
pub(super) fn encode(inner: &Inner, texts: &[&str]) -> Result<Vec<Vec<f32>>> {
    let vectors = inner.pipeline.encoder.encode(texts, Role::Passage)?;
    if vectors.len() == texts.len() {
        Ok(vectors.iter().map(<[f32]>::to_vec).collect())
    } else {
        let message =
            format!("the encoder gave {} vectors for {} texts; check the encoder", vectors.len(), texts.len());
        Err(Error::new(ErrorKind::Unreadable, message))
    }
}
