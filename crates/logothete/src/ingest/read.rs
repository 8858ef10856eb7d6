//! Running a build: read, parse and cut what has changed, in parallel and in order.

use std::collections::HashMap;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

use futures_util::{StreamExt, stream};
use logothete_core::chunk::{self, Chunk};
use logothete_core::document::Document;
use logothete_core::{Error, ErrorKind, Result, round_milliseconds};
use rayon::prelude::*;

use super::batch::{Batch, Change};
use super::contexts::{self, Target, Written};
use super::duplicates::Compared;
use super::list::{self, Candidate, Planned, Seen, Walk, Window};
use super::unread::Unread;
use super::{BuildReport, BuildRequest, Failure, Meter, metadata};
use crate::opened::Opened;
use crate::source::Content;
use crate::spending::Spending;
use crate::storage::{FileState, KnownDocument, Lease, Which};
use crate::threads::{Driver, StopToken, caught, caught_future, caught_in, within};
use crate::trace::milliseconds;
use crate::tree::{self, Growing};

/// A file changed less than this before it was read may have changed again within the resolution of the clock.
pub(super) const CLOCK_DOUBT: i64 = 2_000_000_000;
/// The number of files of a window that are read at a time.
const MAX_READS: usize = 8;
/// The most files that a reader gets at once, and their bytes in all: few enough that all cores have work.
const MAX_BATCH: usize = 4;
const MAX_BATCH_BYTES: usize = 32 * 1024;
/// A document with more bytes of text is cut on a thread of its own, which can be given up.
const LONG: usize = 1_000_000;

/// The result of reading a file.
pub(super) enum FileOutcome {
    /// It is as it was, or only its times have changed.
    Unchanged(Option<(i64, FileState)>),
    /// It was read.
    Read(Box<Change>),
    /// It could not be read, for a reason of this kind.
    Failed(Failure, ErrorKind),
    /// The build was stopped before it was read.
    Stopped,
}

/// Runs a build.
pub(crate) fn run(opened: &Opened, driver: &Driver, request: &BuildRequest) -> Result<BuildReport> {
    let started = Instant::now();
    let lease = opened.write_lease()?;
    let mut report = BuildReport::default();
    build(opened, driver, &lease, request, &mut report)?;
    report.chunks = opened.storage.read()?.counts()?.chunks;
    report.took_ms = round_milliseconds(milliseconds(started));
    Ok(report)
}

fn build(
    opened: &Opened,
    driver: &Driver,
    lease: &Lease,
    request: &BuildRequest,
    report: &mut BuildReport,
) -> Result<()> {
    if let Some(writing) = &opened.chunking.writing {
        writing.generator()?;
    }
    let storage = &opened.storage;
    let spending = Spending::new(&opened.config().limits);
    let reader = Reader::new(opened, driver, request);
    let planned = list::sources(storage, Some(lease), request, report)?;
    let reading = format!("{} {}", reader.parser, opened.encoder.fingerprint());
    let unread = Unread::read(storage.read()?.unread()?.as_deref(), &reading, &opened.config().limits);
    let mut meter = Meter::new(request);
    if meter.is_heard() {
        // Counting walks the sources once more, and holds nothing.
        meter.total(planned.iter().filter_map(|one| Some(driver.wait(one.source.items()).ok()?.count())).sum());
    }
    let batch = Batch::new(opened, driver, lease, &spending);
    let stop = request.stop_token();
    let mut build = Build { opened, driver, request, stop, spending: &spending, reader, batch, unread, meter, report };
    if let Err(error) = build.read(&planned) {
        // What was read before is good, whatever went wrong then.
        let _ = build.batch.commit(build.report);
        return Err(error);
    }
    if let Some(written) = build.unread.written()? {
        storage.commit(lease, |transaction| transaction.set_unread(&written))?;
    }
    let Build { batch, mut meter, report, stop, .. } = build;
    let advice = batch.advice();
    meter.indexes();
    batch.finish(&stop, report)?;
    report.advice = advice;
    if !stop.is_stopped() && !spending.is_over() {
        let growing = Growing { opened, driver, lease: Some(lease), spending: &spending, stop: &stop };
        // A tree that was stopped while it grew is grown by the next build.
        report.tree = tree::settle(&growing).or_else(|error| match error.kind() {
            ErrorKind::Cancelled => Ok(None),
            _ => Err(error),
        })?;
        report.tokens += report.tree.as_ref().map(|tree| tree.tokens).unwrap_or_default();
    }
    report.capped = spending.message();
    report.cost = opened.config().cost(report.tokens, report.encoded_tokens);
    report.stopped = stop.is_stopped() || report.capped.is_some();
    Ok(())
}

