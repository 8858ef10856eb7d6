//! Posts JSON, with time-outs, retries and limits. A key never appears in an error.

use std::io::Read;
use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use serde_json::Value;
use ureq::Agent;
use ureq::http::Response;

use super::net;

/// The first pause before a request is sent again; each is twice the one before.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
/// The longest pause, also when the server asks for a longer one.
const MAX_PAUSE: Duration = Duration::from_secs(60);
/// The most of an answer that is read.
const MAX_BYTES: u64 = 200_000_000;

/// The target of requests and the way to it.
#[derive(Clone, Debug)]
pub(super) struct Post {
    agent: Agent,
    address: String,
    headers: Vec<(String, String)>,
    retries: u32,
}

impl Post {
    /// Requests to an address whose host is allowed.
    ///
    /// # Errors
    /// If it is no address, or its host is not allowed.
    pub(super) fn new(
        address: &str,
        allowed: &[String],
        headers: Vec<(String, String)>,
        whole: Duration,
        retries: u32,
    ) -> Result<Self> {
        net::allowed_address(address, allowed)?;
        let agent = net::agent(whole);
        Ok(Self { agent, address: address.to_owned(), headers, retries })
    }

    /// Sends a request until it is answered, or has failed too often.
    ///
    /// # Errors
    /// If the server refuses it, is busy or out of reach for too long, or answers something else than JSON.
    pub(super) fn send(&self, body: &Value) -> Result<Value> {
        let mut pause = FIRST_PAUSE;
        for tried in 0.. {
            match self.send_once(body) {
                Err(Failed { error, after }) if error.is_retryable() && tried < self.retries => {
                    std::thread::sleep(after.unwrap_or(pause).min(MAX_PAUSE));
                    pause = (pause * 2).min(MAX_PAUSE);
                }
                Err(failed) => return Err(failed.error.at(&self.address)),
                Ok(answer) => return Ok(answer),
            }
        }
        unreachable!("a request is answered or fails for good")
    }

    /// Returns the text of a server without the sent headers, because some servers repeat the key that they refuse.
    fn without_secrets(&self, said: &str) -> String {
        let values = self.headers.iter().map(|(_, value)| value.strip_prefix("Bearer ").unwrap_or(value));
        values.filter(|value| value.len() > 3).fold(said.to_owned(), |said, value| said.replace(value, "…"))
    }

    fn send_once(&self, body: &Value) -> std::result::Result<Value, Failed> {
        let failed = |kind, message: String| Failed { error: Error::new(kind, message), after: None };
        let mut request = self.agent.post(&self.address).header("content-type", "application/json");
        for (name, value) in &self.headers {
            request = request.header(name, value);
        }
        let response = request.send(body.to_string()).map_err(|error| {
            let message = format!("the service did not answer: {error}");
            Failed { error: Error::new(ErrorKind::Unavailable, message).because(error), after: None }
        })?;
        let status = response.status();
        let after = retry_after(&response);
        let mut bytes = Vec::new();
        response.into_body().into_reader().take(MAX_BYTES).read_to_end(&mut bytes).map_err(|error| {
            let message = format!("the service broke off its answer: {error}");
            Failed { error: Error::new(ErrorKind::Unavailable, message).because(error), after: None }
        })?;
        if status.is_success() {
            return serde_json::from_slice(&bytes)
                .map_err(|_| failed(ErrorKind::Unreadable, "the response is not JSON".to_owned()));
        }
        let said = self.without_secrets(String::from_utf8_lossy(&bytes).trim());
        let said: String = said.chars().take(300).collect();
        let said = if said.is_empty() { String::new() } else { format!(": {said}") };
        let (kind, advice) = match status.as_u16() {
            429 | 503 => (ErrorKind::Unavailable, "it is busy; send fewer requests at a time, or try later"),
            408 | 500.. => (ErrorKind::Unavailable, "it failed; try later"),
            401 | 403 => (ErrorKind::Refused, "it did not accept the key; check key_env"),
            _ => (ErrorKind::Configuration, "it did not accept the request; check address, model and parameters"),
        };
        Err(Failed { error: Error::new(kind, format!("the service answered {status}, {advice}{said}")), after })
    }
}

/// A request that failed, and when the server wants it again.
struct Failed {
    error: Error,
    after: Option<Duration>,
}

/// Returns the seconds of a `Retry-After` header. Dates in it are rare, and are passed over.
fn retry_after<T>(response: &Response<T>) -> Option<Duration> {
    let value = response.headers().get("retry-after")?.to_str().ok()?;
    value.trim().parse::<f64>().ok().and_then(|seconds| Duration::try_from_secs_f64(seconds).ok())
}
