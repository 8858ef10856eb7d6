//! `[reranker]`: the cross-encoder or the service that `rerank` in `[search]` names.

use std::collections::BTreeMap;
use std::path::PathBuf;

use logothete_encoder::Precision;
use serde::{Deserialize, Serialize};

/// `[reranker]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct RerankerConfig {
    /// Cross: the folder of the model, relative to the configuration file.
    pub folder: PathBuf,
    /// Cross: `int8`, or `float32`, which is several times slower.
    pub precision: Precision,
    /// Cross: the tokens of a question and a passage together; `None` means what the model reads.
    pub max_tokens: Option<usize>,
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
    /// The number of questions that a service, or a reranker of one's own, is asked about at a time.
    pub max_concurrent: usize,
}

impl Default for RerankerConfig {
    fn default() -> Self {
        Self {
            folder: PathBuf::new(),
            precision: Precision::default(),
            max_tokens: None,
            address: String::new(),
            model: String::new(),
            key_env: String::new(),
            headers: BTreeMap::new(),
            parameters: BTreeMap::new(),
            max_concurrent: 4,
        }
    }
}
