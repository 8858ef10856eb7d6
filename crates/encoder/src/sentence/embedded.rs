//! The encoder that is part of the program.

use std::borrow::Cow;

use logothete_core::{Error, ErrorKind, Result};

use super::pack::Packed;
use super::{SentenceEncoder, kept_of_token};
use crate::bert::{Network, Rooms};
use crate::kernel::Kernel;
use crate::tokenise::{Tokeniser, Vocabulary, WordPiece};
use crate::weights::Tensors;

impl SentenceEncoder {
    /// Creates an encoder from files that [`pack`](super::pack()) made: `encoder.json` and the tensors, by name.
    ///
    /// # Errors
    /// If a file or a tensor is missing, or does not fit the others.
    pub fn from_packed(files: &[(&str, Cow<'static, [u8]>)]) -> Result<Self> {
        let find = |name: &str| {
            let found = files.iter().find(|(file, _)| *file == name).map(|(_, bytes)| bytes);
            found.ok_or_else(|| Error::new(ErrorKind::NotFound, "it is not among the packed files").at(name.to_owned()))
        };
        let broken = |name: &str| Error::new(ErrorKind::Unreadable, "it cannot be read; pack the model again").at(name);
        let packed: Packed =
            serde_json::from_slice(find("encoder.json")?).map_err(|e| broken("encoder.json").because(e))?;
        let mut tensors = Tensors::default();
        for (name, bytes) in files.iter().filter(|(name, _)| name.ends_with(".safetensors")) {
            tensors.add_file(name, bytes)?;
        }
        let length = tensors.shape("vocabulary").and_then(|shape| shape.first().copied()).unwrap_or_default();
        let vocabulary = tensors.exact::<u8>("vocabulary", &[length])?;
        let vocabulary = std::str::from_utf8(&vocabulary).map_err(|e| broken("vocabulary").because(e))?;
        let vocabulary = Vocabulary::new(vocabulary.lines(), "##");
        Ok(Self {
            token_dimensions: kept_of_token(packed.token_dimensions, packed.shape.hidden)?,
            fingerprint: packed.fingerprint(),
            name: packed.name,
            tokeniser: Tokeniser::WordPiece(WordPiece::new(vocabulary, packed.tokeniser)),
            network: Network::from_packed(&tensors, packed.shape)?,
            pooling: packed.pooling,
            projections: Vec::new(),
            prefixes: packed.prefixes,
            longest: packed.longest,
            languages: packed.languages,
            kernel: Kernel::best(),
            rooms: Rooms::default(),
        })
    }

    /// Returns the embedded English encoder: six layers, vectors of 384 numbers, texts of up to 256 tokens. Nothing is read
    /// from disk, and nothing is converted.
    ///
    /// # Errors
    /// Only if the program was assembled wrongly.
    #[cfg(feature = "embedded")]
    pub fn embedded() -> Result<Self> {
        let files = logothete_weights_words::FILES
            .iter()
            .chain(logothete_weights_lower::FILES)
            .chain(logothete_weights_upper::FILES);
        Self::from_packed(&files.map(|(name, bytes)| (*name, Cow::Borrowed(*bytes))).collect::<Vec<_>>())
    }
}
