//! The corpus: documents, chunks, vectors and indexes kept together in one folder.
//!
//! `corpus.db` is the catalogue, `segments/` holds the indexes. The protocol: new segment files are written and synced,
//! then the folder, then one transaction of the catalogue names them. That transaction is the commit: before it nothing
//! has happened, after it everything has.

mod catalogue;
mod lock;
mod map;
mod snapshot;
mod store;

pub(crate) use catalogue::{Catalogue, FileState, Known, Place, SourceEntry};
pub(crate) use lock::WriterLock;
pub(crate) use snapshot::Snapshot;
pub(crate) use store::Store;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete_core::cite::Answer;
use logothete_core::measure::{Run, SetQuestion};
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;

use crate::ask::{self, SearchResult};
use crate::build::{self, BuildReport, BuildRequest};
use crate::evaluate;
use crate::pipeline::Pipeline;
use crate::pool::Pool;

/// An open corpus. Many may be open on one folder, in many processes; one at a time may build.
pub struct Corpus {
    inner: Arc<Inner>,
}

pub(crate) struct Inner {
    pub pipeline: Pipeline,
    pub folder: PathBuf,
    pub store: Store,
    catalogue: Mutex<Catalogue>,
    snapshot: Mutex<Option<(i64, Arc<Snapshot>)>>,
    pool: Pool,
}

/// What a corpus holds.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct CorpusInfo {
    /// Its folder.
    pub corpus: PathBuf,
    /// The version of its format.
    pub format: u32,
    /// Its encoder.
    pub encoder: String,
    /// The length of its vectors.
    pub dimensions: usize,
    /// How many chunks it has.
    pub chunks: u64,
    /// The bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// The bytes of the indexes.
    pub index_bytes: u64,
    /// Where its documents come from.
    pub sources: Vec<PathBuf>,
    /// Its documents by name.
    pub documents: Vec<DocumentInfo>,
}

/// What a corpus holds of one document.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct DocumentInfo {
    /// Its name.
    pub document: String,
    /// Its title.
    pub title: Option<String>,
    /// Its media type.
    pub media_type: String,
    /// How many pages it has; 0 for none.
    pub pages: u32,
    /// The length of its text in bytes.
    pub text_bytes: u64,
    /// How many chunks it has.
    pub chunks: u64,
    /// What could not be read of it.
    pub warnings: Vec<String>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // What the lock guards is only ever replaced whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Corpus {
    pub(crate) fn open(pipeline: Pipeline, pool: Pool, folder: PathBuf) -> Result<Self> {
        if folder.is_file() {
            return Err(
                Error::new(ErrorKind::Configuration, "this is a file; a corpus is a folder").at(folder.display())
            );
        }
        std::fs::create_dir_all(&folder).map_err(|error| {
            Error::new(ErrorKind::System, format!("the corpus could not be made: {error}"))
                .at(folder.display())
                .because(error)
        })?;
        let at = |error: Error| {
            if error.place().is_none() { error.at(folder.display()) } else { error }
        };
        let store = Store::open(&folder).map_err(at)?;
        let mut catalogue = Catalogue::open(&folder).map_err(at)?;
        let encoder = &pipeline.encoder;
        match catalogue.about("encoder").map_err(at)? {
            None => catalogue
                .commit(|catalogue| {
                    catalogue.set_about("encoder", encoder.fingerprint().as_str())?;
                    catalogue.set_about("encoder_name", &encoder.name())?;
                    catalogue.set_about("dimensions", &encoder.dimensions().to_string())
                })
                .map_err(at)?,
            Some(stored) if stored != encoder.fingerprint().as_str() => {
                let theirs = catalogue.about("encoder_name")?.unwrap_or_else(|| "another encoder".into());
                return Err(Error::new(
                    ErrorKind::Mismatch,
                    format!(
                        "this corpus was made with the encoder “{theirs}” ({stored}) and cannot be used with “{}” ({}); \
                         use the first, or build a new corpus",
                        encoder.name(),
                        encoder.fingerprint()
                    ),
                )
                .at(folder.display()));
            }
            Some(_) => {}
        }
        let inner =
            Inner { pipeline, folder, store, catalogue: Mutex::new(catalogue), snapshot: Mutex::new(None), pool };
        Ok(Self { inner: Arc::new(inner) })
    }

    /// The folder it is in.
    pub fn folder(&self) -> &Path {
        &self.inner.folder
    }

    /// Brings the corpus up to date with some sources: reads what is new or changed, forgets what is gone.
    ///
    /// Takes a path, several paths, or a [`BuildRequest`] with more to say. Files that cannot be read are in the report and
    /// stop nothing. What was committed stays, whatever happens; dropping the future stops the build at the next document.
    ///
    /// # Errors
    /// When another build is running, or the disk refuses.
    pub async fn build(&mut self, request: impl Into<BuildRequest>) -> Result<BuildReport> {
        let (inner, request) = (self.inner.clone(), request.into());
        // Dropping the future drops the guard, and the guard asks the worker to stop.
        let guard = request.stop_token().stop_on_drop();
        let report = self.inner.pool.run(move || build::run(&inner, &request)).await;
        guard.disarm();
        report
    }

    /// Finds the passages that fit a query best.
    ///
    /// # Errors
    /// When the query is empty or the corpus damaged.
    pub async fn search(&self, query: &str) -> Result<SearchResult> {
        let (inner, query) = (self.inner.clone(), query.to_owned());
        self.inner.pool.run(move || ask::search(&inner, &query)).await
    }

    /// Answers a question with sentences of the documents, each cited; or refuses, and names what came nearest.
    ///
    /// # Errors
    /// When the question is empty or the corpus damaged.
    pub async fn ask(&self, question: &str) -> Result<Answer> {
        let (inner, question) = (self.inner.clone(), question.to_owned());
        self.inner.pool.run(move || ask::ask(&inner, &question)).await
    }

    /// Searches and asks every question of a set, and scores what comes back.
    ///
    /// # Errors
    /// When the set is empty or the corpus damaged.
    pub async fn evaluate(&self, name: &str, questions: Vec<SetQuestion>) -> Result<Run> {
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.inner.pool.run(move || evaluate::run(&inner, &name, &questions)).await
    }

    /// What the corpus holds.
    ///
    /// # Errors
    /// When the corpus is damaged.
    pub async fn info(&self) -> Result<CorpusInfo> {
        let inner = self.inner.clone();
        self.inner.pool.run(move || inner.info()).await
    }

    /// Reads every byte of the indexes and compares their checksums.
    ///
    /// # Errors
    /// When a byte has changed; the error names the file.
    pub async fn verify(&self) -> Result<()> {
        let inner = self.inner.clone();
        self.inner.pool.run(move || inner.snapshot()?.verify()).await
    }
}

