//! Doing what the plan says: read, parse, cut, encode, in parallel and in order.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use logothete_core::Result;
use logothete_core::chunk::{self, Chunk};
use logothete_core::document::{Date, Document, Value};
use rayon::prelude::*;

use super::batch::{Batch, Change};
use super::contexts::{self, Written};
use super::plan::{self, Candidate, Seen, Walk, Window};
use super::repeats::Compared;
use super::spending::Spending;
use super::{BuildReport, BuildRequest, Failure, Meter};
use crate::corpus::{FileState, Inner, Known};
use crate::pool::Waiter;
use crate::source::Item;
use crate::trace::milliseconds;

/// A file changed less than this before it was read may have changed again within the clock's resolution.
const CLOCK_DOUBT: i64 = 2_000_000_000;

/// What became of a file.
pub(super) enum Outcome {
    /// It is as it was, or only its times have changed.
    Unchanged(Option<(i64, FileState)>),
    /// It was read.
    Read(Box<Change>),
    /// It could not be read.
    Failed(Failure),
    /// The build was stopped over it.
    Stopped,
}

/// Runs a build.
pub(crate) fn run(inner: &Inner, request: &BuildRequest, waiter: &Waiter) -> Result<BuildReport> {
    let started = Instant::now();
    let _lock = inner.write_lock()?;
    let mut report = BuildReport::default();
    build(inner, request, waiter, &mut report)?;
    report.chunks = inner.catalogue().count_chunks()?;
    report.took_ms = milliseconds(started);
    Ok(report)
}

fn build(inner: &Inner, request: &BuildRequest, waiter: &Waiter, report: &mut BuildReport) -> Result<()> {
    if let Some(writing) = &inner.chunking.writing {
        writing.generator()?;
    }
    let stop = request.stop_token();
    let spending = Spending::new(&inner.pipeline.settings);
    let look = Look::new(inner, request, waiter, Some(&spending));
    let ended = || stop.is_stopped() || spending.is_over();
    let planned = plan::sources(&mut inner.catalogue(), request, false, report)?;
    let mut batch = Batch::new(inner, &spending);
    let mut seen = Seen::default();
    let mut meter = Meter::new(request);
    if meter.is_heard() {
        // Counting walks the sources once more, and holds nothing.
        meter.total(planned.iter().filter_map(|one| Some(waiter.wait(one.source.items()).ok()?.count())).sum());
    }
    let (mut gone, room) = (Vec::new(), Window::of(&inner.pipeline.settings));
    for source in &planned {
        let Some(mut walk) = Walk::begin(source, waiter, report) else { continue };
        while !ended() {
            let window = walk.next(room, &inner.catalogue(), &mut seen, report)?;
            if window.is_empty() {
                break;
            }
            // Most are as they were, and are not worth another thread.
            let (same, window): (Vec<Candidate>, Vec<Candidate>) =
                window.into_iter().partition(|candidate| look.is_unchanged(candidate));
            report.unchanged += same.len();
            same.iter().for_each(|candidate| meter.next(&candidate.name));
            let outcomes: Vec<Option<Outcome>> =
                window.par_iter().map(|candidate| (!ended()).then(|| look.at(candidate))).collect();
            let mut changes = Vec::new();
            for (candidate, outcome) in window.iter().zip(outcomes) {
                match outcome {
                    None | Some(Outcome::Stopped) => continue,
                    Some(Outcome::Unchanged(touched)) => {
                        report.unchanged += 1;
                        batch.touch(touched);
                    }
                    Some(Outcome::Failed(failure)) => report.failed.push(failure),
                    Some(Outcome::Read(change)) => {
                        changes.push(*change);
                        continue;
                    }
                }
                meter.next(&candidate.name);
            }
            batch.add(changes, &stop, report, &mut meter)?;
        }
        if !ended() {
            gone.extend(walk.end(&inner.catalogue(), request.prune, |document| batch.is_moved(document), report)?);
        }
    }
    if !ended() {
        for known in gone {
            batch.remove(&known, report);
        }
        // Documents of other sources that another chunker cut are cut again from their stored text.
        batch.commit()?;
        let stale = inner.catalogue().known_cut_otherwise(&look.chunker)?;
        for known in stale {
            if ended() {
                break;
            }
            match look.cut_again(&known, None) {
                Ok(Some(change)) => batch.add(vec![change], &stop, report, &mut Meter::silent())?,
                Ok(None) => {}
                Err(error) => {
                    let reason = format!("{error}; the corpus keeps it as it was cut before");
                    report.failed.push(Failure { document: known.name.clone(), reason });
                }
            }
        }
    }
    report.capped = spending.message();
    report.advice = batch.advice();
    let settings = &inner.pipeline.settings;
    let cost = settings.price(report.tokens) + settings.price_of_encoding(report.encoded_tokens);
    report.cost = settings.has_prices().then_some(cost);
    meter.indexes();
    batch.finish(&stop)?;
    report.stopped = stop.is_stopped() || report.capped.is_some();
    Ok(())
}

/// What a document was cut into.
struct Cut {
    chunks: Vec<Chunk>,
    compared: Vec<Compared>,
    written: Written,
}

/// Looks at items and reads those that have changed.
pub(super) struct Look<'a> {
    inner: &'a Inner,
    request: &'a BuildRequest,
    waiter: &'a Waiter,
    /// The fingerprints of the stages before encoding.
    parser: String,
    chunker: String,
    /// What contexts are counted against; without it none are written, for an estimate.
    spending: Option<&'a Spending>,
}

