//! The writer's lease: one writer at a time.
//!
//! A lease has a number, which grows with each lease. The catalogue compares it at every commit, so that a writer that lost its
//! lease without noticing cannot commit.

use std::fs::{File, OpenOptions, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use logothete_core::{Error, ErrorKind, Result};

/// Grants exclusive access to the writer.
pub(crate) trait LeaseStore: Send + Sync {
    /// Takes the lease, which lasts until the guard is dropped.
    ///
    /// # Errors
    /// If another writer holds it.
    fn acquire(&self) -> Result<Box<dyn LeaseGuard>>;
}

/// Holds a lease until it is dropped.
pub(crate) trait LeaseGuard: Send + Sync {}

/// A lease that is held.
pub(crate) struct Lease {
    pub number: u64,
    _guard: Box<dyn LeaseGuard>,
}

impl Lease {
    pub(super) fn new(number: u64, guard: Box<dyn LeaseGuard>) -> Self {
        Self { number, _guard: guard }
    }
}

fn busy() -> Error {
    Error::new(ErrorKind::Busy, "another writer is at work on this corpus; try again when it is done")
}

/// The lease of a corpus in a folder: a lock on a file, which the operating system releases when the process ends.
pub(crate) struct FileLease(PathBuf);

impl FileLease {
    pub(crate) fn new(corpus: &Path) -> Self {
        Self(corpus.to_path_buf())
    }
}

struct LockedFile(File);

impl Drop for LockedFile {
    fn drop(&mut self) {
        // Closing the file would release it too, unless a process that was just started from this one holds the file as well.
        let _ = self.0.unlock();
    }
}

impl LeaseGuard for LockedFile {}

impl LeaseStore for FileLease {
    fn acquire(&self) -> Result<Box<dyn LeaseGuard>> {
        let path = self.0.join("writer.lock");
        let file = OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(|error| {
            let message = format!("this corpus cannot be written: {error}; make its folder writable");
            Error::new(ErrorKind::System, message).at(path.display()).because(error)
        })?;
        match file.try_lock() {
            Ok(()) => Ok(Box::new(LockedFile(file))),
            Err(TryLockError::WouldBlock) => Err(busy().at(self.0.display())),
            Err(TryLockError::Error(error)) => {
                Err(Error::new(ErrorKind::System, format!("this file could not be locked: {error}")).at(path.display()))
            }
        }
    }
}

/// The lease of a corpus in memory.
#[derive(Default)]
pub(crate) struct MemoryLease(Arc<AtomicBool>);

struct HeldFlag(Arc<AtomicBool>);

impl Drop for HeldFlag {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Release);
    }
}

impl LeaseGuard for HeldFlag {}

impl LeaseStore for MemoryLease {
    fn acquire(&self) -> Result<Box<dyn LeaseGuard>> {
        if self.0.swap(true, Ordering::Acquire) {
            return Err(busy());
        }
        Ok(Box::new(HeldFlag(self.0.clone())))
    }
}
