//! What turns text into vectors.

use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::text::count_words;

/// What a text is, since some encoders treat the two differently.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Role {
    /// A question or search query.
    Query,
    /// A passage to be found.
    Passage,
}

/// Turns text into vectors of a fixed length.
///
/// Implement it to bring your own model; see `examples/own_encoder.rs`. Vectors need not be normalised: the index does that.
pub trait Encoder: Send + Sync {
    /// What a person would call it, such as `hashing, 512 dimensions`.
    fn name(&self) -> String;

    /// Changes whenever the same text would get another vector: weights, settings, version.
    fn fingerprint(&self) -> Fingerprint;

    /// The length of its vectors.
    fn dimensions(&self) -> usize;

    /// The most tokens of a text that it reads; what is behind them it does not see. Nothing when it reads all.
    fn max_tokens(&self) -> Option<usize> {
        None
    }

    /// How many tokens a text is to it. Words, unless it counts otherwise.
    fn count_tokens(&self, text: &str) -> usize {
        count_words(text)
    }

    /// The languages that it was made for, as codes of two letters; `None` means all.
    fn languages(&self) -> Option<Vec<String>> {
        None
    }

    /// Returns `true` if it runs elsewhere, so that encoding takes its time and may cost.
    fn is_remote(&self) -> bool {
        false
    }

    /// One vector for each text, in the order of the texts.
    ///
    /// # Errors
    /// If a text cannot be encoded. An empty text is not an error: its vector may be all zeros.
    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors>;
}

/// An encoder that also gives a vector for each token, for comparing texts token by token. They are as long as its others.
pub trait TokenEncoder: Encoder {
    /// For each text the vectors of its tokens, in their order.
    ///
    /// # Errors
    /// If a text cannot be encoded. A text without tokens is not an error: it has no vectors.
    fn encode_tokens(&self, texts: &[&str], role: Role) -> Result<Vec<Vectors>>;
}

/// Some vectors of one length, one after another.
#[derive(Clone, Debug, PartialEq)]
pub struct Vectors {
    dimensions: usize,
    values: Vec<f32>,
}

impl Vectors {
    /// An empty list of vectors of a length.
    pub fn new(dimensions: usize) -> Self {
        Self { dimensions, values: Vec::new() }
    }

    /// Adds a vector.
    ///
    /// # Errors
    /// If it has another length, or a component that is not a finite number.
    pub fn push(&mut self, vector: &[f32]) -> Result<()> {
        let problem = if vector.len() != self.dimensions {
            format!("a vector has {} components and not {}", vector.len(), self.dimensions)
        } else if let Some(at) = vector.iter().position(|value| !value.is_finite()) {
            format!("component {at} of a vector is {}", vector[at])
        } else {
            self.values.extend_from_slice(vector);
            return Ok(());
        };
        Err(Error::new(ErrorKind::Unreadable, format!("{problem}; check the encoder")))
    }

    /// The length of each vector.
    pub fn dimensions(&self) -> usize {
        self.dimensions
    }

    /// How many vectors there are.
    pub fn len(&self) -> usize {
        self.values.len().checked_div(self.dimensions).unwrap_or(0)
    }

    /// Returns `true` if there are none.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// The vectors in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &[f32]> {
        self.values.chunks_exact(self.dimensions.max(1))
    }
}
