//! Identities of chunks.

use std::collections::HashMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::fingerprint::Fingerprint;

/// The identity of a chunk: a hash of its document's identity, its text, and the number of later chunks with the same text.
///
/// An edit elsewhere in the document does not change it.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ChunkId(Fingerprint);

impl ChunkId {
    /// Parses a written id.
    pub fn from_stored(text: impl Into<String>) -> Self {
        Self(Fingerprint::from_stored(text))
    }

    /// Returns the sixteen digits.
    pub fn as_str(&self) -> &str {
        self.0.as_str()
    }
}

impl fmt::Display for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Debug for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Returns the ids of the chunks of a document, given their texts in order.
///
/// Repeated texts are counted from the end, so that an insertion at the top changes no id below.
pub(super) fn ids(identity: &str, texts: &[&str]) -> Vec<ChunkId> {
    let mut left: HashMap<&str, u64> = HashMap::new();
    for text in texts {
        *left.entry(text).or_default() += 1;
    }
    texts
        .iter()
        .map(|text| {
            let count = left.entry(text).or_default();
            *count = count.saturating_sub(1);
            ChunkId(Fingerprint::of([identity.as_bytes(), text.as_bytes(), &count.to_le_bytes()]))
        })
        .collect()
}
