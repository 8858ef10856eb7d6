//! Storage: the catalogue, the segment files, the cache and the writer's lease.
//!
//! A corpus in a folder has `corpus.db`, the catalogue, `segments/`, `cache.db` and `conversations.db`. The commit protocol: the writer writes and syncs
//! new segment files, then the folder, then one transaction of the catalogue names them. That transaction is the commit: before
//! it nothing has happened, after it everything has. A reader sees one commit, through a [`View`].
//!
//! Storage knows nothing of pipelines, chunkers and encoders. Each of its parts is a trait, so that a backend that many machines
//! share can take the place of SQLite and files. [`contract`] holds what every backend must do.

mod blobs;
mod cache;
mod catalogue;
#[cfg(test)]
mod contract;
mod conversations;
mod describe;
mod headings;
mod lazy;
mod lease;
mod map;
mod places;
mod snapshot;
mod sqlite;
mod view;

pub(crate) use blobs::{Blob, BlobStore};
pub(crate) use cache::{
    CacheStore, CachedReply, CachedVector, DaySpending, NewReply, VectorKey, reply_key, vector_key,
};
pub(crate) use catalogue::{
    CatalogueReader, CatalogueTransaction, EncoderIdentity, FileKind, FileState, IndexEntry, Indexed, KnownDocument,
    Manifest, NewChunk, NewDocument, RowFacts, RowId, RowsOf, SegmentEntry, SegmentFiles, SourceEntry, UPSERTED, Which,
    indexed_language,
};
pub(crate) use conversations::{ConversationStore, StoredConversation, StoredSummary, StoredTurn};
pub use describe::{ChunkDetail, ChunkInfo, DocumentDetail, DocumentInfo, FieldInfo, Section, VectorInfo};
pub(crate) use headings::HeadingsIndex;
pub(crate) use lease::Lease;
pub(crate) use places::{Place, PlacedRow, Places};
pub(crate) use snapshot::{Ann, Scope, Segment, Snapshot};
pub(crate) use sqlite::{FORMAT, OLDEST_EXPORT};
pub(crate) use view::View;

use std::collections::HashSet;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete_core::segment::SegmentHeader;
use logothete_core::{Error, ErrorKind, Result};

use blobs::{FolderBlobs, MemoryBlobs};
use cache::SqliteCache;
use catalogue::Catalogue;
use conversations::SqliteConversations;
use lease::{FileLease, LeaseStore, MemoryLease};
use sqlite::SqliteCatalogue;

/// The parts of a corpus.
pub(crate) struct Storage {
    /// `None` for a corpus in memory.
    pub folder: Option<PathBuf>,
    catalogue: Box<dyn Catalogue>,
    blobs: Box<dyn BlobStore>,
    pub cache: Box<dyn CacheStore>,
    pub conversations: Box<dyn ConversationStore>,
    lease: Box<dyn LeaseStore>,
    /// The indexes that were opened last.
    snapshot: Mutex<Option<Arc<Snapshot>>>,
}

/// The folder inside that of a corpus which holds its variants: what other pipelines built of the same documents.
pub(crate) const VARIANTS: &str = "variants";

pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // Values behind the locks of this module are only replaced as a whole, so a panic elsewhere leaves them sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Storage {
    /// Opens the parts in a folder, and creates those that are missing.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        Self::open_with_cache_of(folder, folder)
    }

    /// Opens the parts in a folder with the cache of another corpus.
    pub(crate) fn open_with_cache_of(folder: &Path, other: &Path) -> Result<Self> {
        let located = |error: Error| if error.place().is_none() { error.at(folder.display()) } else { error };
        blobs::create_folder(folder)?;
        let blobs = FolderBlobs::open(folder).map_err(located)?;
        let catalogue = SqliteCatalogue::open(folder).map_err(located)?;
        Ok(Self {
            folder: Some(folder.to_path_buf()),
            catalogue: Box::new(catalogue),
            blobs: Box::new(blobs),
            cache: Box::new(SqliteCache::new(other)),
            conversations: Box::new(SqliteConversations::new(folder)),
            lease: Box::new(FileLease::new(folder)),
            snapshot: Mutex::default(),
        })
    }

    /// Creates a corpus in memory.
    pub(crate) fn in_memory() -> Result<Self> {
        Ok(Self {
            folder: None,
            catalogue: Box::new(SqliteCatalogue::in_memory()?),
            blobs: Box::new(MemoryBlobs::default()),
            cache: Box::new(SqliteCache::in_memory()),
            conversations: Box::new(SqliteConversations::in_memory()),
            lease: Box::new(MemoryLease::default()),
            snapshot: Mutex::default(),
        })
    }

    /// Adds the folder to an error that has no place.
    pub(crate) fn at(&self, error: Error) -> Error {
        match &self.folder {
            Some(folder) if error.place().is_none() => error.at(folder.display()),
            _ => error,
        }
    }

    /// Takes the writer's lease.
    ///
    /// # Errors
    /// If another writer holds it.
    pub(crate) fn acquire(&self) -> Result<Lease> {
        let guard = self.lease.acquire()?;
        Ok(Lease::new(self.catalogue.next_lease()?, guard))
    }

    /// Returns the catalogue as it is now.
    pub(crate) fn read(&self) -> Result<Box<dyn CatalogueReader + Send>> {
        self.catalogue.read()
    }

    /// Makes some changes and commits them. An error, a panic, or a lost lease undoes them all.
    pub(crate) fn commit<T>(
        &self,
        lease: &Lease,
        changes: impl FnOnce(&dyn CatalogueTransaction) -> Result<T>,
    ) -> Result<T> {
        let transaction = self.catalogue.begin(lease.number)?;
        let value = changes(&*transaction)?;
        transaction.commit()?;
        Ok(value)
    }

    /// Returns `true` if nothing can be written.
    pub(crate) fn is_read_only(&self) -> Result<bool> {
        self.catalogue.is_read_only()
    }

    /// Writes a segment file and returns its name.
    pub(crate) fn write(
        &self,
        kind: FileKind,
        body: impl FnOnce(&mut dyn Write) -> Result<SegmentHeader>,
    ) -> Result<String> {
        let mut body = Some(body);
        self.blobs.write(kind, &mut |to| match body.take() {
            Some(body) => body(to),
            None => unreachable!("a body is written once"),
        })
    }

    /// Makes the names of new segment files durable. It must come before the commit that names them.
    pub(crate) fn sync(&self) -> Result<()> {
        self.blobs.sync()
    }

    /// Opens a segment file.
    pub(crate) fn open_file(&self, name: &str) -> Result<Blob> {
        self.blobs.open(name)
    }

    /// Returns the size of some segment files together.
    pub(crate) fn file_bytes(&self, names: &[&str]) -> u64 {
        self.blobs.bytes(names)
    }

    /// Removes the files that no segment names. The lease shows that no other writer has files that are not named yet.
    pub(crate) fn sweep(&self, _: &Lease) -> Result<()> {
        let catalogue = self.catalogue.read()?;
        let segments = catalogue.segments()?.into_iter().flat_map(|entry| entry.files.names.into_values());
        let named: HashSet<String> = segments.chain(catalogue.tree()?).collect();
        self.blobs.sweep(&named)
    }

    /// Returns the number of corpora that other pipelines built of the same documents, and the bytes of their files.
    pub(crate) fn variants(&self) -> (u64, u64) {
        let Some(variants) = self.folder.as_ref().map(|folder| folder.join(VARIANTS)) else { return (0, 0) };
        let entries =
            |folder: &Path| std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let folders: Vec<PathBuf> = entries(&variants).filter(|path| path.is_dir()).collect();
        // A corpus has files, and files in one folder.
        let files = folders.iter().flat_map(|folder| entries(folder).chain(entries(&folder.join("segments"))));
        let bytes =
            files.filter_map(|file| file.metadata().ok()).filter(std::fs::Metadata::is_file).map(|file| file.len());
        (folders.len() as u64, bytes.sum())
    }

    /// Removes the corpora that other pipelines built of the same documents.
    pub(crate) fn remove_variants(&self) -> Result<()> {
        let Some(variants) = self.folder.as_ref().map(|folder| folder.join(VARIANTS)) else { return Ok(()) };
        match std::fs::remove_dir_all(&variants) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                let message = format!("this folder could not be removed: {error}");
                Err(Error::new(ErrorKind::System, message).at(variants.display()).because(error))
            }
            _ => Ok(()),
        }
    }

    /// Releases the indexes and connections that nobody uses, so that nothing holds what was removed.
    pub(crate) fn release(&self) {
        *lock(&self.snapshot) = None;
        self.catalogue.release();
    }

    /// Rewrites the catalogue without its free pages.
    pub(crate) fn compact(&self, _: &Lease) -> Result<()> {
        self.catalogue.compact()
    }
}
