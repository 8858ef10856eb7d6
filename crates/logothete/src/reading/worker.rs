//! What runs in a process that reads documents.

use std::io::{Write, stdin, stdout};
use std::time::{Duration, Instant};

use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::Parsers;

use super::{Drawing, Guard, Reply, Request, Response, confine, draw_here, frame, read_here};
use crate::config::Config;
use crate::pipeline::parse_settings;
use crate::source::Content;
use crate::threads::caught_in;

/// The most bytes of replies to a request. The rest of the request is put off, since the other side may hold all replies.
const MAX_REPLIED: usize = 1_000_000;
/// The most bytes of replies that wait for the next ones, and the longest time.
const MAX_WAITING: usize = 64 * 1024;
const MAX_WAIT: Duration = Duration::from_millis(20);

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
    let (mut from, mut replies) = (stdin().lock(), Replies::default());
    let mut known: Option<Known> = None;
    while let Some(header) = frame::read(&mut from, u64::MAX).map_err(broken)? {
        let bytes = frame::read(&mut from, u64::MAX).map_err(broken)?.unwrap_or_default();
        let request: Request = rmp_serde::from_slice(&header)
            .map_err(|error| Error::new(ErrorKind::System, "a request could not be read").because(error))?;
        let settings = of_settings(&mut known, request.settings);
        let mut rest = bytes;
        replies.begin();
        for asked in request.files {
            let after = rest.split_off(asked.length.min(rest.len()));
            let content = Content { bytes: std::mem::replace(&mut rest, after), media_type: asked.media_type };
            let response = match settings {
                _ if replies.written > MAX_REPLIED => Response::PutOff,
                Ok(known) => respond(known, &asked.name, content, request.drawing.clone()),
                Err(ref error) => Response::failed(error),
            };
            let is_last = matches!(response, Response::PutOff);
            let lacks = settings.as_ref().map(|known| known.lacks.clone()).unwrap_or_default();
            replies.push(Reply { response, lacks }).map_err(broken)?;
            if is_last {
                break;
            }
        }
        replies.flush().map_err(broken)?;
    }
    Ok(())
}

fn respond(known: &Known, name: &str, content: Content, drawing: Option<(Drawing, f32)>) -> Response {
    confine::allow_time(known.config.limits.max_read_time());
    let response = match drawing {
        Some((drawing, scale)) => {
            caught_in("drawing", || draw_here(&known.config, content.bytes, drawing, scale)).map(Response::Drawn)
        }
        None => caught_in("the parser", || read_here(&known.parsers, &known.config, name, content))
            .map(|document| Response::Document(Box::new(document))),
    };
    response.unwrap_or_else(|error| Response::failed(&error))
}

/// Replies on their way to standard output. Small ones of a request go together, so that the other side wakes up once.
#[derive(Default)]
struct Replies {
    waiting: Vec<u8>,
    /// The bytes of the replies to the present request.
    written: usize,
    since: Option<Instant>,
}

impl Replies {
    fn begin(&mut self) {
        (self.written, self.since) = (0, Some(Instant::now()));
    }

    fn push(&mut self, reply: Reply) -> std::io::Result<()> {
        let written = rmp_serde::to_vec_named(&reply).map_err(std::io::Error::other)?;
        drop(reply);
        self.written += written.len();
        if written.len() >= MAX_WAITING {
            self.flush()?;
            return frame::write(&mut stdout().lock(), &[&written]);
        }
        frame::append(&mut self.waiting, &written);
        match self.since {
            Some(since) if self.waiting.len() < MAX_WAITING && since.elapsed() < MAX_WAIT => Ok(()),
            _ => self.flush(),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        let mut to = stdout().lock();
        to.write_all(&self.waiting)?;
        self.waiting.clear();
        to.flush()
    }
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
