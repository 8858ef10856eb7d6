//! What runs in a process that reads documents.

use std::io::{stdin, stdout};

use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::Parsers;

use super::{Guard, Reply, Request, Response, confine, draw_here, frame, read_here};
use crate::config::Config;
use crate::pipeline::parse_settings;
use crate::source::Content;
use crate::threads::caught_in;

/// The parsers for the settings that came last.
struct Known {
    config: Config,
    parsers: Parsers,
    /// The guards that the system lacks.
    lacks: Vec<Guard>,
}

/// Reads documents for the process that started this one, until that closes the pipe: requests come on standard input, and documents go to standard output.
/// Before the first one, the process gives up what it does not need: memory beyond its limit, files to write, connections. It is the whole of a program that
/// [`Pipeline::with_reader`](crate::Pipeline::with_reader) names.
///
/// # Errors
/// If a pipe breaks.
pub fn serve_reader() -> Result<()> {
    let broken = |error: std::io::Error| Error::new(ErrorKind::System, "the pipe of a reader broke").because(error);
    let (mut from, mut to) = (stdin().lock(), stdout().lock());
    let mut known: Option<Known> = None;
    while let Some(header) = frame::read(&mut from, u64::MAX).map_err(broken)? {
        let bytes = frame::read(&mut from, u64::MAX).map_err(broken)?.unwrap_or_default();
        let response = respond(&header, bytes, &mut known);
        let reply = Reply { response, lacks: known.as_ref().map(|known| known.lacks.clone()).unwrap_or_default() };
        let written = rmp_serde::to_vec_named(&reply)
            .map_err(|error| Error::new(ErrorKind::System, "a document could not be written").because(error))?;
        drop(reply);
        frame::write(&mut to, &[&written]).map_err(broken)?;
    }
    Ok(())
}

fn respond(header: &[u8], bytes: Vec<u8>, known: &mut Option<Known>) -> Response {
    let outcome = (|| {
        let request: Request = rmp_serde::from_slice(header)
            .map_err(|error| Error::new(ErrorKind::System, "a request could not be read").because(error))?;
        let known = of_settings(known, request.settings)?;
        confine::allow_time(known.config.limits.max_read_time());
        if let Some((drawing, scale)) = request.drawing {
            let drawn = caught_in("drawing", || draw_here(&known.config, bytes, drawing, scale));
            return drawn.map(Response::Drawn);
        }
        let content = Content { bytes, media_type: request.media_type };
        let read = caught_in("the parser", || read_here(&known.parsers, &known.config, &request.name, content));
        read.map(|document| Response::Document(Box::new(document)))
    })();
    outcome.unwrap_or_else(|error| Response::failed(&error))
}

/// Returns the parsers for some settings, made once. The first ones decide what the process may use.
fn of_settings(known: &mut Option<Known>, settings: Option<String>) -> Result<&Known> {
    if let Some(settings) = settings {
        let lacks = known.as_ref().map(|known| known.lacks.clone());
        let config = Config::parse(&settings)?;
        let made = parse_settings(&config)?;
        let lacks = lacks.unwrap_or_else(|| confine::confine(config.limits.reader_bytes(), made.recogniser.is_some()));
        *known = Some(Known { parsers: Parsers::new(&made), config, lacks });
    }
    known.as_ref().ok_or_else(|| Error::new(ErrorKind::System, "there are no settings"))
}
