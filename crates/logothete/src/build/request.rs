//! What a build is asked for, and what it says.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use logothete_core::cite::Tokens;
use logothete_core::document::{Metadata, Value};
use serde::Serialize;

use crate::source::Source;

/// Asks running work to stop. Clones share one flag.
#[derive(Clone, Debug, Default)]
pub struct StopToken(Arc<AtomicBool>);

impl StopToken {
    /// Asks. The work stops at the next document, and keeps what is done.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether somebody asked.
    pub fn is_stopped(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    pub(crate) fn stop_on_drop(&self) -> StopOnDrop {
        StopOnDrop(Some(self.clone()))
    }
}

/// Asks to stop when it is dropped before it is disarmed.
pub(crate) struct StopOnDrop(Option<StopToken>);

impl StopOnDrop {
    pub(crate) fn disarm(mut self) {
        self.0 = None;
    }
}

impl Drop for StopOnDrop {
    fn drop(&mut self) {
        if let Some(token) = &self.0 {
            token.stop();
        }
    }
}

/// What a build is at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Stage {
    /// Documents are looked at, read, encoded and committed.
    #[default]
    Documents,
    /// Segments are merged, and linked where they are large.
    Indexes,
}

/// How far a build is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Progress {
    /// What it is at.
    pub stage: Stage,
    /// How many documents are done.
    pub done: usize,
    /// How many there are to do.
    pub total: usize,
    /// The one that was done last.
    pub document: String,
    /// How many chunks of those in work are encoded, and how many there are; nothing while none are.
    pub encoding: Option<(usize, usize)>,
}

type OnProgress = Arc<dyn Fn(&Progress) + Send + Sync>;

/// Tells a caller how far a build is.
pub(super) struct Meter<'a> {
    progress: Progress,
    callback: Option<&'a OnProgress>,
}

impl<'a> Meter<'a> {
    /// One that tells whoever asked for the build.
    pub(super) fn new(request: &'a BuildRequest) -> Self {
        Self { callback: request.on_progress.as_ref(), ..Self::silent() }
    }

    /// One that tells nobody.
    pub(super) fn silent() -> Self {
        let (stage, document) = (Stage::Documents, String::new());
        Self { progress: Progress { stage, done: 0, total: 0, document, encoding: None }, callback: None }
    }

    /// Whether somebody listens.
    pub(super) fn is_heard(&self) -> bool {
        self.callback.is_some()
    }

    /// How many documents there are.
    pub(super) fn total(&mut self, total: usize) {
        self.progress.total = total;
        self.tell();
    }

    /// A document is done.
    pub(super) fn next(&mut self, document: &str) {
        self.progress.done += 1;
        self.progress.total = self.progress.total.max(self.progress.done);
        self.progress.encoding = None;
        if self.is_heard() {
            document.clone_into(&mut self.progress.document);
            self.tell();
        }
    }

    /// So many chunks of those in work are encoded.
    pub(super) fn encoding(&mut self, done: usize, of: usize) {
        self.progress.encoding = Some((done, of));
        self.tell();
    }

    /// All documents are done, and the indexes begin.
    pub(super) fn indexes(&mut self) {
        self.progress.stage = Stage::Indexes;
        self.progress.encoding = None;
        self.tell();
    }

    fn tell(&self) {
        if let Some(callback) = self.callback {
            callback(&self.progress);
        }
    }
}

/// What a build is asked for. Made from a path or several, and told more if need be.
#[derive(Clone, Default)]
pub struct BuildRequest {
    pub(crate) paths: Vec<PathBuf>,
    pub(crate) sources: Vec<Arc<dyn Source>>,
    pub(crate) include: Vec<String>,
    pub(crate) exclude: Vec<String>,
    pub(crate) metadata: Metadata,
    pub(crate) prune: bool,
    pub(crate) on_progress: Option<OnProgress>,
    stop: StopToken,
}

impl BuildRequest {
    /// Brings some files and folders up to date; with none, all that the corpus was ever built from.
    pub fn new(paths: impl IntoIterator<Item = impl Into<PathBuf>>) -> Self {
        Self { paths: paths.into_iter().map(Into::into).collect(), ..Self::default() }
    }

    /// Brings a source of any kind up to date too.
    #[must_use]
    pub fn source(mut self, source: impl Source + 'static) -> Self {
        self.sources.push(Arc::new(source));
        self
    }

