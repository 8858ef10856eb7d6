//! The processes that read documents, seen from the one that starts them.

use std::fmt;
use std::io::{BufReader, Read};
use std::path::PathBuf;
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::thread;
use std::time::Duration;

use logothete_core::document::Document;
use logothete_core::{Error, ErrorKind, Result};

use super::{Asked, Drawing, Drawn, Guard, Reply, Request, Response, frame, settings, too_slow};
use crate::config::{ChunkConfig, Config, LimitsConfig, ParseConfig};
use crate::source::Content;
use crate::threads::process;

/// A reader ends in good order at its limit, and is killed so much later.
const GRACE: Duration = Duration::from_secs(2);
/// A reader that has read so many documents is replaced, so that what they left behind in its memory goes.
const MAX_DOCUMENTS: usize = 2_000;
/// So long the end of what a dead reader said is waited for.
const LAST_WORDS: Duration = Duration::from_millis(500);
/// So many bytes of what a reader says last are kept.
const MAX_SAID: usize = 4_000;

/// Processes that read documents, started when they are needed and kept for the next document.
pub(crate) struct Workers {
    program: PathBuf,
    arguments: Vec<String>,
    idle: Mutex<Vec<Worker>>,
    /// The settings that were written last.
    written: Mutex<Option<Written>>,
    /// The guards that the readers do without, as the first one said.
    lacks: OnceLock<Vec<Guard>>,
}

/// Settings, and how they are sent.
struct Written {
    parse: ParseConfig,
    chunk: ChunkConfig,
    limits: LimitsConfig,
    text: Arc<str>,
}

impl fmt::Debug for Workers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Workers").field("program", &self.program).finish_non_exhaustive()
    }
}

/// A process that reads documents.
struct Worker {
    child: Child,
    to: Option<ChildStdin>,
    /// What a thread of its own reads from its pipe; the channel closes when the pipe does.
    from: Receiver<std::io::Result<Vec<u8>>>,
    /// The end of what it wrote to standard error.
    said: Arc<Mutex<Vec<u8>>>,
    /// Closes when nothing more of it comes.
    closed: Receiver<()>,
    /// The settings that it was sent last.
    settings: Option<Arc<str>>,
    documents: usize,
}

impl Workers {
    pub(crate) fn new(program: PathBuf, arguments: Vec<String>) -> Self {
        Self { program, arguments, idle: Mutex::default(), written: Mutex::default(), lacks: OnceLock::new() }
    }

    /// Has a document read.
    ///
    /// # Errors
    /// If it cannot be read, takes too long or too much memory, or ends its reader. The next document gets another one.
    pub(crate) fn read(&self, config: &Config, name: &str, content: Content) -> Result<Document> {
        let files = vec![Asked { name: name.to_owned(), media_type: content.media_type, length: content.bytes.len() }];
        document(self.ask_one(config, Request { files, settings: None, drawing: None }, content.bytes)?)
    }

    /// Has small documents read by one reader, which is woken once for all of them. Returns as many results, in the same order.
    ///
    /// When the reader ends, what it has not returned is read anew, each file alone, so that its end is the fault of one.
    pub(crate) fn read_all(&self, config: &Config, files: Vec<(String, Content)>) -> Vec<Result<Document>> {
        let mut documents = Vec::with_capacity(files.len());
        if files.len() > 1 {
            let asked = files.iter().map(|(name, content)| Asked {
                name: name.clone(),
                media_type: content.media_type.clone(),
                length: content.bytes.len(),
            });
            let request = Request { files: asked.collect(), settings: None, drawing: None };
            let bytes = files.iter().flat_map(|(_, content)| &content.bytes).copied().collect();
            // What went wrong then is found out when the next file is asked for alone.
            let (responses, _) = self.ask(config, request, bytes);
            documents.extend(responses.into_iter().map(|response| document(response.checked()?)));
        }
        let rest = files.into_iter().skip(documents.len());
        documents.extend(rest.map(|(name, content)| self.read(config, &name, content)).collect::<Vec<_>>());
        documents
    }

    /// Has something drawn.
    ///
    /// # Errors
    /// As [`read`](Self::read).
    pub(crate) fn draw(&self, config: &Config, bytes: Vec<u8>, drawing: Drawing, scale: f32) -> Result<Drawn> {
        let files = vec![Asked { name: String::new(), media_type: None, length: bytes.len() }];
        let request = Request { files, settings: None, drawing: Some((drawing, scale)) };
        match self.ask_one(config, request, bytes)? {
            Response::Drawn(drawn) => Ok(drawn),
            _ => Err(unexpected()),
        }
    }

