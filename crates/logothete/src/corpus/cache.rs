//! What generators wrote, kept by what they were asked: `cache.db`.
//!
//! It is a file of its own, and every reply is on the disk before it is used: a build that is killed, or a corpus that is
//! cut in another way and back again, asks for nothing twice.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use logothete_core::cite::Tokens;
use logothete_core::prompt::Prompt;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use rusqlite::{Connection, OptionalExtension, params};

use crate::generate::Generated;

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS generated (
    key      TEXT PRIMARY KEY,  -- BLAKE3 of the generator's fingerprint and the prompt
    text     TEXT NOT NULL,
    sent     INTEGER NOT NULL,  -- tokens
    received INTEGER NOT NULL
) WITHOUT ROWID;
PRAGMA user_version = 1;
";

/// The cache of a corpus. The file is made when it is first needed.
pub(crate) struct Cache {
    path: PathBuf,
    connection: Mutex<Option<Connection>>,
}

impl Cache {
    pub(crate) fn new(folder: &Path) -> Self {
        Self { path: folder.join("cache.db"), connection: Mutex::new(None) }
    }

    /// The key of a prompt to a generator.
    pub(crate) fn key(generator: &Fingerprint, prompt: &Prompt) -> String {
        let mut hasher = blake3::Hasher::new();
        for part in [generator.as_str(), &prompt.instruction, &prompt.material] {
            hasher.update(&(part.len() as u64).to_le_bytes());
            hasher.update(part.as_bytes());
        }
        hasher.finalize().to_hex().to_string()
    }

    /// What was written for a key. A corpus that never kept anything is not given a file.
    pub(crate) fn get(&self, key: &str) -> Result<Option<Generated>> {
        if !self.path.exists() {
            return Ok(None);
        }
        self.with(|connection| {
            let sql = "SELECT text, sent, received FROM generated WHERE key = ?";
            let read = |row: &rusqlite::Row<'_>| {
                let tokens = Tokens { sent: row.get(1)?, received: row.get(2)? };
                Ok(Generated { text: row.get(0)?, tokens })
            };
            connection.prepare_cached(sql)?.query_row([key], read).optional()
        })
    }

    /// Keeps what was written for a key.
    pub(crate) fn put(&self, key: &str, generated: &Generated) -> Result<()> {
        self.with(|connection| {
            let sql = "INSERT OR REPLACE INTO generated VALUES (?, ?, ?, ?)";
            let values = params![key, generated.text, generated.tokens.sent, generated.tokens.received];
            connection.prepare_cached(sql)?.execute(values).map(|_| ())
        })
    }

    fn with<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T> {
        let mut guard = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let outcome = || {
            if guard.is_none() {
                let connection = Connection::open(&self.path)?;
                connection.busy_timeout(std::time::Duration::from_secs(5))?;
                connection.execute_batch("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;")?;
                connection.execute_batch(SCHEMA)?;
                *guard = Some(connection);
            }
            guard.as_ref().map(work).transpose()
        };
        let failed = |error: rusqlite::Error| {
            let message = format!("{error}; if it is damaged, remove it: what was written is then asked for again");
            Error::new(ErrorKind::System, message).at(self.path.display()).because(error)
        };
        // The connection was just made, or there was one.
        outcome().map_err(failed)?.ok_or_else(|| Error::new(ErrorKind::System, "cache.db was not opened"))
    }
}
