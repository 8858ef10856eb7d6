//! The catalogue: everything of a corpus but its indexes, in SQLite.
//!
//! All SQL of the crate is here. A change becomes visible when its transaction commits, and is on the disk by then:
//! write-ahead log, `synchronous=FULL`.

mod chunks;
mod documents;
mod look;
mod rows;
mod segments;
mod sources;
mod versions;

pub(crate) use chunks::{IndexEntry, Indexed, Place, indexed_language};
pub(crate) use documents::{FileState, Known};
pub(crate) use segments::{SegmentEntry, SegmentFiles};
pub(crate) use sources::SourceEntry;
pub(crate) use versions::FORMAT;

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use logothete_core::document::{Pages, Span};
use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row};
use serde::{Serialize, de::DeserializeOwned};

/// A connection waits so long for another that holds a lock.
const PATIENCE: Duration = Duration::from_secs(10);

/// Where a catalogue is.
#[derive(Clone, Debug)]
pub(crate) enum Whereabouts {
    Folder(PathBuf),
    /// In memory, for as long as a connection to it is open. No two of a process have the same number.
    Memory(u64),
}

impl Whereabouts {
    /// A place in memory where nothing is yet.
    pub(crate) fn in_memory() -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Self::Memory(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

/// The catalogue's connection.
pub(crate) struct Catalogue {
    connection: Connection,
}

pub(crate) fn failed(error: rusqlite::Error) -> Error {
    let kind = match error.sqlite_error_code() {
        Some(rusqlite::ErrorCode::DatabaseBusy | rusqlite::ErrorCode::DatabaseLocked) => ErrorKind::Busy,
        Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => ErrorKind::Corpus,
        _ => ErrorKind::System,
    };
    let message = match kind {
        ErrorKind::Busy => "another process is writing to this corpus; try again when it is done".to_owned(),
        ErrorKind::Corpus => {
            format!("corpus.db is damaged ({error}); restore it, or remove the folder and build again")
        }
        _ => match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DiskFull) => {
                "the disk is full; make room and build again: what was committed is kept".to_owned()
            }
            Some(rusqlite::ErrorCode::ReadOnly | rusqlite::ErrorCode::CannotOpen) => format!(
                "corpus.db cannot be written ({error}); make its folder writable, or name another with --corpus FOLDER"
            ),
            _ => format!("corpus.db: {error}"),
        },
    };
    Error::new(kind, message).because(error)
}

fn from_json<T: DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| {
        Error::new(ErrorKind::Corpus, "corpus.db holds JSON that cannot be read; build again").because(error)
    })
}

fn to_json<T: Serialize>(value: &T) -> Result<String> {
    serde_json::to_string(value)
        .map_err(|error| Error::new(ErrorKind::System, "a value cannot be written as JSON").because(error))
}

fn pages(row: &Row<'_>, first: &str, last: &str) -> rusqlite::Result<Option<Pages>> {
    let pair: (Option<u32>, Option<u32>) = (row.get(first)?, row.get(last)?);
    Ok(pair.0.zip(pair.1).map(|(first, last)| Pages { first, last }))
}

fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    let bounds: (i64, i64) = (row.get("start")?, row.get("end")?);
    Ok(Span::new(bounds.0.max(0) as usize, bounds.1.max(0) as usize))
}

impl Catalogue {
    /// Opens a catalogue, and makes it if it is not there.
    pub(crate) fn open(whereabouts: &Whereabouts) -> Result<Self> {
        match whereabouts {
            Whereabouts::Folder(folder) => {
                let file = folder.join("corpus.db");
                let opened = Connection::open(&file).map_err(failed).and_then(Self::prepared);
                opened.or_else(|error| Self::for_reading(&file).ok_or(error))
            }
            Whereabouts::Memory(number) => {
                let name = format!("file:/logothete-{number}?vfs=memdb");
                Connection::open(name).map_err(failed).and_then(Self::prepared)
            }
        }
    }

