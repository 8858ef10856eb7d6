//! Generators: what writes text from a prompt.

mod channel;
mod command;
mod runner;

#[cfg(feature = "http")]
pub(crate) use channel::{PartSender, ReplyTimes, written};
pub use command::CommandGenerator;
pub(crate) use runner::{Answering, Job, Reply, Runner};

use std::sync::Arc;

use std::pin::Pin;
use std::task::{Context, Poll};

use futures_core::Stream;
use logothete_core::prompt::Prompt;
use logothete_core::text::count_words;
use logothete_core::{Fingerprint, Result, TokenUsage};
use serde::{Deserialize, Serialize};

use crate::BoxFuture;

/// The most bytes of a reply. A longer one is an error.
pub(crate) const MAX_REPLY: usize = 2_000_000;

/// A request to a generator.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct GenerationRequest {
    /// The messages.
    pub prompt: Prompt,
    /// How to write.
    pub parameters: GenerationParameters,
}

/// How a generator writes.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct GenerationParameters {
    /// How freely the next token is chosen; 0, the default, asks for the likeliest one.
    pub temperature: f32,
    /// The number of tokens after which the reply is cut off; `None` means the generator's own limit.
    pub max_tokens: Option<u64>,
    /// Texts at which the reply ends.
    pub stop: Vec<String>,
    /// The seed of random choices; `None` leaves it to the generator.
    pub seed: Option<u64>,
}

/// The reply of a generator.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Generation {
    /// The text.
    pub text: String,
    /// The tokens read and written, as the generator counts them.
    pub usage: TokenUsage,
    /// Why the text ends where it does.
    pub finish: FinishReason,
}

/// Why a reply ended.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum FinishReason {
    /// The generator was done, or met a text at which to stop.
    #[default]
    Done,
    /// The limit on tokens was reached.
    Length,
    /// The generator declined to write more.
    Declined,
    /// Another reason, in the generator's own words.
    Other(String),
}

/// A part of a reply.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum GenerationEvent {
    /// More text.
    Text(String),
    /// The end of the reply.
    End {
        /// The tokens read and written.
        usage: TokenUsage,
        /// Why the reply ended.
        finish: FinishReason,
    },
}

/// A reply as it is written. It ends after [`GenerationEvent::End`] or an error.
pub type GenerationStream<'a> = Pin<Box<dyn Stream<Item = Result<GenerationEvent>> + Send + 'a>>;

/// Writes text from a prompt: a model, wherever it runs.
///
/// Implement it to bring your own. Replies to requests of temperature 0 are cached by the fingerprint and the request, so that the
/// same is not paid for twice.
pub trait Generator: Send + Sync {
    /// Returns the name that a person would use.
    fn name(&self) -> String;

    /// Returns a fingerprint that changes whenever the same request may be answered differently: model, version, settings.
    fn fingerprint(&self) -> Fingerprint;

    /// Writes a reply, part by part. Dropping the stream stops it.
    ///
    /// An error ends the stream. [`is_retryable`](logothete_core::Error::is_retryable) says whether the same request may succeed
    /// later. A generator that has the whole reply at once returns [`Generation::into_stream`].
    fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a>;

    /// Writes a whole reply.
    ///
    /// # Errors
    /// The error of the stream.
    fn generate<'a>(&'a self, request: &'a GenerationRequest) -> BoxFuture<'a, Result<Generation>> {
        Box::pin(collected(self.stream(request)))
    }

    /// Returns the host that receives the prompts, with its port; `None` for one that runs here.
    fn host(&self) -> Option<String> {
        None
    }

    /// Returns this generator with the key of somebody else, who pays for what they ask; `None` if it takes no keys.
    fn with_key(&self, _key: &str) -> Option<Arc<dyn Generator>> {
        None
    }

