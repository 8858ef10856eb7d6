//! The corpus: documents, chunks, vectors and indexes kept together in one folder.
//!
//! `corpus.db` is the catalogue, `segments/` holds the indexes. The protocol: new segment files are written and synced,
//! then the folder, then one transaction of the catalogue names them. That transaction is the commit: before it nothing
//! has happened, after it everything has. Those who read see one commit, as of a moment: a [`View`].

mod cache;
mod catalogue;
mod info;
mod lock;
mod map;
mod near;
mod renew;
mod snapshot;
mod store;
mod view;

pub(crate) use cache::Cache;
pub(crate) use catalogue::{
    Catalogue, FORMAT, FileState, IndexEntry, Indexed, Known, Place, SegmentEntry, SegmentFiles, SourceEntry,
    Whereabouts, indexed_language,
};
pub use info::{ChunkDetail, ChunkInfo, CorpusInfo, DocumentDetail, DocumentInfo, FieldInfo, SegmentInfo, VectorInfo};
pub(crate) use lock::WriterLock;
pub use near::IndexKind;
pub(crate) use near::write as write_near;
pub(crate) use snapshot::{Scope, Segment, Snapshot};
pub(crate) use store::Store;
pub(crate) use view::View;

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete_core::vector::Distance;
use logothete_core::{Error, ErrorKind, Result};

use crate::chunking::Chunking;
use crate::pipeline::Pipeline;
use view::{Pinned, Readers};

/// An open corpus, shared by those who work on it.
pub(crate) struct Inner {
    pub pipeline: Pipeline,
    /// Its folder; nothing for one in memory.
    pub folder: Option<PathBuf>,
    pub store: Store,
    /// How documents are cut, with this encoder and this generator.
    pub chunking: Chunking,
    /// What generators wrote and encoders made.
    pub cache: Cache,
    /// The connection of the one who writes.
    catalogue: Mutex<Catalogue>,
    /// Those of the ones who read.
    readers: Readers,
    snapshot: Mutex<Option<Arc<Snapshot>>>,
    /// The moment that is read, where it is not always the newest.
    pinned: Mutex<Option<Pinned>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // What the lock guards is only ever replaced whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An error of a corpus, with the place of the corpus where it has none of its own.
fn at(folder: &Path, error: Error) -> Error {
    if error.place().is_none() { error.at(folder.display()) } else { error }
}

/// Whether a corpus that was made with another encoder may be opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OtherEncoder {
    /// No: its vectors mean nothing to this one.
    Refused,
    /// Yes: its chunks are about to be encoded anew.
    Expected,
}

impl Inner {
    /// Opens the corpus in a folder, or makes an empty one there.
    pub(crate) fn open(pipeline: Pipeline, folder: &Path, other: OtherEncoder) -> Result<Self> {
        if folder.is_file() {
            return Err(
                Error::new(ErrorKind::Configuration, "this is a file; a corpus is a folder").at(folder.display())
            );
        }
        store::make_folder(folder)?;
        let named = |error: Error| at(folder, error);
        let store = Store::open(folder).map_err(named)?;
        let whereabouts = Whereabouts::Folder(folder.to_path_buf());
        let inner = Self::of(pipeline, Some(folder.to_path_buf()), store, whereabouts, Cache::new(folder));
        inner.and_then(|inner| inner.settle(other)).map_err(named)
    }

    /// An empty corpus in memory.
    pub(crate) fn in_memory(pipeline: Pipeline) -> Result<Self> {
        let whereabouts = Whereabouts::in_memory();
        Self::of(pipeline, None, Store::in_memory(), whereabouts, Cache::in_memory())?.settle(OtherEncoder::Refused)
    }

    fn of(
        pipeline: Pipeline,
        folder: Option<PathBuf>,
        store: Store,
        whereabouts: Whereabouts,
        cache: Cache,
    ) -> Result<Self> {
        let catalogue = Catalogue::open(&whereabouts)?;
        let readers = Readers::new(whereabouts);
        let chunking = pipeline.chunking()?;
        let (catalogue, snapshot, pinned) = (Mutex::new(catalogue), Mutex::new(None), Mutex::new(None));
        Ok(Self { pipeline, folder, store, chunking, cache, catalogue, readers, snapshot, pinned })
    }

    /// Compares what the corpus was made with with what is used now, and brings its format up to date.
    fn settle(self, other: OtherEncoder) -> Result<Self> {
        let (encoder, distance) = (&self.pipeline.encoder, self.pipeline.settings.distance);
        let mut catalogue = self.catalogue();
        if catalogue.about("encoder")?.is_none() && !catalogue.is_read_only()? {
            catalogue.commit(|catalogue| {
                catalogue.set_encoder(&**encoder)?;
                catalogue.set_about("distance", distance.name())
            })?;
        }
        if other == OtherEncoder::Refused {
            self.same_encoder(&catalogue)?;
        }
        // A corpus that names none was made when there was but one.
        let stored = catalogue.about("distance")?.unwrap_or_else(|| Distance::Cosine.name().to_owned());
        if stored != distance.name() {
            let message = format!(
                "this corpus compares vectors by “{stored}” and cannot be used with “{}”; set distance in [index] to the first, \
                 or build a new corpus",
                distance.name()
            );
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        drop(catalogue);
        self.renew()?;
        Ok(self)
    }

    /// An error when the vectors of the corpus are another encoder's.
    pub(crate) fn same_encoder(&self, catalogue: &Catalogue) -> Result<()> {
        let encoder = &self.pipeline.encoder;
        let fingerprint = encoder.fingerprint();
        match catalogue.about("encoder")? {
            Some(stored) if stored != fingerprint.as_str() => {
                let theirs = catalogue.about("encoder_name")?.unwrap_or_else(|| "another encoder".into());
                Err(Error::new(
                    ErrorKind::Mismatch,
                    format!(
                        "this corpus was made with the encoder “{theirs}” ({stored}) and cannot be used with “{}” \
                         ({fingerprint}); use the first, or encode it anew with: logothete build --reencode",
                        encoder.name(),
                    ),
                ))
            }
            _ => Ok(()),
        }
    }

    /// The connection of the one who writes.
    pub(crate) fn catalogue(&self) -> MutexGuard<'_, Catalogue> {
        lock(&self.catalogue)
    }

    /// The lock of the one who writes; nothing is needed in memory, where there is no other. An error when the corpus has been
    /// encoded anew since it was opened: what this encoder makes does not belong into it.
    pub(crate) fn write_lock(&self) -> Result<Option<WriterLock>> {
        let lock = self.unchecked_lock()?;
        self.same_encoder(&self.catalogue()).map_err(|error| self.at(error))?;
        Ok(lock)
    }

    /// The same, whatever encoder the corpus was made with.
    pub(crate) fn unchecked_lock(&self) -> Result<Option<WriterLock>> {
        self.folder.as_deref().map(WriterLock::take).transpose()
    }

    /// Removes the files that no segment names. For the one who holds the writer's lock.
    pub(crate) fn sweep(&self) -> Result<()> {
        let entries = self.catalogue().segments()?;
        let named: HashSet<String> = entries.iter().flat_map(|entry| entry.files.names().map(str::to_owned)).collect();
        self.store.sweep(&named)
    }

    /// Lets go of the indexes and of the connections that nobody uses, so that nothing holds what was removed.
    pub(crate) fn let_go(&self) {
        *lock(&self.snapshot) = None;
        self.readers.close();
    }

    /// An error with the corpus as its place, where it has none.
    fn at(&self, error: Error) -> Error {
        match &self.folder {
            Some(folder) => at(folder, error),
            None => error,
        }
    }
}
