//! Doing what the plan says: read, parse, cut, encode, in parallel and in order.

use std::fs;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

use logothete_core::chunk::{self, Chunk};
use logothete_core::document::Document;
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use super::batch::{Batch, Change};
use super::plan::{Candidate, plan};
use super::{BuildReport, BuildRequest, Failure, Progress};
use crate::corpus::{FileState, Inner, Known, WriterLock};
use crate::trace::milliseconds;

/// How many files are in work at a time; it bounds the memory.
const WINDOW: usize = 32;
/// A file changed less than this before it was read may have changed again within the clock's resolution.
const CLOCK_DOUBT: i64 = 2_000_000_000;

/// What became of a file.
enum Outcome {
    /// It is as it was, or only its times have changed.
    Unchanged(Option<(i64, FileState)>),
    /// It was read.
    Read(Box<Change>),
    /// It could not be read.
    Failed(Failure),
}

/// Runs a build.
pub(crate) fn run(inner: &Inner, request: &BuildRequest) -> Result<BuildReport> {
    let started = Instant::now();
    let _lock = WriterLock::take(&inner.folder)?;
    let mut report = BuildReport::default();
    let outcome = build(inner, request, &mut report);
    inner.refresh();
    outcome?;
    report.chunks = inner.catalogue().count_chunks()?;
    report.took_ms = milliseconds(started);
    Ok(report)
}

fn build(inner: &Inner, request: &BuildRequest, report: &mut BuildReport) -> Result<()> {
    let stop = request.stop_token();
    let plan = plan(&mut inner.catalogue(), &request.paths, request.prune, report)?;
    let chunker = inner.pipeline.chunker.fingerprint().to_string();
    let parser = logothete_parse::fingerprint().to_string();
    let mut batch = Batch::new(inner);
    let total = plan.candidates.len();
    for (number, window) in plan.candidates.chunks(WINDOW).enumerate() {
        if stop.is_stopped() {
            break;
        }
        let outcomes: Vec<Option<Outcome>> = window
            .par_iter()
            .map(|candidate| (!stop.is_stopped()).then(|| look(inner, candidate, &parser, &chunker)))
            .collect();
        for (index, (candidate, outcome)) in window.iter().zip(outcomes).enumerate() {
            match outcome {
                None => continue,
                Some(Outcome::Unchanged(touched)) => {
                    report.unchanged += 1;
                    batch.touch(touched);
                }
                Some(Outcome::Failed(failure)) => report.failed.push(failure),
                Some(Outcome::Read(change)) => batch.add(*change, report)?,
            }
            if let Some(callback) = &request.on_progress {
                let done = number * WINDOW + index + 1;
                callback(&Progress { done, total, document: candidate.name.clone() });
            }
        }
    }
    if !stop.is_stopped() {
        for known in plan.gone {
            batch.remove(&known, report);
        }
        // Documents of other sources that another chunker cut are cut again from their stored text.
        batch.commit()?;
        let stale = inner.catalogue().known_cut_otherwise(&chunker)?;
        for known in stale {
            if stop.is_stopped() {
                break;
            }
            let change = cut_again(inner, &known, None)?;
            batch.add(change, report)?;
        }
    }
    report.stopped = stop.is_stopped();
    batch.finish()
}

/// Looks at a file and reads it if it has changed.
fn look(inner: &Inner, candidate: &Candidate, parser: &str, chunker: &str) -> Outcome {
    match try_look(inner, candidate, parser, chunker) {
        Ok(outcome) => outcome,
        Err(error) => Outcome::Failed(Failure {
            document: candidate.name.clone(),
            reason: match &candidate.known {
                Some(_) => format!("{error}; the corpus keeps it as it was read before"),
                None => error.to_string(),
            },
        }),
    }
}

fn try_look(inner: &Inner, candidate: &Candidate, parser: &str, chunker: &str) -> Result<Outcome> {
    let unreadable =
        |error: std::io::Error| Error::new(ErrorKind::System, format!("it could not be read: {error}")).because(error);
    let data = fs::metadata(&candidate.item.file).map_err(unreadable)?;
    let largest = inner.pipeline.settings.largest_file;
    if data.len() > largest {
        let message = format!(
            "it has {} MB and the limit is {} MB; raise file_megabytes in [limits] to read it",
            data.len() / 1_000_000,
            largest / 1_000_000
        );
        return Err(Error::new(ErrorKind::Limit, message));
    }
    let mut state =
        FileState { size: data.len(), modified: nanoseconds(data.modified().ok()), seen: now(), hash: String::new() };
    let known = candidate.known.as_ref();
    let same_stages = known.is_some_and(|known| known.parser == parser && known.chunker == chunker);
    if let Some(known) = known.filter(|_| same_stages)
        && known.size == state.size
        && known.modified == state.modified
        && known.modified + CLOCK_DOUBT < known.seen
    {
        return Ok(Outcome::Unchanged(None));
    }
    let bytes = fs::read(&candidate.item.file).map_err(unreadable)?;
    state.size = bytes.len() as u64;
    state.hash = blake3::hash(&bytes).to_hex().to_string();
    if let Some(known) = known.filter(|known| known.hash == state.hash && known.parser == parser) {
        if known.chunker == chunker {
            return Ok(Outcome::Unchanged(Some((known.id, state))));
        }
        return Ok(Outcome::Read(Box::new(cut_again(inner, known, Some(state))?)));
    }
    let document = logothete_parse::parse(&candidate.name, &bytes)?;
    let chunks = cut(inner, &candidate.identity, &document)?;
    Ok(Outcome::Read(Box::new(Change {
        replaces: known.cloned(),
        place: Some((candidate.source, candidate.item.path.clone())),
        document,
        state: Some(state),
        parser: parser.to_owned(),
        chunks,
    })))
}

fn cut(inner: &Inner, identity: &str, document: &Document) -> Result<Vec<Chunk>> {
    chunk::chunks(document, identity, &*inner.pipeline.chunker)
}

/// Cuts a document again from its stored text.
fn cut_again(inner: &Inner, known: &Known, state: Option<FileState>) -> Result<Change> {
    let document = inner.catalogue().document(known.id)?;
    let chunks = cut(inner, &known.identity, &document)?;
    Ok(Change { replaces: Some(known.clone()), place: None, document, state, parser: known.parser.clone(), chunks })
}

fn now() -> i64 {
    nanoseconds(Some(SystemTime::now()))
}

fn nanoseconds(time: Option<SystemTime>) -> i64 {
    let since = time.and_then(|time| time.duration_since(UNIX_EPOCH).ok()).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
}
