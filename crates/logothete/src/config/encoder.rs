//! `[encoder]`: which encoder, and what it needs to know.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Result};
use logothete_encoder::{FolderSettings, Hashing, Pooling, Precision, SentenceEncoder};
use serde::{Deserialize, Serialize};

use super::PrivacyConfig;

/// Which encoder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum EncoderKind {
    /// The English sentence encoder that is part of the program.
    #[cfg_attr(feature = "embedded", default)]
    Embedded,
    /// Hashes of words and of pieces of words: knows no language and no meaning.
    #[cfg_attr(not(feature = "embedded"), default)]
    Hashing,
    /// A model in a folder.
    Folder,
    /// A service that answers the JSON embeddings call.
    Remote,
}

/// `[encoder]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct EncoderConfig {
    /// Which encoder.
    pub kind: EncoderKind,
    /// The length of the vectors of a hashing or a remote encoder.
    pub dimensions: usize,
    /// The price of encoding a million tokens, in any currency.
    pub price: f64,
    /// Folder: where the model is, relative to the configuration file.
    pub folder: PathBuf,
    /// Folder: `int8`, or `float32`, which is several times slower.
    pub precision: Precision,
    /// Folder: how the vectors of tokens become one, where the model's files do not say.
    pub pooling: Option<Pooling>,
    /// Folder and remote: what is put in front of queries.
    pub query_prefix: Option<String>,
    /// Folder and remote: what is put in front of passages.
    pub passage_prefix: Option<String>,
    /// Folder and remote: the most tokens of a text that are read.
    pub longest: Option<usize>,
    /// Remote: the address of the call.
    pub address: String,
    /// Remote: the name of the model.
    pub model: String,
    /// Remote: the environment variable that holds the key, which is sent as a bearer token.
    pub key_env: String,
    /// Remote: more headers.
    pub headers: BTreeMap<String, String>,
    /// Remote: more fields of the request.
    pub parameters: BTreeMap<String, toml::Value>,
    /// Remote: the most texts in a request.
    pub batch: usize,
    /// Remote: the most tokens in a request.
    pub batch_tokens: usize,
    /// Remote: how many requests are under way at a time.
    pub at_once: usize,
    /// Remote: how long an answer may take, in seconds.
    pub seconds: u64,
    /// Remote: how often a request is sent again when the service is busy or fails.
    pub retries: u32,
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
            longest: None,
            address: String::new(),
            model: String::new(),
            key_env: String::new(),
            headers: BTreeMap::new(),
            parameters: BTreeMap::new(),
            batch: 64,
            batch_tokens: 16_000,
            at_once: 4,
            seconds: 60,
            retries: 5,
        }
    }
}

impl EncoderConfig {
    /// Every key with a value, so that the names of all are known.
    pub(super) fn filled() -> Self {
        Self {
            pooling: Some(Pooling::Mean),
            query_prefix: Some(String::new()),
            passage_prefix: Some(String::new()),
            longest: Some(0),
            ..Self::default()
        }
    }

    /// The encoder that is described.
    ///
    /// # Errors
    /// When a setting makes no sense, a file of the model is missing, or the host is not allowed.
    pub(crate) fn encoder(&self, privacy: &PrivacyConfig) -> Result<Arc<dyn Encoder>> {
        let missing = |key: &str, message: &str| {
            Err(Error::new(ErrorKind::Configuration, message.to_owned()).at(format!("[encoder] {key}")))
        };
        match self.kind {
            #[cfg(feature = "embedded")]
            EncoderKind::Embedded => Ok(embedded()),
            #[cfg(not(feature = "embedded"))]
            EncoderKind::Embedded => {
                missing("kind", "this program was built without the feature embedded; set hashing")
            }
            EncoderKind::Hashing => {
                Ok(Arc::new(Hashing::new(self.dimensions).map_err(|error| error.at("[encoder] dimensions"))?))
            }
            EncoderKind::Folder if self.folder.as_os_str().is_empty() => {
                missing("folder", "set it to the folder of the model")
            }
            EncoderKind::Folder => {
                let settings = FolderSettings {
                    query_prefix: self.query_prefix.clone(),
                    passage_prefix: self.passage_prefix.clone(),
                    pooling: self.pooling,
                    longest: self.longest,
                    precision: self.precision,
                };
                Ok(Arc::new(SentenceEncoder::from_folder(&self.folder, &settings)?))
            }
            #[cfg(feature = "http")]
            EncoderKind::Remote => Ok(Arc::new(crate::remote::RemoteEncoder::new(self, &privacy.allow)?)),
            #[cfg(not(feature = "http"))]
            EncoderKind::Remote => {
                let _ = privacy;
                missing("kind", "this program was built without the feature http; set another encoder")
            }
        }
    }
}

/// The embedded encoder, one for the whole process.
#[cfg(feature = "embedded")]
pub(crate) fn embedded() -> Arc<dyn Encoder> {
    static SHARED: std::sync::OnceLock<Arc<SentenceEncoder>> = std::sync::OnceLock::new();
    let load = || match SentenceEncoder::embedded() {
        Ok(encoder) => Arc::new(encoder),
        // The files are part of the program, and tests open them.
        Err(error) => unreachable!("the embedded encoder is broken: {error}"),
    };
    SHARED.get_or_init(load).clone()
}
