//! The cache of what generators wrote and encoders computed, by what they were asked: `cache.db`.
//!
//! It is a file of its own, and every reply is durable before it is used: a build that is killed, or a corpus that is cut in
//! another way and back again, pays for nothing twice. Entries are removed only with the document that they belong to.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use logothete_core::{Result, TokenUsage};
use rusqlite::{Connection, params};

use super::lazy::LazyDatabase;

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
CREATE TABLE IF NOT EXISTS spent (
    day    TEXT PRIMARY KEY,    -- such as 2026-03-31, in UTC
    tokens INTEGER NOT NULL,
    money  REAL NOT NULL
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS generated_owner ON generated (owner);
CREATE INDEX IF NOT EXISTS vectors_owner ON vectors (owner);
PRAGMA user_version = 4;
";
/// Brings a cache of version 1 or 2 to this one. What it holds has no owner.
const FROM_2: &str = "ALTER TABLE generated ADD COLUMN owner TEXT NOT NULL DEFAULT '';
                      ALTER TABLE vectors ADD COLUMN owner TEXT NOT NULL DEFAULT '';";
const FROM_1: &str = "CREATE TABLE IF NOT EXISTS vectors (key BLOB PRIMARY KEY, vector BLOB NOT NULL);";

/// The key of a vector.
pub(crate) type VectorKey = [u8; 32];

/// A vector to be cached.
pub(crate) struct CachedVector<'a> {
    pub key: VectorKey,
    pub vector: &'a [f32],
    /// The name of the document that it was computed for.
    pub owner: &'a str,
}

/// A reply to be cached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CachedReply {
    pub text: String,
    pub usage: TokenUsage,
}

/// A reply to be cached, with its key.
pub(crate) struct NewReply<'a> {
    pub key: &'a str,
    pub text: &'a str,
    pub usage: TokenUsage,
    /// The name of the document that it was written for.
    pub owner: &'a str,
}

