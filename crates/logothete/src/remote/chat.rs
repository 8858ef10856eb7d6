//! The JSON chat-completions call: the request has a model and messages, the response a message, or parts of one as events.

use std::io::{BufRead, BufReader, Read};
use std::sync::Arc;

use logothete_core::{Error, ErrorKind, Fingerprint, Result, TokenUsage};
use serde_json::{Value, json};

use super::post::Post;
use crate::config::{GeneratorConfig, PrivacyConfig};
use crate::generate::{
    FinishReason, Generation, GenerationEvent, GenerationRequest, GenerationStream, Generator, MAX_REPLY, PartSender,
    ReplyTimes, message_json, written,
};
use crate::pipeline::{Secret, secret};

/// The most of a response that is read.
const MAX_BYTES: u64 = 50_000_000;

/// A generator that is a service: it gets `{"model", "messages": [{"role", "content"}, …], "stream": true, …}` and answers with
/// server-sent events, or with one JSON document.
#[derive(Clone, Debug)]
pub struct RemoteGenerator {
    post: Post,
    key_env: String,
    /// Whether the key is somebody's own, and not that of the environment.
    has_own_key: bool,
    address: String,
    model: String,
    parameters: Vec<(String, Value)>,
    times: ReplyTimes,
}

impl RemoteGenerator {
    /// Creates a generator from the settings of `[generator]`. Nothing is sent.
    ///
    /// # Errors
    /// If a setting is invalid, or the host is not allowed. A key that is missing is an error of the first request.
    pub fn new(config: &GeneratorConfig, privacy: impl Into<PrivacyConfig>) -> Result<Self> {
        let parameters = config.parameters.iter().map(|(name, value)| {
            let value = serde_json::to_value(value).map_err(|error| {
                Error::new(ErrorKind::Configuration, "a value cannot be written as JSON")
                    .at("[generator] parameters")
                    .because(error)
            })?;
            Ok((name.clone(), value))
        });
        let whole = ReplyTimes::new(config).whole;
        let post = Post::new(&config.address, &privacy.into(), whole, "prompts with passages of documents")
            .map_err(|error| if error.place().is_none() { error.at("[generator] address") } else { error })?;
        Ok(Self {
            post: post.with_headers(&config.headers),
            key_env: config.key_env.clone(),
            has_own_key: false,
            address: config.address.clone(),
            model: config.model.clone(),
            parameters: parameters.collect::<Result<_>>()?,
            times: ReplyTimes::new(config),
        })
    }

    fn body(&self, request: &GenerationRequest) -> Value {
        let messages = request.prompt.messages.iter();
        let messages: Vec<Value> = messages.map(message_json).collect();
        let parameters = &request.parameters;
        let mut body = json!({
            "model": self.model,
            "messages": messages,
            "temperature": parameters.temperature,
            "stream": true,
            "stream_options": { "include_usage": true },
        });
        if let Some(max) = parameters.max_tokens {
            body["max_tokens"] = json!(max);
        }
        if !parameters.stop.is_empty() {
            body["stop"] = json!(parameters.stop);
        }
        if let Some(seed) = parameters.seed {
            body["seed"] = json!(seed);
        }
        for (name, value) in &self.parameters {
            body[name] = value.clone();
        }
        body
    }
}

impl Generator for RemoteGenerator {
    fn name(&self) -> String {
        format!("{} at {}", self.model, self.post.host())
    }

    fn fingerprint(&self) -> Fingerprint {
        let parameters = format!("{:?}", self.parameters);
        Fingerprint::of(["chat", &self.address, &self.model, &parameters])
    }

    fn host(&self) -> Option<String> {
        Some(self.post.host())
    }

    fn with_key(&self, key: &str) -> Option<Arc<dyn Generator>> {
        let key = Secret { value: key.to_owned(), from: "the key that was given for this session".to_owned() };
        let post = self.post.clone().with_key(Some(key));
        Some(Arc::new(Self { post, has_own_key: true, ..self.clone() }))
    }

    fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
        let post = match self.key_env.as_str() {
            _ if self.has_own_key => self.post.clone(),
            "" => self.post.clone().with_key(None),
            name => match secret(name) {
                Ok(key) => self.post.clone().with_key(Some(key)),
                Err(error) => return Generation::failed(error.at("[generator] key_env")),
            },
        };
        let (body, address) = (self.body(request), self.address.clone());
        let write = move |parts: &PartSender| {
            if let Err(error) = receive(&post, &body, parts) {
                parts.send(Err(error.at(address)));
            }
        };
        written(self.times, write, || ())
    }
}

/// Sends a request and passes the reply on.
fn receive(post: &Post, body: &Value, parts: &PartSender) -> Result<()> {
    let (events, body) = post.open(body)?;
    let mut body = body.take(MAX_BYTES);
    if !events {
        let mut bytes = Vec::new();
        body.read_to_end(&mut bytes).map_err(broken)?;
        let reply: Value = serde_json::from_slice(&bytes)
            .map_err(|_| Error::new(ErrorKind::Unreadable, "the response is not JSON; check address"))?;
        let text = reply["choices"][0]["message"]["content"].as_str().unwrap_or_default().to_owned();
        let mut generation = Generation::new(text, usage(&reply).unwrap_or_default());
        generation.finish = finish(&reply["choices"][0]).unwrap_or_default();
        parts.send(Ok(GenerationEvent::Text(generation.text)));
        parts.send(Ok(GenerationEvent::End { usage: generation.usage, finish: generation.finish }));
        return Ok(());
    }
    let mut lines = BufReader::new(body);
    let (mut spent, mut end, mut length) = (TokenUsage::default(), None, 0);
    let mut line = Vec::new();
    loop {
        line.clear();
        if lines.read_until(b'\n', &mut line).map_err(broken)? == 0 {
            break;
        }
        // Other fields of events, and comments that keep a connection open, say nothing of the reply.
        let Some(data) = String::from_utf8_lossy(&line).trim().strip_prefix("data:").map(|data| data.trim().to_owned())
        else {
            continue;
        };
        if data == "[DONE]" {
            end = end.or(Some(FinishReason::Done));
            break;
        }
        let event: Value = serde_json::from_str(&data)
            .map_err(|_| Error::new(ErrorKind::Unavailable, "the service sent an event that is not JSON"))?;
        if let Some(error) = event.get("error").filter(|error| !error.is_null()) {
            let said: String = post.without_secrets(&error.to_string()).chars().take(300).collect();
            return Err(Error::new(ErrorKind::Unavailable, format!("the service failed: {said}")));
        }
        spent = usage(&event).unwrap_or(spent);
        let choice = &event["choices"][0];
        if let Some(text) = choice["delta"]["content"].as_str().filter(|text| !text.is_empty()) {
            length += text.len();
            if length > MAX_REPLY {
                return Err(Error::new(ErrorKind::Limit, "the reply is longer than any answer"));
            }
            if !parts.send(Ok(GenerationEvent::Text(text.to_owned()))) {
                return Ok(());
            }
        }
        end = finish(choice).or(end);
    }
    match end {
        Some(finish) => parts.send(Ok(GenerationEvent::End { usage: spent, finish })),
        None => return Err(Error::new(ErrorKind::Unavailable, "the service broke off its reply")),
    };
    Ok(())
}

fn broken(error: std::io::Error) -> Error {
    Error::new(ErrorKind::Unavailable, format!("the service broke off its reply: {error}")).because(error)
}

fn usage(event: &Value) -> Option<TokenUsage> {
    let usage = event.get("usage")?;
    Some(TokenUsage { sent: usage["prompt_tokens"].as_u64()?, received: usage["completion_tokens"].as_u64()? })
}

fn finish(choice: &Value) -> Option<FinishReason> {
    choice["finish_reason"].as_str().map(|reason| match reason {
        "stop" => FinishReason::Done,
        "length" => FinishReason::Length,
        "content_filter" => FinishReason::Declined,
        other => FinishReason::Other(other.to_owned()),
    })
}