    /// Returns what a reader that a hostile file has taken over could do here, if the system lacks what would keep it from that.
    pub(crate) fn advice(&self) -> Option<String> {
        let lacks = self.lacks.get()?;
        let (guards, deeds) = match (lacks.contains(&Guard::Landlock), lacks.contains(&Guard::Filters)) {
            (false, false) => return None,
            (true, false) => ("Landlock", "make and remove files"),
            (false, true) => ("filters of system calls", "open connections"),
            (true, true) => ("Landlock and no filters of system calls", "make and remove files, and open connections"),
        };
        Some(format!(
            "this system has no {guards}: a hostile file that takes over its reader could {deeds}; read strangers' files on a Linux kernel that has them"
        ))
    }

    /// Returns the settings as they are sent. Writing them takes longer than reading a small file.
    fn settings(&self, config: &Config) -> Result<Arc<str>> {
        let mut written = self.written.lock().unwrap_or_else(PoisonError::into_inner);
        let same = |written: &&Written| {
            written.parse == config.parse && written.chunk == config.chunk && written.limits == config.limits
        };
        if let Some(written) = written.as_ref().filter(same) {
            return Ok(written.text.clone());
        }
        let text: Arc<str> = settings(config)?.into();
        let (parse, chunk, limits) = (config.parse.clone(), config.chunk.clone(), config.limits.clone());
        *written = Some(Written { parse, chunk, limits, text: text.clone() });
        Ok(text)
    }

    /// Sends a request of one file to a reader, and waits for its response.
    fn ask_one(&self, config: &Config, request: Request, bytes: Vec<u8>) -> Result<Response> {
        match self.ask(config, request, bytes) {
            (_, Some(error)) => Err(error),
            (mut responses, None) => responses.pop().ok_or_else(unexpected)?.checked(),
        }
    }

    /// Sends a request to a reader and waits for its responses. Returns those that came, in the order of the files, and what ended the reader before it had
    /// returned them all. There are fewer without an error if it put some off.
    fn ask(&self, config: &Config, request: Request, bytes: Vec<u8>) -> (Vec<Response>, Option<Error>) {
        let mut responses = Vec::with_capacity(request.files.len());
        let failed = self.try_ask(config, request, bytes, &mut responses).err();
        (responses, failed)
    }

    fn try_ask(
        &self,
        config: &Config,
        mut request: Request,
        bytes: Vec<u8>,
        responses: &mut Vec<Response>,
    ) -> Result<()> {
        let settings = self.settings(config)?;
        let idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut worker = match idle {
            Some(worker) => worker,
            None => self.start(config)?,
        };
        // A reader remembers them.
        if worker.settings.as_ref() != Some(&settings) {
            request.settings = Some(settings.to_string());
            worker.settings = Some(settings);
        }
        let header = rmp_serde::to_vec_named(&request)
            .map_err(|error| Error::new(ErrorKind::System, "a request could not be written").because(error))?;
        let mut sent = worker.send(&header, &bytes);
        drop(bytes);
        let limit = config.limits.max_read_time();
        for _ in &request.files {
            let received = std::mem::replace(&mut sent, Ok(())).and_then(|()| worker.receive(limit + GRACE));
            let reply = match received {
                Ok(Some(reply)) => reply,
                Ok(None) => {
                    worker.end();
                    return Err(too_slow(limit));
                }
                Err(error) if error.kind() == std::io::ErrorKind::FileTooLarge => {
                    worker.end();
                    return Err(too_large(config));
                }
                Err(_) => return Err(worker.death(config)),
            };
            // One that returns anything else is not asked again.
            let Reply { response, lacks } = rmp_serde::from_slice(&reply).map_err(|error| {
                Error::new(ErrorKind::System, "what a reader returned could not be read").because(error)
            })?;
            self.lacks.get_or_init(|| lacks);
            match response {
                Response::PutOff => break,
                // One that failed may have failed at the settings, and does not know them.
                Response::Error { .. } => worker.settings = None,
                _ => {}
            }
            worker.documents += 1;
            responses.push(response);
        }
        if worker.documents < MAX_DOCUMENTS {
            self.idle.lock().unwrap_or_else(PoisonError::into_inner).push(worker);
        }
        Ok(())
    }

