//! Reading documents in processes of their own, so that a file can end or fill no process but its reader.
//!
//! `workers` keeps a few of them and sends them files, `worker` is what runs in them, `confine` takes away what a reader does not need, and `frame` is how
//! the two talk.

mod confine;
mod drawing;
mod frame;
mod worker;
mod workers;

use confine::Guard;
pub(crate) use drawing::draw_here;
pub use drawing::{Drawing, Drawn};
pub use worker::serve_reader;
pub(crate) use workers::Workers;

use std::time::Duration;

use logothete_core::document::{Budget, Document};
use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::Parsers;
use serde::{Deserialize, Serialize};

use crate::config::Config;
use crate::pipeline::budget;
use crate::source::Content;
use crate::threads::within;

/// What is read. The bytes of the files follow, one after the other.
#[derive(Serialize, Deserialize)]
struct Request {
    files: Vec<Asked>,
    /// The tables `[parse]`, `[chunk]` and `[limits]`, on which reading depends; `None` means those of the request before.
    settings: Option<String>,
    /// What is to be drawn of it, and the pixels to a point; `None` means that it is read.
    drawing: Option<(Drawing, f32)>,
}

/// A file that is to be read, or drawn.
#[derive(Serialize, Deserialize)]
struct Asked {
    name: String,
    media_type: Option<String>,
    /// The number of its bytes.
    length: usize,
}

/// What a reader returns of a file.
#[derive(Serialize, Deserialize)]
struct Reply {
    response: Response,
    /// The guards that the reader does without, since the system lacks them.
    lacks: Vec<Guard>,
}

/// What came of a file.
#[derive(Serialize, Deserialize)]
enum Response {
    Document(Box<Document>),
    Drawn(Drawn),
    /// This file and those after it were not read, since the ones before became so large. They are to be asked for anew.
    PutOff,
    Error {
        kind: String,
        message: String,
        place: Option<String>,
    },
}

impl Response {
    fn failed(error: &Error) -> Self {
        Self::Error {
            kind: format!("{:?}", error.kind()),
            message: error.message().to_owned(),
            place: error.place().map(str::to_owned),
        }
    }

    /// Returns itself, or the error that it is.
    fn checked(self) -> Result<Self> {
        match self {
            Self::Error { kind, message, place } => {
                const KINDS: [ErrorKind; 6] = [
                    ErrorKind::Unsupported,
                    ErrorKind::Limit,
                    ErrorKind::Configuration,
                    ErrorKind::NotFound,
                    ErrorKind::System,
                    ErrorKind::InvalidRequest,
                ];
                let kind = KINDS.into_iter().find(|own| format!("{own:?}") == kind).unwrap_or(ErrorKind::Unreadable);
                let error = Error::new(kind, message);
                Err(match place {
                    Some(place) => error.at(place),
                    None => error,
                })
            }
            other => Ok(other),
        }
    }
}

/// Returns the settings on which reading depends, as TOML.
fn settings(config: &Config) -> Result<String> {
    let mut own = Config::default();
    (own.parse, own.chunk, own.limits) = (config.parse.clone(), config.chunk.clone(), config.limits.clone());
    toml::to_string(&own).map_err(|error| Error::new(ErrorKind::Configuration, format!("the settings: {error}")))
}

/// Reads a document in this process, within the limits of the configuration.
pub(crate) fn read_here(parsers: &Parsers, config: &Config, name: &str, content: Content) -> Result<Document> {
    let budget: Budget = budget(config);
    let (parsers, named, inner) = (parsers.clone(), name.to_owned(), budget.clone());
    let limit = config.limits.max_read_time();
    let read = move || parsers.parse_as(content.media_type.as_deref(), &named, &content.bytes, &inner);
    match within(limit, || budget.end(), read) {
        Some(Err(error)) if budget.is_late() && error.kind() == ErrorKind::Limit => Err(too_slow(limit)),
        Some(result) => result,
        None => Err(too_slow(limit)),
    }
}

fn too_slow(limit: Duration) -> Error {
    let message = format!("reading took more than {} s and was stopped; raise seconds in [limits]", limit.as_secs());
    Error::new(ErrorKind::Limit, message)
}
