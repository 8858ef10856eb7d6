//! Doing what the plan says: read, parse, cut, encode, in parallel and in order.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use logothete_core::Result;
use logothete_core::chunk::{self, Chunk};
use logothete_core::document::{Date, Document, Value};
use rayon::prelude::*;

use super::batch::{Batch, Change};
use super::plan::{self, Candidate, Seen, Walk};
use super::{BuildReport, BuildRequest, Failure, Progress};
use crate::corpus::{FileState, Inner, Known, WriterLock};
use crate::pool::Waiter;
use crate::source::Item;
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
pub(crate) fn run(inner: &Inner, request: &BuildRequest, waiter: &Waiter) -> Result<BuildReport> {
    let started = Instant::now();
    let _lock = WriterLock::take(&inner.folder)?;
    let mut report = BuildReport::default();
    let outcome = build(inner, request, waiter, &mut report);
    inner.refresh();
    outcome?;
    report.chunks = inner.catalogue().count_chunks()?;
    report.took_ms = milliseconds(started);
    Ok(report)
}

fn build(inner: &Inner, request: &BuildRequest, waiter: &Waiter, report: &mut BuildReport) -> Result<()> {
    let stop = request.stop_token();
    let stages = Stages {
        parser: inner.pipeline.parse_fingerprint().to_string(),
        chunker: inner.pipeline.chunker.fingerprint().to_string(),
    };
    let planned = plan::sources(&mut inner.catalogue(), request, report)?;
    let mut batch = Batch::new(inner);
    let mut seen = Seen::default();
    let mut progress = Progress { done: 0, total: 0, document: String::new() };
    if request.on_progress.is_some() {
        // Counting walks the sources once more, and holds nothing.
        progress.total = planned.iter().filter_map(|one| Some(waiter.wait(one.source.items()).ok()?.count())).sum();
    }
    let mut gone = Vec::new();
    for source in &planned {
        let Some(mut walk) = Walk::begin(source, waiter, report) else { continue };
        while !stop.is_stopped() {
            let window = walk.next(WINDOW, &inner.catalogue(), &mut seen, report)?;
            if window.is_empty() {
                break;
            }
            let outcomes: Vec<Option<Outcome>> = window
                .par_iter()
                .map(|candidate| (!stop.is_stopped()).then(|| look(inner, candidate, request, waiter, &stages)))
                .collect();
            for (candidate, outcome) in window.iter().zip(outcomes) {
                match outcome {
                    None => continue,
                    Some(Outcome::Unchanged(touched)) => {
                        report.unchanged += 1;
                        batch.touch(touched);
                    }
                    Some(Outcome::Failed(failure)) => report.failed.push(failure),
                    Some(Outcome::Read(change)) => batch.add(*change, report)?,
                }
                progress.done += 1;
                if let Some(callback) = &request.on_progress {
                    progress.total = progress.total.max(progress.done);
                    progress.document.clone_from(&candidate.name);
                    callback(&progress);
                }
            }
        }
        if !stop.is_stopped() {
            gone.extend(walk.end(&inner.catalogue(), request.prune, report)?);
        }
    }
    if !stop.is_stopped() {
        for known in gone {
            batch.remove(&known, report);
        }
        // Documents of other sources that another chunker cut are cut again from their stored text.
        batch.commit()?;
        let stale = inner.catalogue().known_cut_otherwise(&stages.chunker)?;
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

/// The fingerprints of the stages before encoding.
struct Stages {
    parser: String,
    chunker: String,
}

/// Looks at an item and reads it if it has changed.
fn look(inner: &Inner, candidate: &Candidate, request: &BuildRequest, waiter: &Waiter, stages: &Stages) -> Outcome {
    match try_look(inner, candidate, request, waiter, stages) {
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

fn try_look(
    inner: &Inner,
    candidate: &Candidate,
    request: &BuildRequest,
    waiter: &Waiter,
    stages: &Stages,
) -> Result<Outcome> {
    let item = &candidate.item;
    let modified = nanoseconds(item.modified);
    let mut state = FileState { size: item.size.unwrap_or(0), modified, seen: now(), hash: String::new() };
    let known = candidate.known.as_ref();
    let same_stages = known.is_some_and(|known| known.parser == stages.parser && known.chunker == stages.chunker);
    if let Some(known) = known.filter(|_| same_stages && item.modified.is_some())
        && known.size == state.size
        && known.modified == state.modified
        && known.modified + CLOCK_DOUBT < known.seen
    {
        return Ok(Outcome::Unchanged(None));
    }
    let content = waiter.wait(candidate.from.read(item, inner.pipeline.settings.largest_file))?;
    state.size = content.bytes.len() as u64;
    state.hash = blake3::hash(&content.bytes).to_hex().to_string();
    if let Some(known) = known.filter(|known| known.hash == state.hash && known.parser == stages.parser) {
        if known.chunker == stages.chunker {
            return Ok(Outcome::Unchanged(Some((known.id, state))));
        }
        return Ok(Outcome::Read(Box::new(cut_again(inner, known, Some(state))?)));
    }
    let mut document = inner.pipeline.parse_content(&candidate.name, content)?;
    complete(&mut document, item, &state, request);
    let chunks = cut(inner, &candidate.identity, &document)?;
    Ok(Outcome::Read(Box::new(Change {
        replaces: known.cloned(),
        place: Some((candidate.source, candidate.path.clone())),
        document,
        state: Some(state),
        parser: stages.parser.clone(),
        chunks,
    })))
}

/// Adds what the source, the file and the caller say to a document's metadata. What it says itself goes before.
fn complete(document: &mut Document, item: &Item, state: &FileState, request: &BuildRequest) {
    let mut add = |name: &str, value: Value| {
        document.metadata.entry(name.to_owned()).or_insert(value);
    };
    let file = item.path.rsplit('/').next().unwrap_or(&item.path);
    add("file_name", Value::Text(file.to_owned()));
    add("file_size", Value::Number(state.size as f64));
    add("content_hash", Value::Text(state.hash.clone()));
    if state.modified > 0 {
        add("modified", Value::Date(Date::from_unix(state.modified.div_euclid(1_000_000_000))));
    }
    for (name, value) in item.metadata.iter().chain(&request.metadata) {
        add(name, value.clone());
    }
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