    /// Returns the number of tokens of a text, for estimates: four for three words, unless it counts otherwise.
    fn count_tokens(&self, text: &str) -> u64 {
        usual_tokens(text)
    }
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: Generator + ?Sized> Generator for $pointer {
            fn name(&self) -> String {
                (**self).name()
            }

            fn fingerprint(&self) -> Fingerprint {
                (**self).fingerprint()
            }

            fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
                (**self).stream(request)
            }

            fn generate<'a>(&'a self, request: &'a GenerationRequest) -> BoxFuture<'a, Result<Generation>> {
                (**self).generate(request)
            }

            fn host(&self) -> Option<String> {
                (**self).host()
            }

            fn with_key(&self, key: &str) -> Option<Arc<dyn Generator>> {
                (**self).with_key(key)
            }

            fn count_tokens(&self, text: &str) -> u64 {
                (**self).count_tokens(text)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);

/// Returns a message as JSON.
pub(crate) fn message_json(message: &logothete_core::prompt::Message) -> serde_json::Value {
    serde_json::json!({ "role": message.author.name(), "content": message.content })
}

/// Returns the number of tokens of a text for a generator of which nothing is known.
pub(crate) fn usual_tokens(text: &str) -> u64 {
    (count_words(text) as u64 * 4).div_ceil(3)
}

impl GenerationRequest {
    /// Creates a request with the default parameters.
    pub fn new(prompt: Prompt) -> Self {
        Self { prompt, parameters: GenerationParameters::default() }
    }

    /// Returns the request with another limit on the tokens of the reply.
    #[must_use]
    pub fn max_tokens(mut self, max: u64) -> Self {
        self.parameters.max_tokens = Some(max);
        self
    }

    /// Returns the texts that the reply depends on. A prompt of an instruction and material, with default parameters, is its
    /// two texts.
    pub(crate) fn key_parts(&self) -> Vec<String> {
        let usual = [logothete_core::prompt::Author::System, logothete_core::prompt::Author::User];
        let is_usual = self.prompt.messages.iter().map(|message| message.author).eq(usual);
        let message = |message: &logothete_core::prompt::Message| match is_usual {
            true => message.content.clone(),
            false => format!("{}: {}", message.author.name(), message.content),
        };
        let mut parts: Vec<String> = self.prompt.messages.iter().map(message).collect();
        // A limit on the reply's length only cuts off what would be there anyway.
        let parameters = GenerationParameters { max_tokens: None, ..self.parameters.clone() };
        if parameters != GenerationParameters::default() {
            parts.push(format!("{parameters:?}"));
        }
        parts
    }
}

impl Generation {
    /// Creates a reply that ended because the generator was done.
    pub fn new(text: impl Into<String>, usage: TokenUsage) -> Self {
        Self { text: text.into(), usage, finish: FinishReason::Done }
    }

    /// Returns the reply as a stream of one text and the end.
    pub fn into_stream(self) -> GenerationStream<'static> {
        let Self { text, usage, finish } = self;
        Box::pin(Parts([Some(Ok(GenerationEvent::Text(text))), Some(Ok(GenerationEvent::End { usage, finish }))], 0))
    }

    /// Returns a stream that fails immediately.
    pub fn failed(error: logothete_core::Error) -> GenerationStream<'static> {
        Box::pin(Parts([Some(Err(error)), None], 0))
    }
}

/// A stream of known events.
struct Parts([Option<Result<GenerationEvent>>; 2], usize);

impl Stream for Parts {
    type Item = Result<GenerationEvent>;

    fn poll_next(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let at = self.1;
        self.1 = at + 1;
        Poll::Ready(self.0.get_mut(at).and_then(Option::take))
    }
}

/// Returns the whole reply of a stream.
async fn collected(mut stream: GenerationStream<'_>) -> Result<Generation> {
    let mut generation = Generation::default();
    while let Some(event) = std::future::poll_fn(|context| stream.as_mut().poll_next(context)).await {
        match event? {
            GenerationEvent::Text(text) => generation.text.push_str(&text),
            GenerationEvent::End { usage, finish } => (generation.usage, generation.finish) = (usage, finish),
        }
    }
    Ok(generation)
}
