//! Sources, as the catalogue names them.

use logothete_core::Result;
use rusqlite::params;

use super::Catalogue;

/// A source as the catalogue names it.
#[derive(Clone, Debug)]
pub(crate) struct SourceEntry {
    pub id: i64,
    pub name: String,
    pub location: String,
    pub whole: bool,
}

impl Catalogue {
    pub(crate) fn sources(&self) -> Result<Vec<SourceEntry>> {
        self.rows("SELECT id, name, location, whole FROM sources ORDER BY id", [], |row| {
            Ok(SourceEntry { id: row.get(0)?, name: row.get(1)?, location: row.get(2)?, whole: row.get(3)? })
        })
    }

    pub(crate) fn add_source(&self, name: &str, location: &str, whole: bool) -> Result<i64> {
        self.run("INSERT INTO sources (name, location, whole) VALUES (?, ?, ?)", params![name, location, whole])?;
        Ok(self.connection.last_insert_rowid())
    }

    pub(crate) fn make_source_whole(&self, id: i64) -> Result<()> {
        self.run("UPDATE sources SET whole = 1 WHERE id = ?", [id])?;
        Ok(())
    }
}
