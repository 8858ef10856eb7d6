//! Fingerprints: the effect of a stage on an input, in sixteen characters.
//!
//! A stage's fingerprint covers the version of its algorithm and its settings. The corpus keeps the fingerprints of the stages
//! that made a document's chunks and vectors; a build redoes only the changed ones.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A short, stable hash: 64 bits of BLAKE3, written as 16 hexadecimal digits.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Fingerprint(String);

impl Fingerprint {
    /// Computes the fingerprint of parts in order. Parts are kept apart: `["ab", "c"]` and `["a", "bc"]` differ.
    pub fn of<I>(parts: I) -> Self
    where
        I: IntoIterator,
        I::Item: AsRef<[u8]>,
    {
        let mut hasher = blake3::Hasher::new();
        for part in parts {
            let bytes = part.as_ref();
            hasher.update(&(bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        }
        Self(hasher.finalize().to_hex()[..16].to_owned())
    }

    /// Parses a written fingerprint.
    pub fn from_stored(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// Returns the sixteen digits.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl AsRef<[u8]> for Fingerprint {
    fn as_ref(&self) -> &[u8] {
        self.0.as_bytes()
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