/// A cache, shared by all who build.
pub(crate) trait CacheStore: Send + Sync {
    /// Returns the vectors of some keys, where they are cached.
    fn vectors(&self, keys: &[VectorKey]) -> Result<HashMap<VectorKey, Vec<f32>>>;
    /// Caches vectors, all or none.
    fn put_vectors(&self, vectors: &[CachedVector<'_>]) -> Result<()>;
    /// Returns the cached replies of some keys.
    fn replies(&self, keys: &[&str]) -> Result<HashMap<String, CachedReply>>;
    /// Caches replies, all or none.
    fn put_replies(&self, replies: &[NewReply<'_>]) -> Result<()>;
    /// Removes what belongs to a document, the vectors of some keys, and what was cached before owners were noted. Nothing of it
    /// is left in the file.
    fn forget(&self, owner: &str, keys: &[VectorKey]) -> Result<()>;
    /// Gives what belongs to a document to another, which has taken its place.
    fn rename(&self, from: &str, to: &str) -> Result<()>;
    /// Adds to what generators took on a day, unless it exceeds the highest number of tokens or amount of money then. Returns
    /// `false` if it does. What is given back is added as a negative number.
    fn spend_on(&self, day: &str, spent: DaySpending, max: DaySpending) -> Result<bool>;
    /// Returns the bytes of the cache.
    fn bytes(&self) -> u64;
}

/// What generators take in a day, or may take.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct DaySpending {
    pub tokens: i64,
    pub money: f64,
}

/// Returns the key of a passage's vector: the hash of the encoder's fingerprint and the text.
pub(crate) fn vector_key(encoder: &str, text: &str) -> VectorKey {
    hash(&[encoder, text]).into()
}

/// Returns the key of a reply: the hash of the parts of the request, each after its length.
pub(crate) fn reply_key(parts: &[&str]) -> String {
    hash(parts).to_hex().to_string()
}

/// A cache in SQLite. The file is created when something is first cached.
pub(crate) struct SqliteCache(LazyDatabase);

impl SqliteCache {
    pub(crate) fn new(corpus: &Path) -> Self {
        Self::at(Some(corpus.join("cache.db")))
    }

    pub(crate) fn in_memory() -> Self {
        Self::at(None)
    }

    fn at(path: Option<PathBuf>) -> Self {
        let advice = "if this file is damaged, remove it: what it held is then computed again";
        Self(LazyDatabase::new(path, migrate, advice))
    }
}

impl CacheStore for SqliteCache {
    fn vectors(&self, keys: &[VectorKey]) -> Result<HashMap<VectorKey, Vec<f32>>> {
        if self.0.is_missing() {
            return Ok(HashMap::new());
        }
        self.0.with(|connection| {
            let mut statement = connection.prepare_cached("SELECT vector FROM vectors WHERE key = ?")?;
            let mut found = HashMap::new();
            for key in keys {
                let mut rows = statement.query([key])?;
                if let Some(row) = rows.next()? {
                    found.insert(*key, floats(&row.get::<_, Vec<u8>>(0)?));
                }
            }
            Ok(found)
        })
    }

    fn put_vectors(&self, vectors: &[CachedVector<'_>]) -> Result<()> {
        self.0.change(|connection| {
            let mut statement = connection.prepare_cached("INSERT OR REPLACE INTO vectors VALUES (?, ?, ?)")?;
            for CachedVector { key, vector, owner } in vectors {
                let bytes: Vec<u8> = vector.iter().flat_map(|number| number.to_le_bytes()).collect();
                statement.execute(params![key, bytes, owner])?;
            }
            Ok(())
        })
    }

    fn replies(&self, keys: &[&str]) -> Result<HashMap<String, CachedReply>> {
        if self.0.is_missing() {
            return Ok(HashMap::new());
        }
        self.0.with(|connection| {
            let sql = "SELECT text, sent, received FROM generated WHERE key = ?";
            let mut statement = connection.prepare_cached(sql)?;
            let mut found = HashMap::new();
            for key in keys {
                let mut rows = statement.query([key])?;
                if let Some(row) = rows.next()? {
                    let usage = TokenUsage { sent: row.get(1)?, received: row.get(2)? };
                    found.insert((*key).to_owned(), CachedReply { text: row.get(0)?, usage });
                }
            }
            Ok(found)
        })
    }

    fn put_replies(&self, replies: &[NewReply<'_>]) -> Result<()> {
        self.0.change(|connection| {
            let sql = "INSERT OR REPLACE INTO generated VALUES (?, ?, ?, ?, ?)";
            let mut statement = connection.prepare_cached(sql)?;
            for NewReply { key, text, usage, owner } in replies {
                statement.execute(params![key, text, usage.sent, usage.received, owner])?;
            }
            Ok(())
        })
    }

    fn forget(&self, owner: &str, keys: &[VectorKey]) -> Result<()> {
        if self.0.is_missing() {
            return Ok(());
        }
        self.0.with(|connection| {
            for table in ["generated", "vectors"] {
                connection.execute(&format!("DELETE FROM {table} WHERE owner = ? OR owner = ''"), [owner])?;
            }
            for key in keys {
                connection.execute("DELETE FROM vectors WHERE key = ?", [key])?;
            }
            Ok(())
        })?;
        self.0.scrub()
    }

    fn rename(&self, from: &str, to: &str) -> Result<()> {
        if self.0.is_missing() {
            return Ok(());
        }
        self.0.change(|connection| {
            for table in ["generated", "vectors"] {
                connection.execute(&format!("UPDATE {table} SET owner = ? WHERE owner = ?"), [to, from])?;
            }
            Ok(())
        })
    }

    fn spend_on(&self, day: &str, spent: DaySpending, max: DaySpending) -> Result<bool> {
        self.0.change(|connection| {
            connection.execute("INSERT OR IGNORE INTO spent VALUES (?, 0, 0)", [day])?;
            let sql = "UPDATE spent SET tokens = max(tokens + ?2, 0), money = max(money + ?3, 0) WHERE day = ?1
                       AND (?2 <= 0 OR tokens + ?2 <= ?4) AND (?3 <= 0 OR money + ?3 <= ?5)";
            let count = connection.execute(sql, params![day, spent.tokens, spent.money, max.tokens, max.money])?;
            Ok(count > 0)
        })
    }

    fn bytes(&self) -> u64 {
        self.0.bytes()
    }
}

/// Creates the tables, or migrates those of an older version.
fn migrate(connection: &mut Connection) -> rusqlite::Result<()> {
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
