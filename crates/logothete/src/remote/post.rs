//! Posts JSON, with time-outs, retries and limits. A key never appears in an error.

use std::collections::BTreeMap;
use std::fmt;
use std::io::Read;
use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use serde_json::Value;
use ureq::Agent;
use ureq::http::Response;

use super::net;
use crate::config::PrivacyConfig;
use crate::pipeline::Secret;

/// The first pause before a request is sent again; each is twice the one before.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
/// The longest pause, also when the server asks for a longer one.
const MAX_PAUSE: Duration = Duration::from_secs(60);
/// The most of an answer that is read.
const MAX_BYTES: u64 = 200_000_000;

/// The target of requests and the way to it.
#[derive(Clone)]
pub(super) struct Post {
    agent: Agent,
    address: String,
    headers: Vec<(String, String)>,
    key: Option<Secret>,
    retries: u32,
    /// What is sent, in words.
    what: &'static str,
}

impl fmt::Debug for Post {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Post").field("address", &self.address).finish_non_exhaustive()
    }
}

impl Post {
    /// Requests to an address whose host is allowed. `what` says in words what they send.
    ///
    /// # Errors
    /// If it is no address, or its host is not allowed.
    pub(super) fn new(address: &str, privacy: &PrivacyConfig, whole: Duration, what: &'static str) -> Result<Self> {
        net::allowed_address(address, privacy)?;
        let agent = net::agent(whole);
        Ok(Self { agent, address: address.to_owned(), headers: Vec::new(), key: None, retries: 0, what })
    }

    /// Adds headers to every request.
    pub(super) fn with_headers(mut self, headers: &BTreeMap<String, String>) -> Self {
        self.headers.extend(headers.clone());
        self
    }

    /// Adds a key to every request, as a bearer token.
    pub(super) fn with_key(mut self, key: Option<Secret>) -> Self {
        self.key = key;
        self
    }

    /// Lets [`send`](Self::send) try again so often.
    pub(super) fn with_retries(mut self, retries: u32) -> Self {
        self.retries = retries;
        self
    }

    /// Sends a request until it is answered, or has failed too often.
    ///
    /// # Errors
    /// If the server refuses it, is busy or out of reach for too long, or answers something else than JSON.
    pub(super) fn send(&self, body: &Value) -> Result<Value> {
        let mut pause = FIRST_PAUSE;
        for tried in 0.. {
            match self.send_once(body) {
                Err(error) if error.is_retryable() && tried < self.retries => {
                    std::thread::sleep(error.retry_after().unwrap_or(pause).min(MAX_PAUSE));
                    pause = (pause * 2).min(MAX_PAUSE);
                }
                Err(error) => return Err(error.at(&self.address)),
                Ok(answer) => return Ok(answer),
            }
        }
        unreachable!("a request is answered or fails for good")
    }

    fn send_once(&self, body: &Value) -> Result<Value> {
        let (_, body) = self.open(body)?;
        let mut bytes = Vec::new();
        body.take(MAX_BYTES).read_to_end(&mut bytes).map_err(|error| {
            let message = format!("the service broke off its answer: {error}");
            Error::new(ErrorKind::Unavailable, message).because(error)
        })?;
        serde_json::from_slice(&bytes).map_err(|_| Error::new(ErrorKind::Unreadable, "the response is not JSON"))
    }

    /// Returns the text of a server without the sent headers, because some servers repeat the key that they refuse.
    pub(super) fn without_secrets(&self, said: &str) -> String {
        let values = self.headers.iter().map(|(_, value)| value.strip_prefix("Bearer ").unwrap_or(value));
        let values = values.chain(self.key.iter().map(|key| key.value.as_str()));
        values.filter(|value| value.len() > 3).fold(said.to_owned(), |said, value| said.replace(value, "…"))
    }

    /// Returns the host of the address, with its port.
    pub(super) fn host(&self) -> String {
        net::host(&self.address)
    }

    /// Sends a request once. Returns whether the response has server-sent events, and its body.
    ///
    /// # Errors
    /// If the server refuses it, is busy or out of reach.
    pub(super) fn open(&self, body: &Value) -> Result<(bool, impl Read + use<>)> {
        net::announce(&self.host(), self.what);
        let mut request = self.agent.post(&self.address).header("content-type", "application/json");
        for (name, value) in &self.headers {
            request = request.header(name, value);
        }
        if let Some(key) = &self.key {
            request = request.header("authorization", format!("Bearer {}", key.value));
        }
        let response = request.send(body.to_string()).map_err(|error| {
            let message = format!("the service did not answer: {error}");
            Error::new(ErrorKind::Unavailable, message).because(error)
        })?;
        let (status, after) = (response.status(), retry_after(&response));
        let kind = response.headers().get("content-type").and_then(|value| value.to_str().ok()).unwrap_or_default();
        let events = kind.starts_with("text/event-stream");
        let mut reader = response.into_body().into_reader();
        if status.is_success() {
            return Ok((events, reader));
        }
        let mut said = Vec::new();
        // What cannot be read of an error changes nothing.
        let _ = reader.by_ref().take(4_000).read_to_end(&mut said);
        Err(self.refused(status.as_u16(), &said).after(after))
    }

    /// Returns the error for a response with a status of failure.
    fn refused(&self, status: u16, said: &[u8]) -> Error {
        let said = self.without_secrets(String::from_utf8_lossy(said).trim());
        let said: String = said.chars().take(300).collect();
        let said = if said.is_empty() { String::new() } else { format!(": {said}") };
        let key = match &self.key {
            Some(key) => format!("it did not accept the key, which was read from {}", key.from),
            None => "it wants a key; name its variable in key_env".to_owned(),
        };
        let (kind, advice) = match status {
            429 | 503 => (ErrorKind::Unavailable, "it is busy; send fewer requests at a time, or try later"),
            408 | 500.. => (ErrorKind::Unavailable, "it failed; try later"),
            401 | 403 => (ErrorKind::Refused, key.as_str()),
            _ => (ErrorKind::Configuration, "it did not accept the request; check address, model and parameters"),
        };
        Error::new(kind, format!("the service answered {}, {advice}{said}", described(status)))
    }
}

/// Returns the seconds of a `Retry-After` header. Dates in it are rare, and are passed over.
fn retry_after<T>(response: &Response<T>) -> Option<Duration> {
    let value = response.headers().get("retry-after")?.to_str().ok()?;
    value.trim().parse::<f64>().ok().and_then(|seconds| Duration::try_from_secs_f64(seconds).ok())
}

/// Returns a status with its name, such as `429 Too Many Requests`.
fn described(status: u16) -> String {
    ureq::http::StatusCode::from_u16(status).map_or_else(|_| status.to_string(), |known| known.to_string())
}
