//! The corpus as of one moment: a reader's connection inside a transaction, and the indexes of the same commit.

use std::ops::Deref;
use std::sync::{Arc, Mutex, MutexGuard};

use logothete_core::{ErrorKind, Result};

use super::catalogue::{Catalogue, Whereabouts};
use super::snapshot::Snapshot;
use super::{Inner, lock};

/// The connections of those who read.
pub(crate) struct Readers {
    whereabouts: Whereabouts,
    idle: Mutex<Vec<Catalogue>>,
}

impl Readers {
    pub(crate) fn new(whereabouts: Whereabouts) -> Self {
        Self { whereabouts, idle: Mutex::default() }
    }

    fn take(&self) -> Result<Catalogue> {
        let idle = lock(&self.idle).pop();
        idle.map_or_else(|| Catalogue::open(&self.whereabouts), Ok)
    }

    /// Lets all go that nobody uses, so that they hold nothing.
    pub(crate) fn close(&self) {
        lock(&self.idle).clear();
    }
}

/// A connection inside a transaction.
enum Held<'a> {
    /// One of those that wait for readers; the transaction lasts until it is put back.
    Own(Option<Catalogue>, &'a Readers),
    /// One whose transaction goes on, and that others use too.
    Pinned(Arc<Mutex<Catalogue>>),
}

impl Drop for Held<'_> {
    fn drop(&mut self) {
        if let Self::Own(catalogue, readers) = self
            && let Some(catalogue) = catalogue.take()
        {
            catalogue.end();
            lock(&readers.idle).push(catalogue);
        }
    }
}

/// A moment that is read until further notice.
pub(crate) struct Pinned {
    catalogue: Arc<Mutex<Catalogue>>,
    snapshot: Arc<Snapshot>,
}

/// The corpus as of one moment.
pub(crate) struct View<'a> {
    held: Held<'a>,
    pub snapshot: Arc<Snapshot>,
}

/// The catalogue of a view. Where others use it too they wait, so that nothing may be computed while it is held.
pub(crate) enum CatalogueOfView<'v> {
    Own(&'v Catalogue),
    Shared(MutexGuard<'v, Catalogue>),
}

impl Deref for CatalogueOfView<'_> {
    type Target = Catalogue;

    fn deref(&self) -> &Catalogue {
        match self {
            Self::Own(catalogue) => catalogue,
            Self::Shared(catalogue) => catalogue,
        }
    }
}

impl View<'_> {
    /// The catalogue.
    pub(crate) fn catalogue(&self) -> CatalogueOfView<'_> {
        match &self.held {
            Held::Own(catalogue, _) => {
                CatalogueOfView::Own(catalogue.as_ref().expect("it is there until it is dropped"))
            }
            Held::Pinned(catalogue) => CatalogueOfView::Shared(lock(catalogue)),
        }
    }
}

impl Inner {
    /// The corpus as of now. What others commit afterwards is not seen through it.
    pub(crate) fn view(&self) -> Result<View<'_>> {
        if let Some(Pinned { catalogue, snapshot }) = &*lock(&self.pinned) {
            return Ok(View { held: Held::Pinned(catalogue.clone()), snapshot: snapshot.clone() });
        }
        let mut failed_at = None;
        loop {
            let catalogue = self.readers.take()?;
            catalogue.begin()?;
            let (commit, snapshot) = (catalogue.commit_number()?, self.snapshot_to_read(&catalogue));
            let held = Held::Own(Some(catalogue), &self.readers);
            match snapshot {
                Ok(snapshot) => return Ok(View { held, snapshot }),
                // Between the beginning of the transaction and the opening, a writer may have merged segments and swept the old
                // files; then there is a newer commit.
                Err(error) if error.kind() == ErrorKind::Corpus && failed_at != Some(commit) => {
                    failed_at = Some(commit);
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Reads as of now until further notice.
    pub(crate) fn pin(&self) -> Result<()> {
        self.unpin();
        let mut view = self.view()?;
        let snapshot = view.snapshot.clone();
        if let Held::Own(catalogue, _) = &mut view.held {
            let catalogue = catalogue.take().map(|catalogue| Arc::new(Mutex::new(catalogue)));
            *lock(&self.pinned) = catalogue.map(|catalogue| Pinned { catalogue, snapshot });
        }
        Ok(())
    }

    pub(crate) fn unpin(&self) {
        *lock(&self.pinned) = None;
    }

    /// The indexes of the commit that a connection sees. Where the corpus has been encoded anew since they were opened, those from
    /// before, which the new ones stand beside row for row: who reads goes on until the rows change.
    fn snapshot_to_read(&self, catalogue: &Catalogue) -> Result<Arc<Snapshot>> {
        match self.snapshot_of(catalogue) {
            Err(error) if error.kind() == ErrorKind::Mismatch => {
                let entries = catalogue.segments()?;
                lock(&self.snapshot).clone().filter(|kept| kept.has_the_rows_of(&entries)).ok_or(error)
            }
            outcome => outcome,
        }
    }

    /// The indexes of the commit that a connection sees.
    fn snapshot_of(&self, catalogue: &Catalogue) -> Result<Arc<Snapshot>> {
        let commit = catalogue.commit_number()?;
        let mut kept = lock(&self.snapshot);
        if let Some(snapshot) = kept.as_ref().filter(|snapshot| snapshot.commit == commit) {
            return Ok(snapshot.clone());
        }
        self.same_encoder(catalogue)?;
        let opened = Snapshot::open(catalogue, &self.store);
        let snapshot = Arc::new(opened.map_err(|error| self.at(error))?);
        // An older reader must not put back what a newer one has opened.
        if kept.as_ref().is_none_or(|kept| kept.commit < commit) {
            *kept = Some(snapshot.clone());
        }
        Ok(snapshot)
    }

    /// The indexes as of the newest commit, for the one who writes.
    pub(crate) fn snapshot(&self) -> Result<Arc<Snapshot>> {
        self.snapshot_of(&self.catalogue())
    }
}
