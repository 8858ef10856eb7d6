//! The request and the report of a build.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::TokenUsage;
use logothete_core::document::{Metadata, Value};
use serde::Serialize;

#[cfg(feature = "http")]
use crate::source::WebSource;
use crate::source::{FolderSource, MemorySource, Source};
use crate::threads::StopToken;
use crate::tree::TreeReport;

/// The progress of a build.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Stage {
    /// Reading, encoding and committing documents.
    #[default]
    Documents,
    /// Merging segments, and building indexes for large ones.
    Indexes,
}

/// The progress of a build.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Progress {
    /// The current stage.
    pub stage: Stage,
    /// The number of documents that are done.
    pub done: usize,
    /// The number of documents in all.
    pub total: usize,
    /// The document that was done last.
    pub document: String,
    /// The number of chunks in work that are encoded, and of all of them; `None` while none are being encoded.
    pub encoding: Option<(usize, usize)>,
}

type OnProgress = Arc<dyn Fn(&Progress) + Send + Sync>;

/// Reports the progress of a build.
pub(crate) struct Meter<'a> {
    progress: Progress,
    callback: Option<&'a OnProgress>,
}

impl<'a> Meter<'a> {
    /// Creates a meter that calls back.
    pub(crate) fn new(request: &'a BuildRequest) -> Self {
        Self { callback: request.on_progress.as_ref(), ..Self::silent() }
    }

    /// Returns a meter that does nothing.
    pub(crate) fn silent() -> Self {
        let (stage, document) = (Stage::Documents, String::new());
        Self { progress: Progress { stage, done: 0, total: 0, document, encoding: None }, callback: None }
    }

    /// Returns `true` if there is a callback.
    pub(crate) fn is_heard(&self) -> bool {
        self.callback.is_some()
    }

    /// Sets the number of documents.
    pub(crate) fn total(&mut self, total: usize) {
        self.progress.total = total;
        self.tell();
    }

    /// Counts a document that is done.
    pub(crate) fn next(&mut self, document: &str) {
        self.progress.done += 1;
        self.progress.total = self.progress.total.max(self.progress.done);
        self.progress.encoding = None;
        if self.is_heard() {
            document.clone_into(&mut self.progress.document);
            self.tell();
        }
    }

    /// Sets the number of chunks that are encoded.
    pub(crate) fn encoding(&mut self, done: usize, of: usize) {
        self.progress.encoding = Some((done, of));
        self.tell();
    }

    /// Begins the stage of the indexes.
    pub(crate) fn indexes(&mut self) {
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

/// The request of a build. Made from a path, from several, or with these methods.
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
    /// Brings some files and folders up to date; if there are none, all that the corpus was ever built from.
    pub fn new(paths: impl IntoIterator<Item = impl Into<PathBuf>>) -> Self {
        Self { paths: paths.into_iter().map(Into::into).collect(), ..Self::default() }
    }

    /// Brings a source of any kind up to date as well.
    #[must_use]
    pub fn source(mut self, source: impl Source + 'static) -> Self {
        self.sources.push(Arc::new(source));
        self
    }

    /// Reads only files that match one of the `include` patterns, if there are any, and none that matches an `exclude` pattern.
    /// The syntax is that of `.gitignore` files.
    #[must_use]
    pub fn patterns(mut self, include: Vec<String>, exclude: Vec<String>) -> Self {
        (self.include, self.exclude) = (include, exclude);
        self
    }

    /// Adds a field to the metadata of every document that does not set the field itself.
    #[must_use]
    pub fn metadata(mut self, name: impl Into<String>, value: impl Into<Value>) -> Self {
        self.metadata.insert(name.into(), value.into());
        self
    }

    /// Allows removing more than half of a source's documents.
    #[must_use]
    pub fn prune(mut self, prune: bool) -> Self {
        self.prune = prune;
        self
    }

    /// Calls back after every document, as chunks are encoded, and when the indexes are merged, from a thread of the corpus.
    #[must_use]
    pub fn on_progress(mut self, callback: impl Fn(&Progress) + Send + Sync + 'static) -> Self {
        self.on_progress = Some(Arc::new(callback));
        self
    }

    /// Lets a token of the caller's stop the build, such as one that stops several.
    #[must_use]
    pub fn stopped_by(mut self, token: StopToken) -> Self {
        self.stop = token;
        self
    }

    /// Returns the token that stops the build.
    pub fn stop_token(&self) -> StopToken {
        self.stop.clone()
    }
}

impl<S: Source + 'static> From<Arc<S>> for BuildRequest {
    fn from(source: Arc<S>) -> Self {
        Self { sources: vec![source], ..Self::default() }
    }
}

