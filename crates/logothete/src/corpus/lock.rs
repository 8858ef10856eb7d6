//! One writer at a time.

use std::fs::{File, OpenOptions, TryLockError};
use std::path::Path;

use logothete_core::{Error, ErrorKind, Result};

/// The writer's lock, held until it is dropped. The operating system lets it go when the process ends, however it ends.
#[derive(Debug)]
pub(crate) struct WriterLock(File);

impl Drop for WriterLock {
    fn drop(&mut self) {
        // Closing the file would do, but for a process that is just being started from this one and holds the file too.
        let _ = self.0.unlock();
    }
}

impl WriterLock {
    /// Takes the lock, or says who is in the way.
    pub(crate) fn take(corpus: &Path) -> Result<Self> {
        let path = corpus.join("writer.lock");
        let file = OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(|error| {
            let message = format!(
                "this corpus cannot be written: {error}; make its folder writable, or name another with --corpus FOLDER"
            );
            Error::new(ErrorKind::System, message).at(path.display()).because(error)
        })?;
        match file.try_lock() {
            Ok(()) => Ok(Self(file)),
            Err(TryLockError::WouldBlock) => Err(Error::new(
                ErrorKind::Busy,
                "another build of this corpus is running; wait for it to end and try again",
            )
            .at(corpus.display())),
            Err(TryLockError::Error(error)) => {
                Err(Error::new(ErrorKind::System, format!("this file could not be locked: {error}")).at(path.display()))
            }
        }
    }
}
