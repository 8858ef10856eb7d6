//! From text to the numbers of its tokens.

mod json;
mod normalise;
#[cfg(feature = "tokenizers")]
mod other;
mod vocabulary;
mod wordpiece;

use logothete_core::Result;

pub use json::read;
pub use normalise::Normaliser;
pub use vocabulary::Vocabulary;
pub use wordpiece::{WordPiece, WordPieceSettings};

/// Tokenisers, which turn text into tokens.
pub enum Tokeniser {
    /// Words cut into the longest pieces of a vocabulary.
    WordPiece(WordPiece),
    /// Whatever else a `tokenizer.json` describes.
    #[cfg(feature = "tokenizers")]
    Other(Box<other::Other>),
}

impl Tokeniser {
    /// Returns the tokens of a text, without those that mark its ends, up to `most` of them.
    ///
    /// # Errors
    /// If the tokeniser fails. That of word pieces never fails.
    pub fn tokens(&self, text: &str, most: usize) -> Result<Vec<u32>> {
        match self {
            Self::WordPiece(pieces) => Ok(pieces.tokens(text, most)),
            #[cfg(feature = "tokenizers")]
            Self::Other(other) => other.tokens(text, most),
        }
    }

    /// Returns the tokens that mark the beginning and the end of a text.
    pub fn ends(&self) -> (&[u32], &[u32]) {
        match self {
            Self::WordPiece(pieces) => (&pieces.settings().before, &pieces.settings().after),
            #[cfg(feature = "tokenizers")]
            Self::Other(other) => other.ends(),
        }
    }
}
