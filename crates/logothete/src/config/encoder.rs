//! `[encoder]`: which encoder, and what it needs to know.

use std::collections::BTreeMap;
use std::path::PathBuf;

use logothete_core::{Error, ErrorKind, Result};
use logothete_encoder::{Pooling, Precision};
use serde::{Deserialize, Serialize};

/// The kind of an encoder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum EncoderKind {
    /// The English sentence encoder that is part of the program.
    #[default]
    Embedded,
    /// Hashes of words and of pieces of words: knows no language and no meaning.
    Hashing,
    /// A model in a folder.
    Folder,
    /// A service that answers the JSON embeddings call.
    Remote,
}

/// `[encoder]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct EncoderConfig {
    /// The kind of the encoder.
    pub kind: EncoderKind,
    /// The length of the vectors of a hashing or a remote encoder.
    pub dimensions: usize,
    /// The price of encoding a million tokens, in any currency.
    pub price: f64,
    /// Folder: the folder of the model, relative to the configuration file.
    pub folder: PathBuf,
    /// Folder: `int8`, or `float32`, which is several times slower.
    pub precision: Precision,
    /// Folder: how token vectors are pooled; `None` means what the model's files say.
    pub pooling: Option<Pooling>,
    /// Folder and remote: the text before a query; `None` means what the model's files say.
    pub query_prefix: Option<String>,
    /// Folder and remote: the text before a passage; `None` means what the model's files say.
    pub passage_prefix: Option<String>,
    /// Folder and remote: input beyond this number of tokens is truncated; `None` means what the model's files say.
    pub max_tokens: Option<usize>,
    /// Folder: as many of the first numbers of a token's vector are kept; `None` means all.
    pub token_dimensions: Option<usize>,
    /// Remote: the address of the call.
    pub address: String,
    /// Remote: the name of the model.
    pub model: String,
    /// Remote: the environment variable that holds the key. The key is sent as a bearer token.
    pub key_env: String,
    /// Remote: additional headers.
    pub headers: BTreeMap<String, String>,
    /// Remote: additional fields of the request.
    pub parameters: BTreeMap<String, toml::Value>,
    /// Remote: the number of texts in a request.
    pub max_batch_texts: usize,
    /// Remote: the number of tokens in a request.
    pub max_batch_tokens: usize,
    /// Remote: the number of requests that are under way at a time.
    pub max_concurrent: usize,
    /// Remote: the time that a response may take, in seconds.
    pub seconds: u64,
    /// Remote: the number of times that a request is sent again when the service is busy or fails.
    pub max_retries: u32,
}

impl Default for EncoderConfig {
    fn default() -> Self {
        Self {
            kind: EncoderKind::default(),
            dimensions: 512,
            price: 0.0,
            folder: PathBuf::new(),
            precision: Precision::default(),
            pooling: None,
            query_prefix: None,
            passage_prefix: None,
            max_tokens: None,
            token_dimensions: None,
            address: String::new(),
            model: String::new(),
            key_env: String::new(),
            headers: BTreeMap::new(),
            parameters: BTreeMap::new(),
            max_batch_texts: 64,
            max_batch_tokens: 16_000,
            max_concurrent: 4,
            seconds: 60,
            max_retries: 5,
        }
    }
}

impl EncoderConfig {
    /// Returns the cost of encoding a number of tokens.
    pub(crate) fn price_of(&self, tokens: u64) -> f64 {
        tokens as f64 * self.price / 1e6
    }

    pub(super) fn validate(&self) -> Result<()> {
        if self.price.is_finite() && self.price >= 0.0 {
            return Ok(());
        }
        Err(Error::new(ErrorKind::Configuration, "a price is 0 or more, for a million tokens").at("[encoder] price"))
    }
}