impl<'a> Look<'a> {
    pub(super) fn new(
        inner: &'a Inner,
        request: &'a BuildRequest,
        waiter: &'a Waiter,
        spending: Option<&'a Spending>,
    ) -> Self {
        let parser = inner.pipeline.parse_fingerprint().to_string();
        let chunker = inner.chunking.fingerprint().to_string();
        Self { inner, request, waiter, parser, chunker, spending }
    }

    /// Whether a file is as it was by its size, time and inode; one that was young when it was read may have changed within the
    /// resolution of the clock.
    fn is_unchanged(&self, candidate: &Candidate) -> bool {
        let item = &candidate.item;
        let modified = nanoseconds(item.modified);
        candidate.known.as_ref().is_some_and(|known| {
            item.modified.is_some()
                && known.modified == modified
                && known.modified + CLOCK_DOUBT < known.seen
                && known.size == item.size.unwrap_or(0)
                && known.inode == item.inode.map(u64::cast_signed)
                && known.parser == self.parser
                && known.chunker == self.chunker
        })
    }

    /// Looks at an item.
    pub(super) fn at(&self, candidate: &Candidate) -> Outcome {
        match self.try_at(candidate) {
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

    fn try_at(&self, candidate: &Candidate) -> Result<Outcome> {
        let (item, known) = (&candidate.item, candidate.known.as_ref());
        if self.is_unchanged(candidate) {
            return Ok(Outcome::Unchanged(None));
        }
        let (modified, inode) = (nanoseconds(item.modified), item.inode.map(u64::cast_signed));
        let mut state = FileState { size: item.size.unwrap_or(0), modified, inode, seen: now(), hash: String::new() };
        let most = self.inner.pipeline.settings.largest_file;
        let content = self.waiter.wait(candidate.from.read(item, most))?;
        state.size = content.bytes.len() as u64;
        state.hash = blake3::hash(&content.bytes).to_hex().to_string();
        if let Some(known) = known.filter(|known| known.hash == state.hash && known.parser == self.parser) {
            if known.chunker == self.chunker {
                return Ok(Outcome::Unchanged(Some((known.id, state))));
            }
            return Ok(self
                .cut_again(known, Some(state))?
                .map_or(Outcome::Stopped, |change| Outcome::Read(Box::new(change))));
        }
        // The same content was read from another place: moved, or copied.
        let like = match known {
            Some(_) => None,
            None => self.inner.catalogue().known_by_content(&state.hash, &self.parser)?,
        };
        let stored = like.as_ref().map(|like| self.inner.catalogue().document(like.id)).transpose()?;
        // What is said of it now may be other than what was said of it there.
        let given = |document: &Document| {
            item.metadata
                .iter()
                .chain(&self.request.metadata)
                .all(|(name, value)| document.metadata.get(name) == Some(value))
        };
        let (like, mut document) = match stored.filter(given) {
            Some(mut document) => {
                FROM_ITEM.iter().for_each(|field| drop(document.metadata.remove(*field)));
                document.name.clone_from(&candidate.name);
                (like, document)
            }
            None => (None, self.inner.pipeline.parse_content(&candidate.name, content)?),
        };
        complete(&mut document, item, &state, self.request);
        let Some(cut) = self.cut(&candidate.identity, &document)? else { return Ok(Outcome::Stopped) };
        Ok(Outcome::Read(Box::new(Change {
            replaces: known.cloned(),
            place: Some((candidate.source, candidate.path.clone())),
            document,
            state: Some(state),
            parser: self.parser.clone(),
            chunker: None,
            like,
            chunks: cut.chunks,
            compared: cut.compared,
            written: cut.written,
        })))
    }

    /// Cuts a document again from its stored text; nothing when the build was stopped over it.
    fn cut_again(&self, known: &Known, state: Option<FileState>) -> Result<Option<Change>> {
        let document = self.inner.catalogue().document(known.id)?;
        let Some(Cut { chunks, compared, written }) = self.cut(&known.identity, &document)? else { return Ok(None) };
        let parser = known.parser.clone();
        Ok(Some(Change {
            replaces: Some(known.clone()),
            place: None,
            document,
            state,
            parser,
            chunker: None,
            like: None,
            chunks,
            compared,
            written,
        }))
    }

    /// Cuts a document and writes the contexts; nothing when the build was stopped before all were written.
    fn cut(&self, identity: &str, document: &Document) -> Result<Option<Cut>> {
        let mut chunks = chunk::chunks(document, identity, &*self.inner.chunking.chunker)?;
        let Some(spending) = self.spending else {
            return Ok(Some(Cut { chunks, compared: Vec::new(), written: Written::default() }));
        };
        let stop = self.request.stop_token();
        let written = contexts::write(self.inner, document, &mut chunks, self.waiter, &stop, spending)?;
        let whole = self.inner.chunking.writing.is_none() || written.asked + written.cached == chunks.len();
        Ok(whole.then(|| Cut { compared: chunks.iter().map(Compared::of_chunk).collect(), chunks, written }))
    }
}

/// What [`complete`] says of a file itself.
const FROM_ITEM: [&str; 4] = ["file_name", "file_size", "content_hash", "modified"];

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

pub(super) fn now() -> i64 {
    nanoseconds(Some(SystemTime::now()))
}

fn nanoseconds(time: Option<SystemTime>) -> i64 {
    let since = time.and_then(|time| time.duration_since(UNIX_EPOCH).ok()).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
}