impl Inner {
    pub(crate) fn catalogue(&self) -> MutexGuard<'_, Catalogue> {
        lock(&self.catalogue)
    }

    /// The indexes as of the newest commit.
    pub(crate) fn snapshot(&self) -> Result<Arc<Snapshot>> {
        let catalogue = self.catalogue();
        let version = catalogue.version()?;
        let mut kept = lock(&self.snapshot);
        if let Some((_, snapshot)) = kept.as_ref().filter(|(seen, _)| *seen == version) {
            return Ok(snapshot.clone());
        }
        // Between listing and mapping, another process may merge segments and sweep the old files: then list again.
        let opened = Snapshot::open(&catalogue, &self.store).or_else(|error| {
            if catalogue.version()? == version { Err(error) } else { Snapshot::open(&catalogue, &self.store) }
        });
        let snapshot = Arc::new(
            opened.map_err(|error| if error.place().is_none() { error.at(self.folder.display()) } else { error })?,
        );
        *kept = Some((version, snapshot.clone()));
        Ok(snapshot)
    }

    /// Lets go of the indexes after a commit of our own.
    pub(crate) fn refresh(&self) {
        *lock(&self.snapshot) = None;
    }

    fn info(&self) -> Result<CorpusInfo> {
        let catalogue = self.catalogue();
        let encoder = &self.pipeline.encoder;
        let bytes = |name: &str| std::fs::metadata(self.folder.join(name)).map_or(0, |data| data.len());
        catalogue.read(|catalogue| {
            Ok(CorpusInfo {
                corpus: self.folder.clone(),
                format: catalogue::FORMAT,
                encoder: catalogue.about("encoder_name")?.unwrap_or_default(),
                dimensions: encoder.dimensions(),
                chunks: catalogue.count_chunks()?,
                catalogue_bytes: bytes("corpus.db") + bytes("corpus.db-wal"),
                index_bytes: self.store.bytes(),
                sources: catalogue.sources()?.into_iter().map(|source| source.location.into()).collect(),
                documents: catalogue.document_infos()?,
            })
        })
    }
}
