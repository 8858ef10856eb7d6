//! The corpus as of one moment: a read transaction, and the indexes of the same commit.

use std::sync::{Arc, Mutex, MutexGuard};

use logothete_core::{Error, ErrorKind, Result};

use super::catalogue::{CatalogueReader, Manifest, SegmentEntry};
use super::snapshot::Snapshot;
use super::{Storage, lock};

/// The corpus as of one moment.
pub(crate) struct View {
    catalogue: Mutex<Box<dyn CatalogueReader + Send>>,
    pub snapshot: Arc<Snapshot>,
}

impl View {
    /// Returns the catalogue. Other users of the same view wait until the guard is dropped.
    pub(crate) fn catalogue(&self) -> MutexGuard<'_, Box<dyn CatalogueReader + Send>> {
        lock(&self.catalogue)
    }
}

/// Decides whether the vectors of a corpus can be used, from its manifest.
pub(crate) type Accept<'a> = &'a dyn Fn(&Manifest) -> Result<()>;

impl Storage {
    /// Returns the corpus as it is now. What others commit afterwards is not seen through the view.
    pub(crate) fn view(&self, accept: Accept<'_>) -> Result<View> {
        let mut failed_at = None;
        loop {
            let catalogue = self.catalogue.read()?;
            let commit = catalogue.manifest()?.commit;
            match self.snapshot_for_reading(&*catalogue, accept) {
                Ok(snapshot) => return Ok(View { catalogue: Mutex::new(catalogue), snapshot }),
                // A writer may have merged segments and swept the old files between the start of the transaction and the opening.
                // Then there is a newer commit.
                Err(error) if error.kind() == ErrorKind::Corpus && failed_at != Some(commit) => {
                    failed_at = Some(commit);
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Returns the indexes of the commit that a reader sees. If the corpus was re-encoded since they were opened, the old ones
    /// are returned as long as they have the same rows.
    fn snapshot_for_reading(&self, catalogue: &dyn CatalogueReader, accept: Accept<'_>) -> Result<Arc<Snapshot>> {
        match self.snapshot_of(catalogue, accept) {
            Err(error) if error.kind() == ErrorKind::Mismatch => {
                let entries: Vec<SegmentEntry> = catalogue.segments()?;
                lock(&self.snapshot).clone().filter(|kept| kept.has_the_rows_of(&entries)).ok_or(error)
            }
            outcome => outcome,
        }
    }

    /// Returns the indexes of the commit that a reader sees.
    pub(crate) fn snapshot_of(&self, catalogue: &dyn CatalogueReader, accept: Accept<'_>) -> Result<Arc<Snapshot>> {
        let manifest = catalogue.manifest()?;
        if let Some(snapshot) = lock(&self.snapshot).as_ref().filter(|snapshot| snapshot.commit == manifest.commit) {
            return Ok(snapshot.clone());
        }
        accept(&manifest)?;
        let opened = Snapshot::open(catalogue, &*self.blobs);
        let snapshot = Arc::new(opened.map_err(|error: Error| self.at(error))?);
        // An older reader must not replace what a newer one has opened.
        let mut kept = lock(&self.snapshot);
        if kept.as_ref().is_none_or(|kept| kept.commit < manifest.commit) {
            *kept = Some(snapshot.clone());
        }
        Ok(snapshot)
    }
}
