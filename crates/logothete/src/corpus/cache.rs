//! What generators wrote and what encoders made, kept by what they were asked: `cache.db`.
//!
//! It is a file of its own, and every reply is on the disk before it is used: a build that is killed, or a corpus that is
//! cut in another way and back again, asks for nothing twice. Nothing is removed from it; it may be removed as a whole.

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
    received INTEGER NOT NULL,
    owner    TEXT NOT NULL DEFAULT ''  -- the document that it was asked for: its source and path
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS vectors (
    key    BLOB PRIMARY KEY,    -- BLAKE3 of the encoder's fingerprint and the text
    vector BLOB NOT NULL,       -- 32-bit floats, little-endian
    owner  TEXT NOT NULL DEFAULT ''
);
CREATE INDEX IF NOT EXISTS generated_owner ON generated (owner);
CREATE INDEX IF NOT EXISTS vectors_owner ON vectors (owner);
PRAGMA user_version = 3;
";
/// Brings a cache of version 1 or 2 to this one. What it holds has no owner.
const FROM_2: &str = "ALTER TABLE generated ADD COLUMN owner TEXT NOT NULL DEFAULT '';
                      ALTER TABLE vectors ADD COLUMN owner TEXT NOT NULL DEFAULT '';";
const FROM_1: &str = "CREATE TABLE IF NOT EXISTS vectors (key BLOB PRIMARY KEY, vector BLOB NOT NULL);";

/// The cache of a corpus. The file is made when it is first needed.
pub(crate) struct Cache {
    /// Its file; nothing for one in memory.
    path: Option<PathBuf>,
    connection: Mutex<Option<Connection>>,
}

impl Cache {
    pub(crate) fn new(folder: &Path) -> Self {
        Self { path: Some(folder.join("cache.db")), connection: Mutex::new(None) }
    }

    pub(crate) fn in_memory() -> Self {
        Self { path: None, connection: Mutex::new(None) }
    }

    /// Whether nothing was ever kept.
    fn is_missing(&self) -> bool {
        self.path.as_ref().is_some_and(|path| !path.exists())
    }

    /// How many bytes its file has.
    pub(crate) fn bytes(&self) -> u64 {
        self.path.as_ref().and_then(|path| std::fs::metadata(path).ok()).map_or(0, |data| data.len())
    }

    /// Removes all that was kept for a document, the vectors of some keys, and what was kept when owners were not noted, from the
    /// file too.
    pub(crate) fn forget(&self, owner: &str, keys: &[[u8; 32]]) -> Result<()> {
        if self.is_missing() {
            return Ok(());
        }
        self.with(|connection| {
            for table in ["generated", "vectors"] {
                connection.execute(&format!("DELETE FROM {table} WHERE owner = ? OR owner = ''"), [owner])?;
            }
            for key in keys {
                connection.execute("DELETE FROM vectors WHERE key = ?", [key])?;
            }
            connection.execute_batch("VACUUM")?;
            connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))
        })
    }

    /// The key of a prompt to a generator.
    pub(crate) fn key(generator: &Fingerprint, prompt: &Prompt) -> String {
        hash(&[generator.as_str(), &prompt.instruction, &prompt.material]).to_hex().to_string()
    }

    /// The key of a passage to an encoder.
    pub(crate) fn vector_key(encoder: &Fingerprint, text: &str) -> [u8; 32] {
        hash(&[encoder.as_str(), text]).into()
    }

    /// The vectors of some keys, where they are kept.
    pub(crate) fn vectors(&self, keys: &[[u8; 32]]) -> Result<Vec<Option<Vec<f32>>>> {
        if self.is_missing() {
            return Ok(vec![None; keys.len()]);
        }
        self.with(|connection| {
            let mut statement = connection.prepare_cached("SELECT vector FROM vectors WHERE key = ?")?;
            let read = |row: &rusqlite::Row<'_>| row.get::<_, Vec<u8>>(0);
            keys.iter()
                .map(|key| Ok(statement.query_row([key], read).optional()?.map(|bytes| floats(&bytes))))
                .collect()
        })
    }

    /// Keeps vectors by their keys, each with its owner, all or none.
    pub(crate) fn put_vectors<'v>(&self, vectors: impl Iterator<Item = ([u8; 32], &'v [f32], &'v str)>) -> Result<()> {
        self.with(|connection| {
            let transaction = connection.unchecked_transaction()?;
            {
                let mut statement = transaction.prepare_cached("INSERT OR REPLACE INTO vectors VALUES (?, ?, ?)")?;
                for (key, vector, owner) in vectors {
                    let bytes: Vec<u8> = vector.iter().flat_map(|number| number.to_le_bytes()).collect();
                    statement.execute(params![key, bytes, owner])?;
                }
            }
            transaction.commit()
        })
    }

    /// What was written for a key. A corpus that never kept anything is not given a file.
    pub(crate) fn get(&self, key: &str) -> Result<Option<Generated>> {
        if self.is_missing() {
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
    pub(crate) fn put(&self, key: &str, generated: &Generated, owner: &str) -> Result<()> {
        self.with(|connection| {
            let sql = "INSERT OR REPLACE INTO generated VALUES (?, ?, ?, ?, ?)";
            let values = params![key, generated.text, generated.tokens.sent, generated.tokens.received, owner];
            connection.prepare_cached(sql)?.execute(values).map(|_| ())
        })
    }

    /// Does some work with the connection, which is made when it is first needed.
    fn with<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T> {
        let mut guard = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let outcome = || {
            if guard.is_none() {
                let mut connection = match &self.path {
                    Some(path) => Connection::open(path)?,
                    None => Connection::open_in_memory()?,
                };
                connection.busy_timeout(std::time::Duration::from_secs(10))?;
                connection
                    .execute_batch("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA secure_delete=ON;")?;
                bring_up(&mut connection)?;
                *guard = Some(connection);
            }
            guard.as_ref().map(work).transpose()
        };
        let failed = |error: rusqlite::Error| {
            let message = format!("{error}; if it is damaged, remove it: what it kept is then asked for again");
            let place = self.path.as_deref().unwrap_or(Path::new("the cache in memory"));
            Error::new(ErrorKind::System, message).at(place.display()).because(error)
        };
        // The connection was just made, or there was one.
        outcome().map_err(failed)?.ok_or_else(|| Error::new(ErrorKind::System, "cache.db was not opened"))
    }
}

/// Makes the tables, or brings those of an older version to this one.
fn bring_up(connection: &mut Connection) -> rusqlite::Result<()> {
    let transaction = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    match transaction.query_row("PRAGMA user_version", [], |row| row.get::<_, u32>(0))? {
        1 => transaction.execute_batch(&format!("{FROM_1}{FROM_2}"))?,
        2 => transaction.execute_batch(FROM_2)?,
        _ => {}
    }
    transaction.execute_batch(SCHEMA)?;
    transaction.commit()
}

fn hash(parts: &[&str]) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    for part in parts {
        hasher.update(&(part.len() as u64).to_le_bytes());
        hasher.update(part.as_bytes());
    }
    hasher.finalize()
}

fn floats(bytes: &[u8]) -> Vec<f32> {
    bytes.chunks_exact(4).map(|four| f32::from_le_bytes([four[0], four[1], four[2], four[3]])).collect()
}
