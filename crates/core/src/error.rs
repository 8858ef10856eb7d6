//! The error type of all crates: what failed, where, why, and what to do next.

use std::error::Error as StdError;
use std::fmt;
use std::time::Duration;

use serde::Serialize;
use serde::ser::{SerializeStruct, Serializer};

use crate::trace::Trace;

/// The kind of a failure, for code that decides how to react. Prints and serialises as its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[non_exhaustive]
pub enum ErrorKind {
    /// A path, document or corpus does not exist.
    NotFound,
    /// The input could be read but not understood.
    Unreadable,
    /// Nothing here reads the type of the input.
    Unsupported,
    /// A setting has an invalid value, or a key is unknown.
    Configuration,
    /// A request is invalid: an empty question, a filter that cannot be read, a field that no document has.
    InvalidRequest,
    /// The corpus on disk is damaged, or of a version that this program does not know.
    Corpus,
    /// The corpus has another encoder or another setting than the one in use.
    Mismatch,
    /// Another process writes to the corpus.
    Busy,
    /// The request was refused to keep data safe; the message says how to insist.
    Refused,
    /// A server did not answer, or answered wrongly; a later attempt may work.
    Unavailable,
    /// A limit on size, time or depth was reached.
    Limit,
    /// The caller asked to stop.
    Cancelled,
    /// The operating system reported an error: a full disk, a missing permission.
    System,
}

impl fmt::Display for ErrorKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self:?}")
    }
}

/// A failure with its place and its cause. Serialises as its kind, place and message.
///
/// It prints as `place: message`; the chain of causes is in [`source`](StdError::source).
pub struct Error(Box<Inner>);

struct Inner {
    kind: ErrorKind,
    message: String,
    place: Option<String>,
    source: Option<Box<dyn StdError + Send + Sync>>,
    trace: Option<Trace>,
    retry_after: Option<Duration>,
}

/// The result of functions that can fail.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// Returns the message of a panic; empty if it had none.
pub fn panic_message(panic: &(dyn std::any::Any + Send)) -> &str {
    let text = panic.downcast_ref::<&str>().copied();
    text.or_else(|| panic.downcast_ref::<String>().map(String::as_str)).unwrap_or_default()
}

impl Error {
    /// Creates an error of a kind, with a message that says what failed and what to do.
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Self {
        Self(Box::new(Inner {
            kind,
            message: message.into(),
            place: None,
            source: None,
            trace: None,
            retry_after: None,
        }))
    }

    /// Adds a place to the error: a file, a page, a line, a key.
    #[must_use]
    pub fn at(mut self, place: impl fmt::Display) -> Self {
        self.0.place = Some(match self.0.place.take() {
            Some(inner) => format!("{place}: {inner}"),
            None => place.to_string(),
        });
        self
    }

    /// Adds the cause to the error.
    #[must_use]
    pub fn because(mut self, source: impl Into<Box<dyn StdError + Send + Sync>>) -> Self {
        self.0.source = Some(source.into());
        self
    }

    /// Adds the trace of the steps before the failure.
    #[must_use]
    pub fn with_trace(mut self, trace: Trace) -> Self {
        self.0.trace = Some(trace);
        self
    }

    /// Returns the trace of the steps before the failure; `None` unless the request asked for one.
    pub fn trace(&self) -> Option<&Trace> {
        self.0.trace.as_ref()
    }

    /// Returns the kind of the failure.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// Returns the place of the failure, outermost first.
    pub fn place(&self) -> Option<&str> {
        self.0.place.as_deref()
    }

    /// Returns the message without the place.
    pub fn message(&self) -> &str {
        &self.0.message
    }

    /// Adds the time after which a server wants the request again.
    #[must_use]
    pub fn after(mut self, pause: Option<Duration>) -> Self {
        self.0.retry_after = pause;
        self
    }

    /// Returns the time after which a server wants the request again, if it said one.
    pub fn retry_after(&self) -> Option<Duration> {
        self.0.retry_after
    }

    /// Returns `true` if the same call may succeed later.
    pub fn is_retryable(&self) -> bool {
        matches!(self.0.kind, ErrorKind::Busy | ErrorKind::Unavailable)
    }
}

impl Serialize for Error {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut error = serializer.serialize_struct("Error", 3)?;
        error.serialize_field("kind", &self.kind())?;
        error.serialize_field("place", &self.place())?;
        error.serialize_field("message", self.message())?;
        error.end()
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(place) = &self.0.place {
            write!(f, "{place}: ")?;
        }
        f.write_str(&self.0.message)
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {self}", self.0.kind)?;
        let mut cause = self.source();
        while let Some(error) = cause {
            write!(f, "; because {error}")?;
            cause = error.source();
        }
        Ok(())
    }
}

impl StdError for Error {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        self.0.source.as_deref().map(|source| source as &(dyn StdError + 'static))
    }
}
