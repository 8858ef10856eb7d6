//! The corpus: documents, chunks, vectors and indexes kept together in one folder.
//!
//! `corpus.db` is the catalogue, `segments/` holds the indexes. The protocol: new segment files are written and synced,
//! then the folder, then one transaction of the catalogue names them. That transaction is the commit: before it nothing
//! has happened, after it everything has.

mod cache;
mod catalogue;
mod info;
mod lock;
mod map;
mod snapshot;
mod store;

pub(crate) use cache::Cache;
pub(crate) use catalogue::{Catalogue, FileState, IndexEntry, Known, Place, SourceEntry};
pub use info::{ChunkDetail, ChunkInfo, CorpusInfo, DocumentDetail, DocumentInfo, FieldInfo, VectorInfo};
pub(crate) use lock::WriterLock;
pub(crate) use snapshot::Snapshot;
pub(crate) use store::Store;

use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete_core::vector::Distance;
use logothete_core::{Error, ErrorKind, Result};

use crate::chunking::Chunking;
use crate::pipeline::Pipeline;

/// An open corpus, shared by those who work on it.
pub(crate) struct Inner {
    pub pipeline: Pipeline,
    pub folder: PathBuf,
    pub store: Store,
    /// How documents are cut, with this encoder and this generator.
    pub chunking: Chunking,
    /// What generators wrote.
    pub cache: Cache,
    catalogue: Mutex<Catalogue>,
    snapshot: Mutex<Option<(i64, Arc<Snapshot>)>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // What the lock guards is only ever replaced whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Inner {
    /// Opens the corpus in a folder, or makes an empty one there.
    pub(crate) fn open(pipeline: Pipeline, folder: PathBuf) -> Result<Self> {
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
        let (encoder, distance) = (&pipeline.encoder, pipeline.settings.distance);
        match catalogue.about("encoder").map_err(at)? {
            None => catalogue
                .commit(|catalogue| {
                    catalogue.set_about("encoder", encoder.fingerprint().as_str())?;
                    catalogue.set_about("encoder_name", &encoder.name())?;
                    catalogue.set_about("dimensions", &encoder.dimensions().to_string())?;
                    catalogue.set_about("distance", distance.name())
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
        // A corpus that names none was made when there was but one.
        let stored = catalogue.about("distance").map_err(at)?.unwrap_or_else(|| Distance::Cosine.name().to_owned());
        if stored != distance.name() {
            let message = format!(
                "this corpus compares vectors by “{stored}” and cannot be used with “{}”; set distance in [index] to the first, \
                 or build a new corpus",
                distance.name()
            );
            return Err(Error::new(ErrorKind::Mismatch, message).at(folder.display()));
        }
        let (chunking, cache) = (pipeline.chunking()?, Cache::new(&folder));
        let (catalogue, snapshot) = (Mutex::new(catalogue), Mutex::new(None));
        Ok(Self { pipeline, folder, store, chunking, cache, catalogue, snapshot })
    }

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
}