impl fmt::Debug for BuildRequest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sources: Vec<String> = self.sources.iter().map(Source::location).collect();
        f.debug_struct("BuildRequest").field("paths", &self.paths).field("sources", &sources).finish_non_exhaustive()
    }
}

/// A path is a request to bring it up to date.
macro_rules! from_paths {
    ($($path:ty),*) => {
        $(impl From<$path> for BuildRequest {
            fn from(path: $path) -> Self {
                Self::new([path])
            }
        })*
    };
}

from_paths!(&str, String, &String, &Path, PathBuf, &PathBuf);

impl<P: Into<PathBuf>> From<Vec<P>> for BuildRequest {
    fn from(paths: Vec<P>) -> Self {
        Self::new(paths)
    }
}

impl<P: Into<PathBuf>, const N: usize> From<[P; N]> for BuildRequest {
    fn from(paths: [P; N]) -> Self {
        Self::new(paths)
    }
}

impl<P: Clone + Into<PathBuf>> From<&[P]> for BuildRequest {
    fn from(paths: &[P]) -> Self {
        Self::new(paths.iter().cloned())
    }
}

/// A source is a request to bring it up to date.
macro_rules! from_sources {
    ($($source:ty),*) => {
        $(impl From<$source> for BuildRequest {
            fn from(source: $source) -> Self {
                Self::default().source(source)
            }
        })*
    };
}

from_sources!(FolderSource, MemorySource);
#[cfg(feature = "http")]
from_sources!(WebSource);

/// A file that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Failure {
    /// The name of the document, or the path if it has none.
    pub document: String,
    /// The problem, and what to do.
    pub reason: String,
}

impl Failure {
    /// Creates a document that could not be read, and the reason.
    pub fn new(document: impl Into<String>, reason: impl Into<String>) -> Self {
        Self { document: document.into(), reason: reason.into() }
    }
}

/// A source of which more than half of the documents are gone. None of them was removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct PruneNeeded {
    /// The location of the source.
    pub source: PathBuf,
    /// The number of documents that are gone.
    pub gone: usize,
    /// The number of documents that it had.
    pub of: usize,
}

/// The report of a build.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct BuildReport {
    /// Documents that are new.
    pub added: usize,
    /// Documents that were read again, or cut again.
    pub changed: usize,
    /// Documents that have moved: same content, another path. They are neither read nor encoded again.
    pub moved: usize,
    /// Documents that are gone.
    pub removed: usize,
    /// Documents that are as they were.
    pub unchanged: usize,
    /// Files that could not be read. A document that could be read before stays as it was.
    pub failed: Vec<Failure>,
    /// Documents that could be read only in part.
    pub warnings: Vec<Failure>,
    /// New documents that got another name than their path, because a document of another source has that name.
    pub renamed: Vec<String>,
    /// Sources of which more than half is gone. Nothing of them was removed.
    pub prune_needed: Vec<PruneNeeded>,
    /// Chunks in the corpus now.
    pub chunks: u64,
    /// Chunks that were encoded.
    pub encoded: usize,
    /// Chunks whose vectors were there already.
    pub cached: usize,
    /// The tokens that were encoded.
    pub encoded_tokens: u64,
    /// Chunks that repeat another. Only what such a chunk adds is indexed.
    pub repeated: usize,
    /// Contexts that a generator wrote.
    pub contexts: usize,
    /// Contexts that were written before and were kept.
    pub contexts_cached: usize,
    /// The tokens that the generator read and wrote for them.
    pub tokens: TokenUsage,
    /// Advice on the settings, and on what the system lacks.
    pub advice: Vec<String>,
    /// What became of the tree of summaries; `None` if the configuration wants none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tree: Option<TreeReport>,
    /// The cost at the prices of the configuration; `None` if no price is set.
    pub cost: Option<f64>,
    /// Whether it was stopped before the end.
    pub stopped: bool,
    /// The limit that stopped it, and how to continue.
    pub capped: Option<String>,
    /// The duration in milliseconds.
    pub took_ms: f64,
}

/// Prints the counts of documents on one line: `17 added, 2 removed, 1 failed; 90 chunks`.
impl fmt::Display for BuildReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let counts = [
            (self.added, "added"),
            (self.changed, "changed"),
            (self.moved, "moved"),
            (self.removed, "removed"),
            (self.unchanged, "unchanged"),
            (self.failed.len(), "failed"),
        ];
        let some: Vec<String> =
            counts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}")).collect();
        let documents = if some.is_empty() { "nothing to do".to_owned() } else { some.join(", ") };
        write!(f, "{documents}; {} chunks", self.chunks)
    }
}

impl BuildReport {
    /// Returns `true` if no document could be read.
    pub fn nothing_read(&self) -> bool {
        self.added + self.changed + self.moved + self.unchanged == 0
    }
}
