//! The interface of encoders, which turn text into vectors.

use std::sync::Arc;

use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::text::count_words;

/// The role of a text; some encoders treat the two differently.
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
    /// Returns its name for people, such as `hashing, 512 dimensions`.
    fn name(&self) -> String;

    /// Returns a text that changes if the same input would get another vector: weights, settings, version.
    fn fingerprint(&self) -> Fingerprint;

    /// Returns the length of its vectors.
    fn dimensions(&self) -> usize;

    /// Returns the highest number of tokens that it reads of a text; it ignores the rest. `None` means that it reads all.
    fn max_tokens(&self) -> Option<usize> {
        None
    }

    /// Returns the number of tokens of a text. By default this counts words.
    fn count_tokens(&self, text: &str) -> usize {
        count_words(text)
    }

    /// Returns the languages that it was trained for, as codes of two letters; `None` means all.
    fn languages(&self) -> Option<Vec<String>> {
        None
    }

    /// Returns `true` if it runs on another machine, so that encoding takes time and may cost money.
    fn is_remote(&self) -> bool {
        false
    }

    /// Returns itself as an encoder of tokens, if it has vectors of tokens too.
    fn by_token(&self) -> Option<&dyn TokenEncoder> {
        None
    }

    /// Returns one vector for each text, in order.
    ///
    /// # Errors
    /// If a text cannot be encoded. An empty text is not an error: its vector may be all zeros.
    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors>;
}

/// An encoder that also returns a vector for each token, to compare texts token by token.
pub trait TokenEncoder: Encoder {
    /// Returns the length of the vectors of tokens: that of its other vectors, or less.
    fn token_dimensions(&self) -> usize {
        self.dimensions()
    }

    /// Returns the vectors of the tokens of each text, in order.
    ///
    /// # Errors
    /// If a text cannot be encoded. A text without tokens is not an error: it has no vectors.
    fn encode_tokens(&self, texts: &[&str], role: Role) -> Result<Vec<Vectors>>;
}

/// Vectors of one length, one after another.
#[derive(Clone, Debug, PartialEq)]
pub struct Vectors {
    dimensions: usize,
    values: Vec<f32>,
}

impl Vectors {
    /// Creates an empty list of vectors of a length.
    pub fn new(dimensions: usize) -> Self {
        Self { dimensions, values: Vec::new() }
    }

    /// Adds a vector.
    ///
    /// # Errors
    /// If it has another length, or a component that is not finite.
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

    /// Returns the length of each vector.
    pub fn dimensions(&self) -> usize {
        self.dimensions
    }

    /// Returns the number of vectors.
    pub fn len(&self) -> usize {
        self.values.len().checked_div(self.dimensions).unwrap_or(0)
    }

    /// Returns `true` if there are no vectors.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// Returns a vector by its position; `None` past the end.
    pub fn get(&self, at: usize) -> Option<&[f32]> {
        self.values.get(at.checked_mul(self.dimensions)?..)?.get(..self.dimensions).filter(|_| self.dimensions > 0)
    }

    /// Returns the vectors in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &[f32]> {
        self.values.chunks_exact(self.dimensions.max(1))
    }
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: Encoder + ?Sized> Encoder for $pointer {
            fn name(&self) -> String {
                (**self).name()
            }

            fn fingerprint(&self) -> Fingerprint {
                (**self).fingerprint()
            }

            fn dimensions(&self) -> usize {
                (**self).dimensions()
            }

            fn max_tokens(&self) -> Option<usize> {
                (**self).max_tokens()
            }

            fn count_tokens(&self, text: &str) -> usize {
                (**self).count_tokens(text)
            }

            fn languages(&self) -> Option<Vec<String>> {
                (**self).languages()
            }

            fn is_remote(&self) -> bool {
                (**self).is_remote()
            }

            fn by_token(&self) -> Option<&dyn TokenEncoder> {
                (**self).by_token()
            }

            fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
                (**self).encode(texts, role)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);
