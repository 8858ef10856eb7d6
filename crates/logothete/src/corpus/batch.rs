//! Many questions, whose answers go to a file that can be continued.

use std::collections::BTreeMap;
use std::fmt;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::future::ready;
use std::io::{BufRead, BufReader, BufWriter, Read as _, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use futures_util::{StreamExt, stream};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use serde::de::IgnoredAny;
use serde::{Deserialize, Serialize};

use super::Corpus;
use crate::answer::Reply;
use crate::search::SearchRequest;
use crate::threads::StopToken;

/// The version of the lines.
const VERSION: u32 = 1;

type Told = dyn Fn(&BatchProgress<'_>) + Send + Sync;

/// Many questions, and the file that their answers go to, as JSON Lines.
#[derive(Clone)]
pub struct AskBatch {
    file: PathBuf,
    max_concurrent: usize,
    stop: StopToken,
    told: Option<Arc<Told>>,
}

impl fmt::Debug for AskBatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("AskBatch")
            .field("file", &self.file)
            .field("max_concurrent", &self.max_concurrent)
            .finish_non_exhaustive()
    }
}

/// How far a batch is.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct BatchProgress<'a> {
    /// The number of the question that was answered, counted from 1.
    pub number: usize,
    /// The number of all questions.
    pub of: usize,
    /// The question.
    pub question: &'a str,
    /// The answer; `Err` if it failed.
    pub outcome: std::result::Result<&'a Reply, &'a Error>,
}

/// What came of a batch.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct BatchReport {
    /// The number of questions.
    pub questions: usize,
    /// Answers that the file had already.
    pub kept: usize,
    /// Answers that were made now, refusals included.
    pub answered: usize,
    /// Refusals among those that were made now.
    pub refused: usize,
    /// Questions that failed, with the reason; they are asked again when the batch is continued.
    pub failed: Vec<(usize, String)>,
    /// Whether it was stopped before its end.
    pub stopped: bool,
}

/// A line of the file, as it is written.
#[derive(Serialize)]
struct Written<'a> {
    version: u32,
    /// The number of the question, counted from 1.
    number: usize,
    question: &'a str,
    pipeline: &'a Fingerprint,
    #[serde(skip_serializing_if = "Option::is_none")]
    reply: Option<&'a Reply>,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<String>,
}

/// A line of the file, as it is read.
#[derive(Deserialize)]
struct Read {
    version: u32,
    number: usize,
    question: String,
    pipeline: Fingerprint,
    #[serde(default)]
    reply: Option<IgnoredAny>,
}

impl AskBatch {
    /// Creates a batch whose answers go to a file. If the file has answers to the same questions by the same pipeline, they are kept, and the rest is asked.
    pub fn new(file: impl Into<PathBuf>) -> Self {
        Self { file: file.into(), max_concurrent: 4, stop: StopToken::default(), told: None }
    }

    /// Asks up to so many questions at a time; 4 by default.
    #[must_use]
    pub fn max_concurrent(mut self, max: usize) -> Self {
        self.max_concurrent = max.max(1);
        self
    }

