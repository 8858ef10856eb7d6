//! The corpus as of one moment: a read transaction, and the indexes of the same commit.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, MutexGuard};

use logothete_core::search::{DocumentFacts, Filter, Passage};
use logothete_core::{Error, ErrorKind, Result};

use super::catalogue::{CatalogueReader, Manifest, SegmentEntry};
use super::describe::DocumentInfo;
use super::snapshot::Snapshot;
use super::{Storage, lock};

/// The corpus as of one moment.
pub(crate) struct View {
    catalogue: Arc<Mutex<Box<dyn CatalogueReader + Send>>>,
    pub snapshot: Arc<Snapshot>,
    /// The documents that the asker may see pass this filter; `None` means that all may be seen.
    pub access: Option<Filter>,
}

impl View {
    /// Returns the catalogue. Other users of the same view wait until the guard is dropped.
    pub(crate) fn catalogue(&self) -> MutexGuard<'_, Box<dyn CatalogueReader + Send>> {
        lock(&self.catalogue)
    }

    /// Returns the same moment for an asker who may see the documents that pass a filter.
    pub(crate) fn for_access(&self, access: Option<Filter>) -> Self {
        Self { catalogue: self.catalogue.clone(), snapshot: self.snapshot.clone(), access }
    }

    /// Returns those of some documents that may be seen.
    pub(crate) fn seen<'n>(&self, names: &[&'n str]) -> Result<HashSet<&'n str>> {
        let Some(access) = &self.access else { return Ok(names.iter().copied().collect()) };
        let records = self.catalogue().records(names)?;
        let is_seen = |name: &&str| {
            records.get(*name).is_some_and(|record| {
                let facts = DocumentFacts {
                    document: name,
                    title: record.title.as_deref(),
                    media_type: &record.media_type,
                    metadata: &record.metadata,
                };
                access.holds_for_all(&facts) == Some(true)
            })
        };
        Ok(names.iter().copied().filter(is_seen).collect())
    }

    /// Returns an error if a document may not be seen: the same as if it were not there.
    pub(crate) fn check_seen(&self, name: &str) -> Result<()> {
        match self.access.is_none() || self.seen(&[name])?.contains(name) {
            true => Ok(()),
            false => Err(Error::new(ErrorKind::NotFound, "the corpus has no document of this name").at(name)),
        }
    }

    /// Returns passages without the counterparts of documents that may not be seen.
    pub(crate) fn without_unseen(&self, mut passages: Vec<Passage>) -> Result<Vec<Passage>> {
        if self.access.is_none() {
            return Ok(passages);
        }
        let others = passages.iter().flat_map(|passage| &passage.also);
        let names: Vec<String> = others.map(|other| other.location.document.clone()).collect();
        let seen = self.seen(&names.iter().map(String::as_str).collect::<Vec<_>>())?;
        for passage in &mut passages {
            passage.also.retain(|other| seen.contains(other.location.document.as_str()));
        }
        Ok(passages)
    }

    /// Returns the documents that may be seen, by name.
    pub(crate) fn document_infos(&self) -> Result<Vec<DocumentInfo>> {
        let mut infos = self.catalogue().document_infos()?;
        if self.access.is_some() {
            let names: Vec<String> = infos.iter().map(|info| info.document.clone()).collect();
            let seen = self.seen(&names.iter().map(String::as_str).collect::<Vec<_>>())?;
            infos.retain(|info| seen.contains(info.document.as_str()));
        }
        Ok(infos)
    }

    /// Returns the names of the documents that may be seen.
    pub(crate) fn document_names(&self) -> Result<Vec<String>> {
        Ok(self.document_infos()?.into_iter().map(|info| info.document).collect())
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
                Ok(snapshot) => {
                    return Ok(View { catalogue: Arc::new(Mutex::new(catalogue)), snapshot, access: None });
                }
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
