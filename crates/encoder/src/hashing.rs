//! Feature hashing (Weinberger et al., 2009): words and pieces of words, signed, log-weighted.
//!
//! Each feature of a text is hashed to a place in the vector and a sign; a feature that comes `n` times adds
//! `1 + ln n` there. Features are the stems of words and the runs of three to five characters in each word, so that
//! `mooring` and `moorings`, and a word with a typing error, are near each other. It knows nothing of meaning.

use std::collections::HashMap;

use logothete_core::text::{fold, is_stopword, words};
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

/// The weight of all pieces of a word together, compared with the word itself.
const PIECES_SHARE: f32 = 0.5;
const MIN_PIECE: usize = 3;
const MAX_PIECE: usize = 5;

/// The hashing encoder. Costs a hash a feature; the same text gives the same vector on every machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Hashing {
    dimensions: usize,
}

impl Default for Hashing {
    fn default() -> Self {
        Self { dimensions: 512 }
    }
}

impl Hashing {
    /// Creates an encoder with vectors of a length between 16 and 65,536. More means fewer features that share a place.
    ///
    /// # Errors
    /// If the length is out of that range.
    pub fn new(dimensions: usize) -> Result<Self> {
        if (16..=65_536).contains(&dimensions) {
            Ok(Self { dimensions })
        } else {
            let message = format!("the hashing encoder takes 16 to 65536 dimensions, not {dimensions}");
            Err(Error::new(ErrorKind::Configuration, message))
        }
    }

    fn vector(self, text: &str) -> Vec<f32> {
        let mut counts: HashMap<u64, (u32, f32)> = HashMap::new();
        let mut add = |kind: u8, feature: &str, share: f32| {
            let entry = counts.entry(hash(kind, feature.as_bytes())).or_insert((0, share));
            entry.0 += 1;
        };
        for word in words(text) {
            let folded = fold(word.text);
            if is_stopword(&folded) {
                continue;
            }
            add(0, &word.term, 1.0);
            let edged: Vec<char> = format!("^{folded}$").chars().collect();
            let pieces: usize = (MIN_PIECE..=MAX_PIECE).map(|size| (edged.len() + 1).saturating_sub(size)).sum();
            let share = PIECES_SHARE / (pieces.max(1) as f32).sqrt();
            for size in MIN_PIECE..=MAX_PIECE {
                for piece in edged.windows(size) {
                    add(1, &piece.iter().collect::<String>(), share);
                }
            }
        }
        let mut features: Vec<(u64, (u32, f32))> = counts.into_iter().collect();
        // Sums of floats depend on their order, and the map's order changes from run to run.
        features.sort_unstable_by_key(|(hash, _)| *hash);
        let mut vector = vec![0.0; self.dimensions];
        for (hash, (count, share)) in features {
            let place = (hash >> 1) as usize % self.dimensions;
            let sign = if hash & 1 == 0 { 1.0 } else { -1.0 };
            vector[place] += sign * share * (1.0 + (count as f32).ln());
        }
        vector
    }
}

fn hash(kind: u8, feature: &[u8]) -> u64 {
    // FNV-1a, 64 bits, then a finishing mix, since its low bits are weak.
    let mut hash = 0xcbf2_9ce4_8422_2325u64;
    for &byte in [kind].iter().chain(feature) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3);
    }
    hash ^= hash >> 32;
    hash = hash.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    hash ^ (hash >> 29)
}

impl Encoder for Hashing {
    fn name(&self) -> String {
        format!("hashing, {} dimensions", self.dimensions)
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["hashing 1".to_owned(), self.dimensions.to_string()])
    }

    fn dimensions(&self) -> usize {
        self.dimensions
    }

    fn encode(&self, texts: &[&str], _role: Role) -> Result<Vectors> {
        let mut vectors = Vectors::new(self.dimensions);
        for text in texts {
            vectors.push(&self.vector(text))?;
        }
        Ok(vectors)
    }
}
