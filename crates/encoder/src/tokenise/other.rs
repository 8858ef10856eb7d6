//! Tokenisers of other kinds, by a library that reads them all.

use logothete_core::{Error, ErrorKind, Result};
use tokenizers::Tokenizer;

/// A tokeniser of any kind.
pub struct Other {
    tokeniser: Tokenizer,
    before: Vec<u32>,
    after: Vec<u32>,
}

impl Other {
    /// From a `tokenizer.json`.
    ///
    /// # Errors
    /// If the library does not read it.
    pub fn new(bytes: &[u8]) -> Result<Self> {
        let mut tokeniser = Tokenizer::from_bytes(bytes)
            .map_err(|e| Error::new(ErrorKind::Unreadable, "the tokeniser cannot be read").because(e))?;
        tokeniser.with_padding(None);
        // Cutting is done here, where it is counted.
        tokeniser.with_truncation(None).map_err(failed)?;
        // A text of one word shows the tokens around a text.
        let bare = tokeniser.encode("a", false).map_err(failed)?;
        let whole = tokeniser.encode("a", true).map_err(failed)?;
        let (bare, whole) = (bare.get_ids(), whole.get_ids());
        let at = whole.windows(bare.len().max(1)).position(|window| window == bare).unwrap_or(0);
        let (before, after) = (whole[..at].to_vec(), whole.get(at + bare.len()..).unwrap_or_default().to_vec());
        Ok(Self { tokeniser, before, after })
    }

    /// Returns the tokens of a text, up to `most` of them.
    ///
    /// # Errors
    /// If the library fails.
    pub fn tokens(&self, text: &str, most: usize) -> Result<Vec<u32>> {
        let encoded = self.tokeniser.encode(text, false).map_err(failed)?;
        let ids = encoded.get_ids();
        Ok(ids[..ids.len().min(most)].to_vec())
    }

    /// Returns the tokens that mark the beginning and the end of a text.
    pub fn ends(&self) -> (&[u32], &[u32]) {
        (&self.before, &self.after)
    }
}

fn failed(error: tokenizers::Error) -> Error {
    Error::new(ErrorKind::Unreadable, "the tokeniser failed on a text").because(error)
}