    /// Calls a function after each question.
    #[must_use]
    pub fn on_answer(mut self, told: impl Fn(&BatchProgress<'_>) + Send + Sync + 'static) -> Self {
        self.told = Some(Arc::new(told));
        self
    }

    /// Returns what stops the batch after the answers that are being made. What the file has stays.
    pub fn stop_token(&self) -> StopToken {
        self.stop.clone()
    }
}

impl Corpus {
    /// Answers many questions, some at a time, and writes a line of JSON for each to a file, in their order. A batch that was stopped, or whose process
    /// ended, is continued by asking it again: what the file has is not asked a second time, and a line that broke off is made anew.
    ///
    /// A line has `version`, `number` (from 1), `question`, `pipeline` (the fingerprint of [`describe`](crate::Pipeline::describe)), and `reply`, or `error`.
    /// Questions that failed are asked again, too. The file is locked for as long as it is written.
    ///
    /// # Errors
    /// If the file cannot be written, is of other questions or of another pipeline, or another process is writing it. A question that fails does not end the batch.
    pub async fn ask_batch<R: Into<SearchRequest>>(
        &self,
        requests: impl IntoIterator<Item = R>,
        batch: &AskBatch,
    ) -> Result<BatchReport> {
        let requests: Vec<SearchRequest> = requests.into_iter().map(Into::into).collect();
        let pipeline = self.pipeline().describe()?.fingerprint;
        let mut answers = Answers::open(&batch.file, &requests, &pipeline)?;
        let kept = answers.lines.len();
        let mut report = BatchReport { questions: requests.len(), kept, ..BatchReport::default() };
        let left: Vec<usize> = (1..=requests.len()).filter(|number| !answers.lines.contains_key(number)).collect();
        let in_order = left.first().is_none_or(|first| answers.lines.keys().all(|number| number < first));
        let asked = stream::iter(left).take_while(|_| ready(!batch.stop.is_stopped())).map(|number| {
            let request = requests[number - 1].clone();
            async move { (number, self.ask(request).await) }
        });
        let mut asked = asked.buffered(batch.max_concurrent);
        while let Some((number, outcome)) = asked.next().await {
            let question = requests[number - 1].query.as_str();
            let (reply, error) = (outcome.as_ref().ok(), outcome.as_ref().err().map(ToString::to_string));
            let line = Written { version: VERSION, number, question, pipeline: &pipeline, reply, error };
            let line = serde_json::to_string(&line).map_err(|error| answers.failed(&error.to_string()))?;
            answers.add(number, &line)?;
            match &outcome {
                Ok(reply) => {
                    report.answered += 1;
                    report.refused += usize::from(reply.answer.is_refusal());
                }
                Err(error) => report.failed.push((number, error.to_string())),
            }
            if let Some(told) = &batch.told {
                told(&BatchProgress { number, of: requests.len(), question, outcome: outcome.as_ref() });
            }
        }
        report.stopped = answers.lines.len() < requests.len();
        if !in_order {
            answers.rewrite()?;
        }
        answers.sync()?;
        Ok(report)
    }
}

/// The file of a batch, locked.
struct Answers {
    path: PathBuf,
    file: File,
    /// Where the line of each question is, without its end.
    lines: BTreeMap<usize, Range<u64>>,
    /// The length of the file.
    end: u64,
}

impl Answers {
    /// Opens the file. A line that broke off, or has an error, is removed.
    fn open(path: &Path, requests: &[SearchRequest], pipeline: &Fingerprint) -> Result<Self> {
        let (lines, end) = (BTreeMap::new(), 0);
        let file = OpenOptions::new().read(true).append(true).create(true).open(path);
        let file = file.map_err(|error| unwritten(path, &error))?;
        let mut answers = Self { path: path.to_owned(), file, lines, end };
        answers.lock()?;
        let mut is_clean = true;
        let mut reader = BufReader::new(&answers.file);
        for at in 1.. {
            // A line may have broken off inside a character.
            let mut line = Vec::new();
            let bytes = reader.read_until(b'\n', &mut line).map_err(|error| unwritten(path, &error))? as u64;
            if bytes == 0 {
                break;
            }
            let is_whole = line.ends_with(b"\n");
            let place = answers.end..answers.end + line.trim_ascii_end().len() as u64;
            answers.end += bytes;
            let read = match serde_json::from_slice::<Read>(&line) {
                Ok(read) => read,
                // The process ended while it wrote.
                Err(_) if !is_whole => {
                    is_clean = false;
                    break;
                }
                Err(_) => return Err(other(path, &format!("line {at} is no answer"))),
            };
            let asked = read.number.checked_sub(1).and_then(|at| requests.get(at));
            if read.version != VERSION || asked.is_none_or(|asked| asked.query != read.question) {
                return Err(other(path, &format!("line {at} answers another question")));
            }
            if read.pipeline != *pipeline {
                return Err(other(path, &format!("line {at} was answered by another pipeline")));
            }
            if read.reply.is_some() && is_whole {
                answers.lines.insert(read.number, place);
            } else {
                is_clean = false;
            }
        }
        drop(reader);
        if !is_clean {
            answers.rewrite()?;
        }
        Ok(answers)
    }

    fn lock(&self) -> Result<()> {
        match self.file.try_lock() {
            Ok(()) => Ok(()),
            Err(TryLockError::WouldBlock) => {
                let message = "another process writes these answers; wait for it, or name another file";
                Err(Error::new(ErrorKind::Busy, message).at(self.path.display()))
            }
            Err(TryLockError::Error(error)) => Err(unwritten(&self.path, &error)),
        }
    }

    fn failed(&self, why: &dyn fmt::Display) -> Error {
        unwritten(&self.path, why)
    }

    fn add(&mut self, number: usize, line: &str) -> Result<()> {
        // One call, so that a process that ends leaves whole lines, or one that is seen to have broken off.
        self.file.write_all(format!("{line}\n").as_bytes()).map_err(|error| self.failed(&error))?;
        let end = self.end + line.len() as u64;
        self.lines.insert(number, self.end..end);
        self.end = end + 1;
        Ok(())
    }

    fn sync(&self) -> Result<()> {
        self.file.sync_all().map_err(|error| self.failed(&error))
    }

    /// Writes the lines in the order of the questions to a file beside it, which then takes its place.
    fn rewrite(&mut self) -> Result<()> {
        let mut beside = self.path.clone().into_os_string();
        beside.push(".new");
        let written = self.written_in_order(Path::new(&beside)).and_then(|(file, lines)| {
            fs::rename(&beside, &self.path)?;
            Ok((file, lines))
        });
        (self.file, self.lines) = written.map_err(|error| self.failed(&error))?;
        self.end = self.lines.values().last().map_or(0, |line| line.end + 1);
        Ok(())
    }

    fn written_in_order(&self, beside: &Path) -> std::io::Result<(File, BTreeMap<usize, Range<u64>>)> {
        let file = OpenOptions::new().read(true).append(true).create(true).open(beside)?;
        file.try_lock()?;
        file.set_len(0)?;
        let (mut from, mut to) = (&self.file, BufWriter::new(&file));
        let (mut lines, mut end) = (BTreeMap::new(), 0);
        for (number, place) in &self.lines {
            from.seek(SeekFrom::Start(place.start))?;
            let length = std::io::copy(&mut from.take(place.end - place.start), &mut to)?;
            to.write_all(b"\n")?;
            lines.insert(*number, end..end + length);
            end += length + 1;
        }
        to.flush()?;
        drop(to);
        file.sync_all()?;
        Ok((file, lines))
    }
}

fn unwritten(path: &Path, why: &dyn fmt::Display) -> Error {
    Error::new(ErrorKind::System, format!("the answers could not be written: {why}")).at(path.display())
}

/// Returns the error for a file that does not belong to the batch.
fn other(path: &Path, why: &str) -> Error {
    let message = format!("{why}; name another file, or remove this one");
    Error::new(ErrorKind::InvalidRequest, message).at(path.display())
}
