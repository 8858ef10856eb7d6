//! Conversations: `conversations.db`.
//!
//! It is a file of its own, so that a conversation never waits for a build, and several processes may converse at a time.

use std::path::{Path, PathBuf};

use logothete_core::Result;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::lazy::LazyDatabase;

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS conversations (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE,
    begun      INTEGER NOT NULL,             -- seconds since 1970, in UTC
    summary    TEXT NOT NULL DEFAULT '',     -- of the first turns
    summarised INTEGER NOT NULL DEFAULT 0    -- how many turns it holds
);
CREATE TABLE IF NOT EXISTS turns (
    conversation INTEGER NOT NULL REFERENCES conversations (id) ON DELETE CASCADE,
    number       INTEGER NOT NULL,           -- counted from 1
    asked        INTEGER NOT NULL,           -- seconds since 1970
    question     TEXT NOT NULL,              -- as it was asked
    searched     TEXT NOT NULL,              -- the question that was searched for, which stands alone
    answer       TEXT NOT NULL,              -- the JSON of the answer
    PRIMARY KEY (conversation, number)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS turn_documents (  -- whose words a turn may hold
    conversation INTEGER NOT NULL REFERENCES conversations (id) ON DELETE CASCADE,
    number       INTEGER NOT NULL,
    document     TEXT NOT NULL,
    PRIMARY KEY (conversation, number, document)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS turn_documents_document ON turn_documents (document);
PRAGMA user_version = 1;
";

/// A turn, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct StoredTurn {
    /// Counted from 1; 0 for one that is yet to be kept.
    pub number: u64,
    /// In seconds since 1970.
    pub asked: i64,
    pub question: String,
    pub searched: String,
    /// JSON.
    pub answer: String,
}

/// What a conversation knows of its older turns.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct StoredSummary {
    pub text: String,
    /// The number of turns that it holds.
    pub turns: u64,
}

/// A conversation of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct StoredConversation {
    pub name: String,
    /// In seconds since 1970.
    pub begun: i64,
    /// When the last question was asked.
    pub last: i64,
    pub turns: u64,
    pub first_question: String,
}

/// Conversations, shared by all who converse.
pub(crate) trait ConversationStore: Send + Sync {
    /// Returns all conversations, the latest first.
    fn list(&self) -> Result<Vec<StoredConversation>>;
    /// Returns the turns of a conversation from a number on, and the summary of those before; none for one that is not there.
    fn turns(&self, name: &str, from: u64) -> Result<(StoredSummary, Vec<StoredTurn>)>;
    /// Adds a turn to a conversation, which is begun if it is not there, with the documents whose words it may hold. Returns its number.
    fn add(&self, name: &str, turn: &StoredTurn, documents: &[&str]) -> Result<u64>;
    /// Sets the summary, unless another one that holds as many turns is there.
    fn summarise(&self, name: &str, summary: &StoredSummary) -> Result<()>;
    /// Removes a conversation. Returns `false` if there is none.
    fn delete(&self, name: &str) -> Result<bool>;
    /// Gives a conversation another name. Returns `false` if there is none, or the name is taken.
    fn rename(&self, from: &str, to: &str) -> Result<bool>;
    /// Notes that a document has another name.
    fn rename_document(&self, from: &str, to: &str) -> Result<()>;
    /// Replaces the answers that may hold words of a document by another one, and removes the summaries of their conversations. Nothing
    /// of them is left in the file.
    fn forget(&self, document: &str, instead: &str) -> Result<()>;
}

/// Conversations in SQLite. The file is created with the first turn.
pub(crate) struct SqliteConversations(LazyDatabase);

impl SqliteConversations {
    pub(crate) fn new(corpus: &Path) -> Self {
        Self::at(Some(corpus.join("conversations.db")))
    }

    pub(crate) fn in_memory() -> Self {
        Self::at(None)
    }

    fn at(path: Option<PathBuf>) -> Self {
        let advice = "if this file is damaged, move it away: the conversations in it are lost, and the corpus is not";
        Self(LazyDatabase::new(path, |connection| connection.execute_batch(SCHEMA), advice))
    }
}

/// Returns the id of a conversation.
fn id(connection: &Connection, name: &str) -> rusqlite::Result<Option<i64>> {
    connection.query_row("SELECT id FROM conversations WHERE name = ?", [name], |row| row.get(0)).optional()
}