    /// Reads only files of the folders that fit one of these patterns, if there are any, and none that fits one of the
    /// others. Patterns are as in `.gitignore` files.
    #[must_use]
    pub fn filter(mut self, include: Vec<String>, exclude: Vec<String>) -> Self {
        (self.include, self.exclude) = (include, exclude);
        self
    }

    /// Adds a field to the metadata of every document that is read. What a document says itself goes before.
    #[must_use]
    pub fn metadata(mut self, name: impl Into<String>, value: Value) -> Self {
        self.metadata.insert(name.into(), value);
        self
    }

    /// Lets it forget more than half of a source's documents when they are gone.
    #[must_use]
    pub fn prune(mut self, prune: bool) -> Self {
        self.prune = prune;
        self
    }

    /// Calls back after every document, as chunks are encoded, and when the indexes are merged, from a thread of the pipeline's.
    #[must_use]
    pub fn on_progress(mut self, callback: impl Fn(&Progress) + Send + Sync + 'static) -> Self {
        self.on_progress = Some(Arc::new(callback));
        self
    }

    /// The token that stops it.
    pub fn stop_token(&self) -> StopToken {
        self.stop.clone()
    }
}

impl<S: Source + 'static> From<Arc<S>> for BuildRequest {
    fn from(source: Arc<S>) -> Self {
        Self { sources: vec![source], ..Self::default() }
    }
}

impl From<&str> for BuildRequest {
    fn from(path: &str) -> Self {
        Self::new([path])
    }
}

impl From<&Path> for BuildRequest {
    fn from(path: &Path) -> Self {
        Self::new([path])
    }
}

impl From<PathBuf> for BuildRequest {
    fn from(path: PathBuf) -> Self {
        Self::new([path])
    }
}

impl From<&PathBuf> for BuildRequest {
    fn from(path: &PathBuf) -> Self {
        Self::new([path])
    }
}

impl From<Vec<PathBuf>> for BuildRequest {
    fn from(paths: Vec<PathBuf>) -> Self {
        Self::new(paths)
    }
}

/// A file that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Failure {
    /// The document's name, or the path when there is none.
    pub document: String,
    /// What is wrong with it, and what to do.
    pub reason: String,
}

/// A source that has lost more than half of its documents. Nothing of it was removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PruneNeeded {
    /// The source.
    pub source: PathBuf,
    /// How many of its documents are gone.
    pub gone: usize,
    /// How many it had.
    pub of: usize,
}

/// What a build did.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct BuildReport {
    /// Documents that are new.
    pub added: usize,
    /// Documents that were read again, or cut again.
    pub changed: usize,
    /// Documents that are at another place now, with the same content: neither read nor encoded again.
    pub moved: usize,
    /// Documents that are gone.
    pub removed: usize,
    /// Documents that are as they were.
    pub unchanged: usize,
    /// Files that could not be read. A document that could be read before is kept as it was.
    pub failed: Vec<Failure>,
    /// What could be read only in part, by document.
    pub warnings: Vec<Failure>,
    /// Sources of which more than half is gone, and nothing was removed.
    pub prune_needed: Vec<PruneNeeded>,
    /// Chunks in the corpus now.
    pub chunks: u64,
    /// Chunks that were encoded.
    pub encoded: usize,
    /// Chunks whose vectors were there already.
    pub cached: usize,
    /// The tokens that were encoded.
    pub encoded_tokens: u64,
    /// Chunks that say what another says, and are not indexed again but for what only they say.
    pub repeated: usize,
    /// Contexts that a generator wrote.
    pub contexts: usize,
    /// Contexts that were written before and were kept.
    pub contexts_cached: usize,
    /// What the generator read and wrote for them.
    pub tokens: Tokens,
    /// What to change in how documents are cut.
    pub advice: Vec<String>,
    /// What it cost, at the prices of the settings; nothing where no price is set.
    pub cost: Option<f64>,
    /// Whether it was stopped before the end.
    pub stopped: bool,
    /// The cap that it stopped before, and how to go on.
    pub capped: Option<String>,
    /// How long it took, in milliseconds.
    pub took_ms: f64,
}

impl BuildReport {
    /// Whether nothing that was asked for could be read.
    pub fn nothing_read(&self) -> bool {
        self.added + self.changed + self.moved + self.unchanged == 0
    }
}