/// A build at work.
struct Build<'a> {
    opened: &'a Opened,
    driver: &'a Driver,
    request: &'a BuildRequest,
    stop: StopToken,
    spending: &'a Spending,
    reader: Reader<'a>,
    batch: Batch<'a>,
    unread: Unread,
    meter: Meter<'a>,
    report: &'a mut BuildReport,
}

impl Build<'_> {
    /// Returns `true` if it was stopped, or its budget is spent.
    fn is_over(&self) -> bool {
        self.stop.is_stopped() || self.spending.is_over()
    }

    /// Reads what has changed in all sources, and removes what is gone.
    fn read(&mut self, planned: &[Planned]) -> Result<()> {
        let (mut seen, mut gone) = (Seen::default(), Vec::new());
        let (storage, room) = (&self.opened.storage, Window::of(&self.opened.config().limits));
        for source in planned {
            let Some(mut walk) = Walk::begin(source, self.driver, self.report) else { continue };
            while !self.is_over() {
                let window = walk.next(room, &*storage.read()?, &mut seen, self.report)?;
                if window.is_empty() {
                    break;
                }
                self.read_window(window)?;
            }
            if !self.is_over() {
                let (catalogue, batch) = (storage.read()?, &self.batch);
                let is_moved = |document| batch.is_moved(document);
                gone.extend(walk.end(&*catalogue, self.request.prune, is_moved, self.report)?);
            }
        }
        if self.is_over() {
            return Ok(());
        }
        for known in gone {
            self.batch.remove(&known, self.report);
        }
        self.batch.commit(self.report)?;
        self.cut_again()
    }

    /// Reads the next items of a source.
    fn read_window(&mut self, window: Vec<Candidate>) -> Result<()> {
        // Most are as they were, and are not worth another thread.
        let (same, window): (Vec<Candidate>, Vec<Candidate>) =
            window.into_iter().partition(|candidate| self.reader.is_unchanged(candidate));
        self.report.unchanged += same.len();
        same.iter().for_each(|candidate| self.meter.next(&candidate.name));
        // What could not be read is as unreadable as it was.
        let (vain, window): (Vec<Candidate>, Vec<Candidate>) =
            window.into_iter().partition(|candidate| self.unread.reason(candidate).is_some());
        for candidate in &vain {
            let reason = self.unread.reason(candidate).unwrap_or_default().to_owned();
            self.report.failed.push(Failure { document: candidate.name.clone(), reason });
            self.meter.next(&candidate.name);
        }
        let mut changes = Vec::new();
        for (candidate, outcome) in window.iter().zip(self.reader.read(&window, Some(self.spending))?) {
            match &outcome {
                FileOutcome::Stopped => {}
                FileOutcome::Failed(failure, kind) => self.unread.note(candidate, Some((*kind, &failure.reason))),
                _ => self.unread.note(candidate, None),
            }
            match outcome {
                FileOutcome::Stopped => continue,
                FileOutcome::Unchanged(touched) => {
                    self.report.unchanged += 1;
                    self.batch.touch(touched);
                }
                FileOutcome::Failed(failure, _) => self.report.failed.push(failure),
                FileOutcome::Read(change) => {
                    changes.push(*change);
                    continue;
                }
            }
            self.meter.next(&candidate.name);
        }
        let added = self.batch.add(changes, &self.stop, self.report, &mut self.meter);
        for (document, reason) in self.batch.take_hopeless() {
            if let Some(candidate) = window.iter().find(|candidate| candidate.name == document) {
                self.unread.note(candidate, Some((ErrorKind::Limit, &reason)));
            }
        }
        added
    }

    /// Cuts documents of other sources that another chunker cut again, from their stored text.
    fn cut_again(&mut self) -> Result<()> {
        let stale = self.opened.storage.read()?.known(Which::NotCutBy(&self.reader.chunker))?;
        for known in stale {
            if self.is_over() {
                break;
            }
            match self.reader.cut_again(&known, self.spending)? {
                FileOutcome::Read(change) => {
                    self.batch.add(vec![*change], &self.stop, self.report, &mut Meter::silent())?;
                }
                FileOutcome::Failed(failure, _) => self.report.failed.push(failure),
                FileOutcome::Unchanged(_) | FileOutcome::Stopped => {}
            }
        }
        Ok(())
    }
}

