//! `[generator]`: what writes answers and contexts, how, and what a model costs.

use std::collections::BTreeMap;

use logothete_core::{Error, ErrorKind, Result, TokenUsage};
use serde::{Deserialize, Serialize};

use super::keys;
use crate::generate::GenerationParameters;

/// The kind of a generator.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum GeneratorKind {
    /// No model: answers are sentences of the documents, word for word.
    #[default]
    Extractive,
    /// A service that answers the JSON chat-completions call.
    Remote,
    /// A program that reads the prompt and prints the reply.
    Command,
}

/// What a generator is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum GeneratorRole {
    /// Answers from passages.
    Answer,
    /// A follow-up of a conversation as a question that stands alone.
    Condense,
    /// A summary of the older turns of a conversation.
    Summarise,
    /// Contexts of chunks.
    Context,
    /// Better searches for a question, by `transform` in `[search]`.
    Rewrite,
    /// The order of passages, by `rerank` in `[search]`.
    Rerank,
    /// The corpora that a question belongs to, by `[routing]`.
    Route,
    /// Questions that passages answer, for a question set.
    Draft,
    /// Digests of whole documents.
    Digest,
    /// Summaries of a tree.
    Tree,
}

impl GeneratorRole {
    /// All roles.
    pub const ALL: [Self; 10] = [
        Self::Answer,
        Self::Condense,
        Self::Summarise,
        Self::Context,
        Self::Rewrite,
        Self::Rerank,
        Self::Route,
        Self::Draft,
        Self::Digest,
        Self::Tree,
    ];

    /// Returns the name in the configuration.
    pub fn name(self) -> &'static str {
        match self {
            Self::Answer => "answer",
            Self::Condense => "condense",
            Self::Summarise => "summarise",
            Self::Context => "context",
            Self::Rewrite => "rewrite",
            Self::Rerank => "rerank",
            Self::Route => "route",
            Self::Draft => "draft",
            Self::Digest => "digest",
            Self::Tree => "tree",
        }
    }
}

/// `[generator]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct GeneratorConfig {
    /// The kind of the generator.
    pub kind: GeneratorKind,
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
    /// Command: the program and its arguments.
    pub command: Vec<String>,
    /// Command: whether the prompt is written as JSON, and not as text.
    pub input_json: bool,
    /// How freely the next token is chosen; 0 asks for the likeliest one.
    pub temperature: f32,
    /// The number of tokens of a reply.
    pub max_tokens: u64,
    /// The number of tokens that the model reads and writes together.
    pub context_tokens: u64,
    /// Texts at which a reply ends.
    pub stop: Vec<String>,
    /// The seed of random choices; `None` leaves it to the model.
    pub seed: Option<u64>,
    /// The time until the first byte of a reply, in seconds.
    pub first_seconds: u64,
    /// The time between two parts of a reply, in seconds.
    pub silence_seconds: u64,
    /// The time of a whole reply, in seconds.
    pub seconds: u64,
    /// The number of requests to a generator that are under way at a time.
    pub max_concurrent: usize,
    /// The number of times that a request is sent again when the generator is busy or fails.
    pub max_retries: u32,
    /// The price of a million tokens sent to a generator, in any currency.
    pub price_sent: f64,
    /// The price of a million tokens received.
    pub price_received: f64,
    /// Settings that differ for a role, by the keys of this table.
    pub roles: BTreeMap<GeneratorRole, toml::Table>,
}

impl Default for GeneratorConfig {
    fn default() -> Self {
        Self {
            kind: GeneratorKind::default(),
            address: String::new(),
            model: String::new(),
            key_env: String::new(),
            headers: BTreeMap::new(),
            parameters: BTreeMap::new(),
            command: Vec::new(),
            input_json: false,
            temperature: 0.0,
            max_tokens: 1_000,
            context_tokens: 8_000,
            stop: Vec::new(),
            seed: None,
            first_seconds: 60,
            silence_seconds: 30,
            seconds: 300,
            max_concurrent: 8,
            max_retries: 3,
            price_sent: 0.0,
            price_received: 0.0,
            roles: BTreeMap::new(),
        }
    }
}

impl GeneratorConfig {
    /// Returns the price of tokens.
    pub(crate) fn price(&self, tokens: TokenUsage) -> f64 {
        (tokens.sent as f64 * self.price_sent + tokens.received as f64 * self.price_received) / 1e6
    }

    /// Returns the settings for a role: these, with those of `[generator.roles]` in their place.
    ///
    /// # Errors
    /// If a key of the role is unknown, or a value invalid.
    pub fn for_role(&self, role: GeneratorRole) -> Result<Self> {
        let Some(own) = self.roles.get(&role) else { return Ok(self.clone()) };
        let place = format!("[generator.roles.{}]", role.name());
        let invalid =
            |error: &dyn std::fmt::Display| Error::new(ErrorKind::Configuration, error.to_string()).at(place.clone());
        keys::check_table(own, "generator", keys::fields_of::<Self>()).map_err(|error| error.at(place.clone()))?;
        let mut merged = toml::Table::try_from(self).map_err(|error| invalid(&error))?;
        merged.remove("roles");
        merged.extend(own.clone());
        let merged: Self = merged.try_into().map_err(|error: toml::de::Error| invalid(&error.message()))?;
        merged.validate_one(&place)?;
        Ok(merged)
    }

    /// Returns how requests are to be answered.
    pub(crate) fn parameters(&self) -> GenerationParameters {
        let mut parameters = GenerationParameters::default();
        (parameters.temperature, parameters.max_tokens) = (self.temperature, Some(self.max_tokens));
        (parameters.stop, parameters.seed) = (self.stop.clone(), self.seed);
        parameters
    }

    pub(super) fn validate(&self) -> Result<()> {
        self.validate_one("[generator]")?;
        self.roles.keys().try_for_each(|role| self.for_role(*role).map(drop))
    }

    fn validate_one(&self, table: &str) -> Result<()> {
        let invalid =
            |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(format!("{table} {key}")));
        if self.max_concurrent == 0 {
            return invalid("max_concurrent", "no request could be sent; set 1 or more");
        }
        if [self.price_sent, self.price_received].iter().any(|price| !price.is_finite() || *price < 0.0) {
            return invalid("price_sent, price_received", "a price is 0 or more, for a million tokens");
        }
        if !(0.0..=2.0).contains(&self.temperature) {
            return invalid("temperature", "set a number from 0 to 2");
        }
        if self.max_tokens == 0 || self.context_tokens <= self.max_tokens {
            return invalid(
                "max_tokens, context_tokens",
                "a reply needs a token or more, and the context more than the reply",
            );
        }
        match self.kind {
            GeneratorKind::Remote if self.model.is_empty() => {
                invalid("model", "set it to the name that the service gives its model")
            }
            GeneratorKind::Remote if self.address.is_empty() => {
                invalid("address", "set it to the address of the chat-completions call")
            }
            GeneratorKind::Command if self.command.is_empty() => {
                invalid("command", "set it to a program and its arguments, such as [\"write-answer\", \"--short\"]")
            }
            _ => Ok(()),
        }
    }
}
