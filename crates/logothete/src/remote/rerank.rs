//! The JSON call that scores texts: the request has a question and a list of texts, the response a list of numbers.

use std::time::Duration;

use logothete_core::prompt::{Hidden, Mask};
use logothete_core::search::Passage;
use logothete_core::{Error, ErrorKind, Result};
use serde_json::{Value, json};

use super::post::Post;
use crate::config::{PrivacyConfig, RerankerConfig};
use crate::pipeline::secret;
use crate::search::Reranker;

/// A reranker that is a service: it gets `{"model", "query", "texts": [text, …]}` and answers `{"scores": [number, …]}`, a number for each text in
/// their order, higher for a better one.
///
/// It is asked once: a search does not wait for a second attempt.
#[derive(Debug)]
pub struct RemoteReranker {
    post: Post,
    model: String,
    parameters: Vec<(String, Value)>,
    /// What is replaced before it is sent.
    mask: Option<Mask>,
}

impl RemoteReranker {
    /// Creates a client for the service of a configuration, which may take some time for a response. Nothing is sent.
    ///
    /// # Errors
    /// If a setting is invalid, or the host is not allowed.
    pub fn new(config: &RerankerConfig, limit: Duration, privacy: &PrivacyConfig) -> Result<Self> {
        let key = match config.key_env.as_str() {
            "" => None,
            name => Some(secret(name).map_err(|error| error.at("[reranker] key_env"))?),
        };
        let parameters = config.parameters.iter().map(|(name, value)| {
            let value = serde_json::to_value(value).map_err(|error| {
                let message = "a value cannot be written as JSON";
                Error::new(ErrorKind::Configuration, message).at("[reranker] parameters").because(error)
            })?;
            Ok((name.clone(), value))
        });
        let parameters = parameters.collect::<Result<_>>()?;
        let post = Post::new(&config.address, privacy, limit, "a question and passages to put in order")
            .map_err(|error| if error.place().is_none() { error.at("[reranker] address") } else { error })?;
        let post = post.with_headers(&config.headers).with_key(key);
        Ok(Self { post, model: config.model.clone(), parameters, mask: privacy.masking()? })
    }

    fn hidden(&self, text: &str) -> String {
        match &self.mask {
            Some(mask) => mask.hide(text, &mut Hidden::default()),
            None => text.to_owned(),
        }
    }
}

impl Reranker for RemoteReranker {
    fn name(&self) -> &str {
        &self.model
    }

    fn rerank(&self, question: &str, passages: &[Passage]) -> Result<Vec<f32>> {
        let texts: Vec<String> = passages.iter().map(|passage| self.hidden(&passage.indexed_text())).collect();
        let mut body = json!({ "model": self.model, "query": self.hidden(question), "texts": texts });
        for (name, value) in &self.parameters {
            body[name] = value.clone();
        }
        let answer = self.post.send(&body)?;
        let numbers = answer["scores"].as_array().ok_or_else(|| {
            let message = "the service answered without a list “scores”; check address, model and parameters";
            Error::new(ErrorKind::Unreadable, message)
        })?;
        // What is no number is noticed with the scores of every other reranker.
        Ok(numbers.iter().map(|number| number.as_f64().map_or(f32::NAN, |number| number as f32)).collect())
    }
}