/// Reads items that have changed, and cuts them.
pub(super) struct Reader<'a> {
    opened: &'a Opened,
    driver: &'a Driver,
    request: &'a BuildRequest,
    /// The fingerprints of the stages before encoding.
    parser: String,
    pub chunker: String,
}

/// A file that was read.
struct Loaded {
    state: FileState,
    content: Content,
}

/// The work on a file.
enum Task {
    Done(FileOutcome),
    /// Cut a stored document again; its parser has not changed.
    CutAgain(Document, FileState),
    /// Take the content of a document at another path, which may have moved.
    Copy(Box<KnownDocument>, Document, Loaded),
    /// Parse the content.
    Parse(Loaded),
}

/// What a thread does at a time.
enum Work<'w> {
    One(&'w Candidate, Box<Task>),
    /// Small files that are only to be parsed, and are given to a reader together.
    Small(Vec<(&'w Candidate, Loaded)>),
}

impl<'w> Work<'w> {
    /// Puts the tasks of small files that follow each other together.
    fn all(tasks: impl Iterator<Item = (&'w Candidate, Task)>) -> Vec<Self> {
        let (mut all, mut bytes) = (Vec::new(), 0);
        for (candidate, task) in tasks {
            let loaded = match task {
                Task::Parse(loaded) if loaded.content.bytes.len() < MAX_BATCH_BYTES => loaded,
                task => {
                    all.push(Self::One(candidate, Box::new(task)));
                    continue;
                }
            };
            bytes += loaded.content.bytes.len();
            match all.last_mut() {
                Some(Self::Small(small)) if small.len() < MAX_BATCH && bytes <= MAX_BATCH_BYTES => {
                    small.push((candidate, loaded));
                }
                _ => {
                    bytes = loaded.content.bytes.len();
                    all.push(Self::Small(vec![(candidate, loaded)]));
                }
            }
        }
        all
    }
}

impl<'a> Reader<'a> {
    pub(super) fn new(opened: &'a Opened, driver: &'a Driver, request: &'a BuildRequest) -> Self {
        let parser = opened.pipeline.parse_fingerprint().to_string();
        let chunker = opened.chunking.fingerprint().to_string();
        Self { opened, driver, request, parser, chunker }
    }

    /// Returns `true` if a file is as it was, by its size, time and inode. A file that was young when it was read may have changed
    /// within the resolution of the clock.
    pub(super) fn is_unchanged(&self, candidate: &Candidate) -> bool {
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
                && known.given == metadata::given(&candidate.item, self.request)
        })
    }

    /// Reads a window of items: the files several at a time, then parsing and cutting on the pool, then the contexts several at a
    /// time. Without a budget no contexts are written, for an estimate.
    pub(super) fn read(&self, window: &[Candidate], spending: Option<&Spending>) -> Result<Vec<FileOutcome>> {
        let is_stopped = || self.request.stop_token().is_stopped() || spending.is_some_and(Spending::is_over);
        let loads =
            window.iter().map(|candidate| async { if is_stopped() { None } else { Some(self.load(candidate).await) } });
        let loaded: Vec<Option<Result<Loaded>>> =
            self.driver.wait(stream::iter(loads.collect::<Vec<_>>()).buffered(MAX_READS).collect());
        let tasks = self.tasks(window, loaded)?;
        let all = Work::all(window.iter().zip(tasks));
        let perform = |work| self.perform_work(work, &is_stopped);
        let mut outcomes: Vec<FileOutcome> = self.driver.compute(|| all.into_par_iter().flat_map(perform).collect());
        if let Some(spending) = spending {
            let mut read: Vec<(&Candidate, &mut FileOutcome)> = window.iter().zip(&mut outcomes).collect();
            self.write_contexts(&mut read, spending)?;
        }
        Ok(outcomes)
    }

    /// Reads the content of an item.
    async fn load(&self, candidate: &Candidate) -> Result<Loaded> {
        let item = &candidate.item;
        let (modified, inode) = (nanoseconds(item.modified), item.inode.map(u64::cast_signed));
        let seen = now();
        let max = self.opened.config().limits.max_file_bytes();
        let content = caught_future("the source", async { candidate.from.read(item, max).await }).await?;
        let hash = blake3::hash(&content.bytes).to_hex().to_string();
        let size = content.bytes.len() as u64;
        Ok(Loaded { state: FileState { size, modified, inode, seen, hash }, content })
    }

    /// Decides the work on each item of a window from the catalogue.
    fn tasks(&self, window: &[Candidate], loaded: Vec<Option<Result<Loaded>>>) -> Result<Vec<Task>> {
        let same = |candidate: &Candidate, loaded: &Loaded| {
            let known = candidate.known.as_ref();
            let is_same = |known: &&KnownDocument| {
                known.hash == loaded.state.hash
                    && known.parser == self.parser
                    && known.given == metadata::given(&candidate.item, self.request)
            };
            known.filter(is_same).cloned()
        };
        let catalogue = self.opened.storage.read()?;
        let of = |wanted: &dyn Fn(&Candidate, &Loaded) -> Option<String>| -> Vec<String> {
            let read = window.iter().zip(&loaded).filter_map(|(candidate, loaded)| match loaded {
                Some(Ok(loaded)) => wanted(candidate, loaded),
                _ => None,
            });
            read.collect()
        };
        // The same content may have been read from another path: it was moved, or copied.
        let new = of(&|candidate, loaded| candidate.known.is_none().then(|| loaded.state.hash.clone()));
        let new: Vec<&str> = new.iter().map(String::as_str).collect();
        let mut copies: HashMap<String, KnownDocument> = HashMap::new();
        if !new.is_empty() {
            for known in catalogue.known(Which::WithContent(&new, &self.parser))? {
                copies.entry(known.hash.clone()).or_insert(known);
            }
        }
        let recut = window.iter().zip(&loaded).filter_map(|(candidate, loaded)| match loaded {
            Some(Ok(loaded)) => {
                same(candidate, loaded).filter(|known| known.chunker != self.chunker).map(|known| known.id)
            }
            _ => None,
        });
        let stored: Vec<i64> = recut.chain(copies.values().map(|known| known.id)).collect();
        let mut stored = if stored.is_empty() { HashMap::new() } else { catalogue.documents(&stored)? };
        drop(catalogue);
        let task = |(candidate, loaded): (&Candidate, Option<Result<Loaded>>)| {
            let loaded = match loaded {
                None => return Task::Done(FileOutcome::Stopped),
                Some(Err(error)) => return Task::Done(failed(candidate, &error)),
                Some(Ok(loaded)) => loaded,
            };
            if let Some(known) = same(candidate, &loaded) {
                if known.chunker == self.chunker {
                    return Task::Done(FileOutcome::Unchanged(Some((known.id, loaded.state))));
                }
                if let Some(document) = stored.remove(&known.id) {
                    return Task::CutAgain(document, loaded.state);
                }
            }
            let copy = copies.get(&loaded.state.hash).filter(|_| candidate.known.is_none());
            match copy.and_then(|known| Some((Box::new(known.clone()), stored.get(&known.id)?.clone()))) {
                Some((known, document)) => Task::Copy(known, document, loaded),
                None => Task::Parse(loaded),
            }
        };
        Ok(window.iter().zip(loaded).map(task).collect())
    }

    /// Does some work. Runs on the pool.
    fn perform_work(&self, work: Work<'_>, is_stopped: &(impl Fn() -> bool + Sync)) -> Vec<FileOutcome> {
        let small = match work {
            Work::One(candidate, task) => {
                let is_stopped = is_stopped() && !matches!(*task, Task::Done(_));
                return vec![outcome(candidate, is_stopped, || self.perform(candidate, *task))];
            }
            Work::Small(small) => small,
        };
        if is_stopped() {
            return small.iter().map(|_| FileOutcome::Stopped).collect();
        }
        let (read, contents): (Vec<_>, Vec<_>) = small
            .into_iter()
            .map(|(candidate, loaded)| ((candidate, loaded.state), (candidate.name.clone(), loaded.content)))
            .unzip();
        let documents = self.opened.pipeline.parse_contents(contents);
        let finish = |((candidate, state), document): ((&Candidate, FileState), Result<Document>)| {
            outcome(candidate, is_stopped(), || self.finish(candidate, None, document?, state))
        };
        read.into_iter().zip(documents).map(finish).collect()
    }

    /// Parses and cuts an item.
    fn perform(&self, candidate: &Candidate, task: Task) -> Result<FileOutcome> {
        let (like, document, state) = match task {
            Task::Done(outcome) => return Ok(outcome),
            Task::CutAgain(document, state) => {
                let Some(known) = &candidate.known else { return Ok(FileOutcome::Stopped) };
                return self.recut(known, document, Some(state));
            }
            Task::Copy(known, document, loaded) if known.given == metadata::given(&candidate.item, self.request) => {
                let mut document = document;
                metadata::remove_file_fields(&mut document.metadata);
                document.name.clone_from(&candidate.name);
                (Some(*known), document, loaded.state)
            }
            Task::Copy(_, _, loaded) | Task::Parse(loaded) => {
                let document = self.opened.pipeline.parse_content(&candidate.name, loaded.content)?;
                (None, document, loaded.state)
            }
        };
        self.finish(candidate, like, document, state)
    }

    /// Completes and cuts the document of an item.
    fn finish(
        &self,
        candidate: &Candidate,
        like: Option<KnownDocument>,
        mut document: Document,
        state: FileState,
    ) -> Result<FileOutcome> {
        metadata::complete(&mut document, &candidate.item, &state, self.request)?;
        let (document, chunks) = self.cut(document, &candidate.identity)?;
        Ok(FileOutcome::Read(Box::new(Change {
            replaces: candidate.known.clone(),
            place: Some((candidate.source, candidate.path.clone())),
            state: Some(state),
            parser: self.parser.clone(),
            given: metadata::given(&candidate.item, self.request),
            like,
            ..Change::new(document, chunks)
        })))
    }

    /// Cuts a document, within the time that reading it may take and the number of chunks that it may have.
    fn cut(&self, document: Document, identity: &str) -> Result<(Document, Vec<Chunk>)> {
        let limits = &self.opened.config().limits;
        let (chunker, identity) = (self.opened.chunking.chunker.clone(), identity.to_owned());
        let is_long = document.text.len() > LONG;
        let cut = move || {
            let chunks = caught_in("the chunker", || chunk::chunks(&document, &identity, &*chunker))?;
            Ok((document, chunks))
        };
        let late = || {
            let seconds = limits.max_read_time().as_secs();
            let message = format!("cutting it took more than {seconds} s and was given up; raise seconds in [limits]");
            Err(Error::new(ErrorKind::Limit, message))
        };
        let (document, chunks) =
            if is_long { within(limits.max_read_time(), || (), cut).unwrap_or_else(late)? } else { cut()? };
        let (has, most) = (chunks.len(), limits.chunks);
        if has as u64 > most {
            let message =
                format!("it is cut into {has} chunks, and {most} are allowed; raise chunks in [limits], or split it");
            return Err(Error::new(ErrorKind::Limit, message));
        }
        Ok((document, chunks))
    }

    fn recut(&self, known: &KnownDocument, document: Document, state: Option<FileState>) -> Result<FileOutcome> {
        let (document, chunks) = self.cut(document, &known.identity)?;
        Ok(FileOutcome::Read(Box::new(Change {
            replaces: Some(known.clone()),
            state,
            parser: known.parser.clone(),
            ..Change::new(document, chunks)
        })))
    }

    /// Cuts a document again from its stored text.
    fn cut_again(&self, known: &KnownDocument, spending: &Spending) -> Result<FileOutcome> {
        let Some(document) = self.opened.storage.read()?.documents(&[known.id])?.remove(&known.id) else {
            return Ok(FileOutcome::Stopped);
        };
        let cut = self.driver.compute(|| caught(|| self.recut(known, document, None)));
        let failure = |error: &Error| {
            let reason = format!("{error}; the corpus keeps it as it was cut before");
            FileOutcome::Failed(Failure { document: known.name.clone(), reason }, error.kind())
        };
        let mut outcome = cut.unwrap_or_else(|error| failure(&error));
        if let FileOutcome::Read(change) = &mut outcome {
            let written = self.contexts(&mut [change], spending)?.remove(0);
            match written {
                Err(error) => return Ok(failure(&error)),
                Ok(whole) if !whole => return Ok(FileOutcome::Stopped),
                Ok(_) => {}
            }
        }
        Ok(outcome)
    }

    /// Writes the contexts of what was read. A document that lacks some is left out.
    fn write_contexts(&self, read: &mut [(&Candidate, &mut FileOutcome)], spending: &Spending) -> Result<()> {
        let mut changes: Vec<&mut Change> = Vec::new();
        let mut positions = Vec::new();
        for (position, (_, outcome)) in read.iter_mut().enumerate() {
            if let FileOutcome::Read(change) = &mut **outcome {
                changes.push(change);
                positions.push(position);
            }
        }
        let written = self.contexts(&mut changes, spending)?;
        drop(changes);
        for (position, written) in positions.into_iter().zip(written) {
            let (candidate, outcome) = &mut read[position];
            match written {
                Err(error) => **outcome = failed(candidate, &error),
                Ok(whole) if !whole => **outcome = FileOutcome::Stopped,
                Ok(_) => {}
            }
        }
        Ok(())
    }

    /// Writes the contexts of some documents, then compares the chunks. For each document, `true` means that all were written.
    fn contexts(&self, changes: &mut [&mut Change], spending: &Spending) -> Result<Vec<Result<bool>>> {
        let mut targets: Vec<Target<'_>> = changes
            .iter_mut()
            .map(|change| Target { document: &change.document, chunks: &mut change.chunks })
            .collect();
        let stop = self.request.stop_token();
        let written = contexts::write(self.opened, self.driver, &mut targets, &stop, spending)?;
        drop(targets);
        let mut whole = Vec::with_capacity(written.len());
        for (change, written) in changes.iter_mut().zip(written) {
            whole.push(written.map(|written| {
                change.written = written;
                self.opened.chunking.writing.is_none() || written.count() == change.chunks.len()
            }));
        }
        let changes: Vec<&mut Change> = changes.iter_mut().map(|change| &mut **change).collect();
        self.driver.compute(|| changes.into_par_iter().for_each(Change::compare));
        Ok(whole)
    }
}

/// Returns the outcome of some work on an item, whatever it comes to.
fn outcome(candidate: &Candidate, is_stopped: bool, work: impl FnOnce() -> Result<FileOutcome>) -> FileOutcome {
    if is_stopped {
        return FileOutcome::Stopped;
    }
    caught(work).unwrap_or_else(|error| failed(candidate, &error))
}

fn failed(candidate: &Candidate, error: &Error) -> FileOutcome {
    if error.kind() == ErrorKind::Cancelled {
        return FileOutcome::Stopped;
    }
    let reason = match &candidate.known {
        Some(_) => format!("{error}; the corpus keeps it as it was read before"),
        None => error.to_string(),
    };
    FileOutcome::Failed(Failure { document: candidate.name.clone(), reason }, error.kind())
}

impl Change {
    /// Chunks of a document that replaces nothing.
    pub(super) fn new(document: Document, chunks: Vec<Chunk>) -> Self {
        Self {
            replaces: None,
            place: None,
            document,
            state: None,
            parser: String::new(),
            chunker: None,
            given: "{}".to_owned(),
            like: None,
            chunks,
            compared: Vec::new(),
            written: Written::default(),
        }
    }

    /// Prepares the chunks for being compared with others.
    pub(super) fn compare(&mut self) {
        self.compared = self.chunks.iter().map(Compared::of_chunk).collect();
    }
}

pub(super) fn now() -> i64 {
    nanoseconds(Some(SystemTime::now()))
}

pub(super) fn nanoseconds(time: Option<SystemTime>) -> i64 {
    let since = time.and_then(|time| time.duration_since(UNIX_EPOCH).ok()).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
}