    fn start(&self, config: &Config) -> Result<Worker> {
        let mut command = Command::new(&self.program);
        command.args(&self.arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        process::lead_a_group(&mut command);
        let failed = |error: std::io::Error| {
            let message = format!("the reader {} could not be started: {error}", self.program.display());
            Error::new(ErrorKind::System, message).because(error)
        };
        let mut child = command.spawn().map_err(failed)?;
        let (to, from, errors) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let (sender, receiver) = channel();
        let max = config.limits.reader_bytes();
        if let Some(from) = from {
            thread::spawn(move || {
                let mut from = BufReader::new(from);
                loop {
                    let frame = frame::read(&mut from, max);
                    let ends = !matches!(frame, Ok(Some(_)));
                    // Nobody receives it if the worker was given up.
                    if let Some(frame) = frame.transpose() {
                        let _ = sender.send(frame);
                    }
                    if ends {
                        break;
                    }
                }
            });
        }
        let said = Arc::<Mutex<Vec<u8>>>::default();
        let (open, closed) = channel::<()>();
        if let Some(mut errors) = errors {
            let said = said.clone();
            thread::spawn(move || {
                let _open = open;
                let mut part = [0; 1_024];
                while let Ok(count @ 1..) = errors.read(&mut part) {
                    let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
                    said.extend_from_slice(&part[..count]);
                    let over = said.len().saturating_sub(MAX_SAID);
                    said.drain(..over);
                }
            });
        }
        Ok(Worker { child, to, from: receiver, said, closed, settings: None, documents: 0 })
    }
}

impl Worker {
    fn send(&mut self, header: &[u8], bytes: &[u8]) -> std::io::Result<()> {
        let Some(to) = &mut self.to else { return Err(std::io::ErrorKind::BrokenPipe.into()) };
        frame::write(to, &[header, bytes])
    }

    /// Waits for a response; `None` means that the time is over.
    fn receive(&self, limit: Duration) -> std::io::Result<Option<Vec<u8>>> {
        match self.from.recv_timeout(limit) {
            Ok(frame) => frame.map(Some),
            Err(RecvTimeoutError::Timeout) => Ok(None),
            Err(RecvTimeoutError::Disconnected) => Err(std::io::ErrorKind::UnexpectedEof.into()),
        }
    }

    /// Ends the process with all that it started, and waits for it.
    fn end(&mut self) -> Option<ExitStatus> {
        self.to = None;
        process::end(&mut self.child)
    }

    /// Returns why the process has ended.
    fn death(mut self, config: &Config) -> Error {
        self.to = None;
        // It may still be about to end, and has closed its pipes already.
        for _ in 0..50 {
            if process::has_ended(&self.child) {
                break;
            }
            thread::sleep(Duration::from_millis(10));
        }
        let status = self.end();
        // What it said last may not have been read yet. A process that it started may keep the pipe open.
        let _ = self.closed.recv_timeout(LAST_WORDS);
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        let said = String::from_utf8_lossy(&said);
        if said.contains("memory allocation of") {
            return too_large(config);
        }
        if said.contains("overflowed its stack") {
            return Error::new(ErrorKind::Unreadable, "the file nests too deeply, and ended the process that read it");
        }
        if ended_by(status, 24) {
            return too_slow(config.limits.max_read_time());
        }
        let how = status.map_or_else(|| "it is gone".to_owned(), |status| status.to_string());
        // Somebody else ended it: hangup, interrupt, kill and terminate say nothing of the file.
        if [1, 2, 9, 15].iter().any(|signal| ended_by(status, *signal)) {
            return Error::new(
                ErrorKind::System,
                format!("the process that read the file was ended ({how}); build again"),
            );
        }
        Error::new(ErrorKind::Unreadable, format!("the file ended the process that read it ({how})"))
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        self.end();
    }
}

/// Returns `true` if a signal of the system ended a process.
#[cfg(unix)]
fn ended_by(status: Option<ExitStatus>, signal: i32) -> bool {
    use std::os::unix::process::ExitStatusExt;
    status.is_some_and(|status| status.signal() == Some(signal))
}

#[cfg(not(unix))]
fn ended_by(_: Option<ExitStatus>, _: i32) -> bool {
    false
}

/// Returns the document that a response is.
fn document(response: Response) -> Result<Document> {
    match response {
        Response::Document(document) => Ok(*document),
        _ => Err(unexpected()),
    }
}

fn unexpected() -> Error {
    Error::new(ErrorKind::System, "a reader returned something else than it was asked for")
}

fn too_large(config: &Config) -> Error {
    let message = format!(
        "reading took more than {} MB of memory and was stopped; raise memory_megabytes in [limits], half of which a reader may use",
        config.limits.reader_bytes() / 1_000_000
    );
    Error::new(ErrorKind::Limit, message)
}
