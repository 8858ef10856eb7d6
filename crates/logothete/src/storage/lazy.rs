//! Databases beside the catalogue, which are created when something is first written to them.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use rusqlite::Connection;

/// A database that is opened when it is first needed.
pub(super) struct LazyDatabase {
    /// `None` for a database in memory.
    path: Option<PathBuf>,
    /// Creates the tables, or migrates those of an older version.
    prepare: fn(&mut Connection) -> rusqlite::Result<()>,
    /// What to do if the file is damaged.
    advice: &'static str,
    connection: Mutex<Option<Connection>>,
}

impl LazyDatabase {
    pub(super) fn new(
        path: Option<PathBuf>,
        prepare: fn(&mut Connection) -> rusqlite::Result<()>,
        advice: &'static str,
    ) -> Self {
        Self { path, prepare, advice, connection: Mutex::new(None) }
    }

    /// Returns `true` if nothing was ever written.
    pub(super) fn is_missing(&self) -> bool {
        self.path.as_ref().is_some_and(|path| !path.exists())
    }

    /// Returns the bytes of the file.
    pub(super) fn bytes(&self) -> u64 {
        self.path.as_ref().and_then(|path| std::fs::metadata(path).ok()).map_or(0, |data| data.len())
    }

    /// Does some work with the connection.
    pub(super) fn with<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T> {
        let mut guard = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let outcome = || {
            if guard.is_none() {
                let mut connection = match &self.path {
                    Some(path) => Connection::open(path)?,
                    None => Connection::open_in_memory()?,
                };
                connection.busy_timeout(Duration::from_secs(10))?;
                connection.execute_batch(
                    "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA secure_delete=ON; PRAGMA foreign_keys=ON;",
                )?;
                (self.prepare)(&mut connection)?;
                *guard = Some(connection);
            }
            guard.as_ref().map(work).transpose()
        };
        let place = self.path.as_deref().unwrap_or(Path::new("a database in memory"));
        let failed = |error: rusqlite::Error| {
            let message = format!("{error}; {}", self.advice);
            Error::new(ErrorKind::System, message).at(place.display()).because(error)
        };
        outcome().map_err(failed)?.ok_or_else(|| Error::new(ErrorKind::System, "the database was not opened"))
    }

    /// Does some work that changes the database in one transaction.
    pub(super) fn change<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T> {
        self.with(|connection| {
            let behaviour = rusqlite::TransactionBehavior::Immediate;
            let transaction = rusqlite::Transaction::new_unchecked(connection, behaviour)?;
            let value = work(&transaction)?;
            transaction.commit()?;
            Ok(value)
        })
    }

    /// Gives free pages back, so that nothing of what was deleted is left in the files.
    pub(super) fn scrub(&self) -> Result<()> {
        self.with(|connection| {
            connection.execute_batch("VACUUM")?;
            connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))
        })
    }
}
