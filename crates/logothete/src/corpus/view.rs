//! The corpus as of one moment: a reader's connection inside a transaction, and the indexes of the same commit.

use std::ops::Deref;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard};

use logothete_core::{ErrorKind, Result};

use super::catalogue::Catalogue;
use super::snapshot::Snapshot;
use super::{Inner, lock};

/// The connections of those who read.
pub(crate) struct Readers {
    folder: PathBuf,
    idle: Mutex<Vec<Catalogue>>,
}

impl Readers {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder, idle: Mutex::default() }
    }

    fn take(&self) -> Result<Catalogue> {
        let idle = lock(&self.idle).pop();
        idle.map_or_else(|| Catalogue::open(&self.folder), Ok)
    }

    /// Lets all go that nobody uses, so that they hold nothing.
    pub(crate) fn close(&self) {
        lock(&self.idle).clear();
    }
}

/// A connection, inside a transaction until it is dropped.
enum Held<'a> {
    /// One of those that wait for readers.
    Own(Option<Catalogue>, &'a Readers),
    /// The only one that a corpus in memory has.
    Only(MutexGuard<'a, Catalogue>),
    /// One whose transaction goes on.
    Pinned(MutexGuard<'a, Option<Pinned>>),
}

/// A moment that is read until further notice.
pub(crate) struct Pinned {
    catalogue: Catalogue,
    snapshot: Arc<Snapshot>,
}

/// The corpus as of one moment.
pub(crate) struct View<'a> {
    held: Held<'a>,
    pub snapshot: Arc<Snapshot>,
}

impl Deref for Held<'_> {
    type Target = Catalogue;

    fn deref(&self) -> &Catalogue {
        match self {
            Self::Own(catalogue, _) => catalogue.as_ref().expect("it is there until it is dropped"),
            Self::Only(catalogue) => catalogue,
            Self::Pinned(pinned) => &pinned.as_ref().expect("it was there when it was locked").catalogue,
        }
    }
}

impl Drop for Held<'_> {
    fn drop(&mut self) {
        match self {
            Self::Own(catalogue, readers) => {
                if let Some(catalogue) = catalogue.take() {
                    catalogue.end();
                    lock(&readers.idle).push(catalogue);
                }
            }
            Self::Only(catalogue) => catalogue.end(),
            Self::Pinned(_) => {}
        }
    }
}

impl View<'_> {
    /// The catalogue.
    pub(crate) fn catalogue(&self) -> &Catalogue {
        &self.held
    }
}

impl Inner {
    /// The corpus as of now. What others commit afterwards is not seen through it.
    pub(crate) fn view(&self) -> Result<View<'_>> {
        let pinned = lock(&self.pinned);
        if let Some(snapshot) = pinned.as_ref().map(|pinned| pinned.snapshot.clone()) {
            return Ok(View { held: Held::Pinned(pinned), snapshot });
        }
        drop(pinned);
        let mut failed_at = None;
        loop {
            let held = match &self.readers {
                Some(readers) => Held::Own(Some(readers.take()?), readers),
                None => Held::Only(self.catalogue()),
            };
            held.begin()?;
            let commit = held.commit_number()?;
            match self.snapshot_of(&held) {
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

    /// Reads as of now until further notice. A corpus in memory has no others who write, and stays as it is.
    pub(crate) fn pin(&self) -> Result<()> {
        self.unpin();
        let mut view = self.view()?;
        let snapshot = view.snapshot.clone();
        if let Held::Own(catalogue, _) = &mut view.held {
            *lock(&self.pinned) = catalogue.take().map(|catalogue| Pinned { catalogue, snapshot });
        }
        Ok(())
    }

    pub(crate) fn unpin(&self) {
        *lock(&self.pinned) = None;
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