impl ConversationStore for SqliteConversations {
    fn list(&self) -> Result<Vec<StoredConversation>> {
        if self.0.is_missing() {
            return Ok(Vec::new());
        }
        let read = |row: &Row<'_>| {
            Ok(StoredConversation {
                name: row.get(0)?,
                begun: row.get(1)?,
                last: row.get(2)?,
                turns: row.get(3)?,
                first_question: row.get(4)?,
            })
        };
        self.0.with(|connection| {
            let sql = "SELECT name, begun, coalesce(max(asked), begun) AS last, count(number),
                              coalesce((SELECT question FROM turns WHERE conversation = id ORDER BY number LIMIT 1), '')
                       FROM conversations LEFT JOIN turns ON conversation = id GROUP BY id ORDER BY last DESC, id DESC";
            let mut statement = connection.prepare(sql)?;
            statement.query_map([], read)?.collect()
        })
    }

    fn turns(&self, name: &str, from: u64) -> Result<(StoredSummary, Vec<StoredTurn>)> {
        if self.0.is_missing() {
            return Ok(Default::default());
        }
        let read = |row: &Row<'_>| {
            Ok(StoredTurn {
                number: row.get(0)?,
                asked: row.get(1)?,
                question: row.get(2)?,
                searched: row.get(3)?,
                answer: row.get(4)?,
            })
        };
        self.0.with(|connection| {
            let sql = "SELECT id, summary, summarised FROM conversations WHERE name = ?";
            let found = connection.query_row(sql, [name], |row| {
                Ok((row.get::<_, i64>(0)?, StoredSummary { text: row.get(1)?, turns: row.get(2)? }))
            });
            let Some((id, summary)) = found.optional()? else { return Ok(Default::default()) };
            let sql = "SELECT number, asked, question, searched, answer FROM turns
                       WHERE conversation = ? AND number >= ? ORDER BY number";
            let turns =
                connection.prepare(sql)?.query_map(params![id, from], read)?.collect::<rusqlite::Result<_>>()?;
            Ok((summary, turns))
        })
    }

    fn add(&self, name: &str, turn: &StoredTurn, documents: &[&str]) -> Result<u64> {
        self.0.change(|connection| {
            let sql = "INSERT INTO conversations (name, begun) VALUES (?, ?) ON CONFLICT (name) DO NOTHING";
            connection.execute(sql, params![name, turn.asked])?;
            let id = id(connection, name)?.ok_or(rusqlite::Error::QueryReturnedNoRows)?;
            let sql = "SELECT coalesce(max(number), 0) + 1 FROM turns WHERE conversation = ?";
            let number: u64 = connection.query_row(sql, [id], |row| row.get(0))?;
            let values = params![id, number, turn.asked, turn.question, turn.searched, turn.answer];
            connection.execute("INSERT INTO turns VALUES (?, ?, ?, ?, ?, ?)", values)?;
            for document in documents {
                let sql = "INSERT OR IGNORE INTO turn_documents VALUES (?, ?, ?)";
                connection.execute(sql, params![id, number, document])?;
            }
            Ok(number)
        })
    }

    fn summarise(&self, name: &str, summary: &StoredSummary) -> Result<()> {
        self.0.change(|connection| {
            let sql = "UPDATE conversations SET summary = ?2, summarised = ?3 WHERE name = ?1 AND summarised < ?3";
            connection.execute(sql, params![name, summary.text, summary.turns]).map(drop)
        })
    }

    fn delete(&self, name: &str) -> Result<bool> {
        if self.0.is_missing() {
            return Ok(false);
        }
        let deleted =
            self.0.change(|connection| connection.execute("DELETE FROM conversations WHERE name = ?", [name]))? > 0;
        if deleted {
            self.0.scrub()?;
        }
        Ok(deleted)
    }

    fn rename(&self, from: &str, to: &str) -> Result<bool> {
        if self.0.is_missing() {
            return Ok(false);
        }
        let sql = "UPDATE OR IGNORE conversations SET name = ?2 WHERE name = ?1";
        Ok(self.0.change(|connection| connection.execute(sql, [from, to]))? > 0)
    }

    fn rename_document(&self, from: &str, to: &str) -> Result<()> {
        if self.0.is_missing() {
            return Ok(());
        }
        let sql = "UPDATE OR REPLACE turn_documents SET document = ?2 WHERE document = ?1";
        self.0.change(|connection| connection.execute(sql, [from, to])).map(drop)
    }

    fn forget(&self, document: &str, instead: &str) -> Result<()> {
        if self.0.is_missing() {
            return Ok(());
        }
        self.0.change(|connection| {
            let holding = "SELECT conversation, number FROM turn_documents WHERE document = ?1";
            let sql = format!("UPDATE turns SET answer = ?2 WHERE (conversation, number) IN ({holding})");
            connection.execute(&sql, [document, instead])?;
            let holding = "SELECT conversation FROM turn_documents WHERE document = ?1";
            connection
                .execute(&format!("UPDATE conversations SET summary = '' WHERE id IN ({holding})"), [document])?;
            connection.execute("DELETE FROM turn_documents WHERE document = ?", [document]).map(drop)
        })?;
        self.0.scrub()
    }
}