    /// Opens the catalogue of a folder that cannot be written, if nothing of it is in the log alone.
    fn for_reading(file: &Path) -> Option<Self> {
        let log = file.with_extension("db-wal");
        let logged = std::fs::metadata(log).map_or(0, |data| data.len());
        let writable = std::fs::OpenOptions::new().append(true).open(file).is_ok();
        if logged > 0 || writable || !file.is_file() {
            return None;
        }
        let path = file.to_str()?.replace('%', "%25").replace('?', "%3f").replace('#', "%23");
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(format!("file:{path}?immutable=1"), flags).ok()?;
        let version: u32 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).ok()?;
        (version == FORMAT).then_some(Self { connection })
    }

    /// Whether nothing can be written to it.
    pub(crate) fn is_read_only(&self) -> Result<bool> {
        self.connection.is_readonly("main").map_err(failed)
    }

    fn prepared(mut connection: Connection) -> Result<Self> {
        connection.busy_timeout(PATIENCE).map_err(failed)?;
        connection.set_prepared_statement_cache_capacity(64);
        connection
            .execute_batch(
                "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON; PRAGMA temp_store=MEMORY;",
            )
            .map_err(failed)?;
        versions::bring_up(&mut connection)?;
        Ok(Self { connection })
    }

    /// Begins to read as of this moment. It lasts until [`end`](Self::end).
    pub(crate) fn begin(&self) -> Result<()> {
        self.connection.execute_batch("BEGIN").map_err(failed)
    }

    /// Ends reading as of a moment.
    pub(crate) fn end(&self) {
        // Nothing was written: there is nothing to lose.
        let _ = self.connection.execute_batch("COMMIT");
    }

    /// The number of the last commit.
    pub(crate) fn commit_number(&self) -> Result<i64> {
        Ok(self.about("commit")?.and_then(|number| number.parse().ok()).unwrap_or(0))
    }

    /// Runs some changes as one: all of them happen, or none.
    pub(crate) fn commit<T>(&mut self, changes: impl FnOnce(&Self) -> Result<T>) -> Result<T> {
        self.connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
        let outcome = changes(self).and_then(|value| {
            self.note_gone()?;
            self.set_about("commit", &(self.commit_number()? + 1).to_string())?;
            self.connection.execute_batch("COMMIT").map_err(failed).map(|()| value)
        });
        if outcome.is_err() {
            // The transaction may be gone already; the error that matters is the first.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
        outcome
    }

    /// Writes the database anew without its free pages, and empties the log, so that nothing that was removed is left in them.
    pub(crate) fn compact(&self) -> Result<()> {
        self.connection.execute_batch("VACUUM").map_err(failed)?;
        let (busy, log): (i64, i64) = self
            .connection
            .query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| Ok((row.get(0)?, row.get(1)?)))
            .map_err(failed)?;
        if busy != 0 && log > 0 {
            return Err(Error::new(
                ErrorKind::Busy,
                "another process still reads what was there before, so that its pages remain; try again when it is done",
            ));
        }
        Ok(())
    }

    fn rows<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let rows = statement.query_map(values, |row| read(row)).map_err(failed)?;
        rows.collect::<rusqlite::Result<Vec<T>>>().map_err(failed)
    }

    /// The first row, if there is one.
    fn one<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Option<T>> {
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        statement.query_row(values, read).optional().map_err(failed)
    }

    fn run(&self, sql: &str, values: impl rusqlite::Params) -> Result<usize> {
        self.connection.prepare_cached(sql).and_then(|mut statement| statement.execute(values)).map_err(failed)
    }

    pub(crate) fn about(&self, key: &str) -> Result<Option<String>> {
        self.connection
            .query_row("SELECT value FROM about WHERE key = ?", [key], |row| row.get(0))
            .optional()
            .map_err(failed)
    }

    pub(crate) fn set_about(&self, key: &str, value: &str) -> Result<()> {
        self.run(
            "INSERT INTO about VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
            [key, value],
        )?;
        Ok(())
    }

    /// Notes the encoder of the vectors.
    pub(crate) fn set_encoder(&self, encoder: &dyn Encoder) -> Result<()> {
        self.set_about("encoder", encoder.fingerprint().as_str())?;
        self.set_about("encoder_name", &encoder.name())?;
        self.set_about("dimensions", &encoder.dimensions().to_string())
    }
}
