//! Segments, as the catalogue names them, and which of their rows are live.

use std::collections::BTreeMap;

use logothete_core::Result;
use logothete_core::search::RowSet;
use rusqlite::params;

use super::Catalogue;

/// The files of a segment.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct SegmentFiles {
    pub rows: u32,
    pub vectors: String,
    pub keywords: String,
    /// The graph or the inverted lists, where there are any.
    pub near: Option<String>,
}

impl SegmentFiles {
    /// Their names.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        [self.vectors.as_str(), self.keywords.as_str()].into_iter().chain(self.near.as_deref())
    }
}

/// A segment as the catalogue names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SegmentEntry {
    pub id: i64,
    pub files: SegmentFiles,
    /// The rows that belong to a chunk.
    pub live: RowSet,
}

impl Catalogue {
    pub(crate) fn segments(&self) -> Result<Vec<SegmentEntry>> {
        self.rows("SELECT id, rows, vectors, keywords, near, live FROM segments ORDER BY id", [], |row| {
            let files =
                SegmentFiles { rows: row.get(1)?, vectors: row.get(2)?, keywords: row.get(3)?, near: row.get(4)? };
            let live: Option<Vec<u8>> = row.get(5)?;
            let live = live.map_or_else(|| RowSet::all(files.rows), |bytes| RowSet::from_bytes(files.rows, &bytes));
            Ok(SegmentEntry { id: row.get(0)?, files, live })
        })
    }

    pub(crate) fn add_segment(&self, files: &SegmentFiles) -> Result<i64> {
        self.run(
            "INSERT INTO segments (rows, vectors, keywords, near) VALUES (?, ?, ?, ?)",
            params![files.rows, files.vectors, files.keywords, files.near],
        )?;
        Ok(self.connection.last_insert_rowid())
    }

    /// Adds a segment with an id of the caller's.
    pub(crate) fn add_segment_as(&self, id: i64, files: &SegmentFiles) -> Result<()> {
        self.run(
            "INSERT INTO segments (id, rows, vectors, keywords, near) VALUES (?, ?, ?, ?, ?)",
            params![id, files.rows, files.vectors, files.keywords, files.near],
        )?;
        Ok(())
    }

    /// Names other files for the same rows.
    pub(crate) fn set_files(&self, id: i64, files: &SegmentFiles) -> Result<()> {
        self.run(
            "UPDATE segments SET vectors = ?, keywords = ?, near = ? WHERE id = ?",
            params![files.vectors, files.keywords, files.near, id],
        )?;
        Ok(())
    }

    /// Removes a segment, whose chunks have moved.
    pub(crate) fn remove_segment(&self, id: i64) -> Result<()> {
        self.run("DELETE FROM gone WHERE segment = ?", [id])?;
        self.run("DELETE FROM segments WHERE id = ?", [id])?;
        Ok(())
    }

    /// Moves the chunks of a segment's live rows into another, where they stand in the same order from a row on.
    pub(crate) fn move_rows(&self, from: &SegmentEntry, to: i64, first: u32) -> Result<()> {
        for (place, row) in from.live.iter().enumerate() {
            self.run(
                "UPDATE chunks SET segment = ?, row = ? WHERE segment = ? AND row = ?",
                params![to, first + place as u32, from.id, row],
            )?;
        }
        Ok(())
    }

    /// Notes that rows belong to no chunk.
    pub(crate) fn note_dead(&self, segment: i64, rows: impl Iterator<Item = u32>) -> Result<()> {
        for row in rows {
            self.run("INSERT OR IGNORE INTO gone VALUES (?, ?)", params![segment, row])?;
        }
        Ok(())
    }

    /// Takes rows whose chunks have gone out of the live ones.
    pub(super) fn note_gone(&self) -> Result<()> {
        let gone = self.rows("SELECT segment, row FROM gone", [], |row| Ok((row.get::<_, i64>(0)?, row.get(1)?)))?;
        if gone.is_empty() {
            return Ok(());
        }
        let mut by_segment: BTreeMap<i64, Vec<u32>> = BTreeMap::new();
        gone.into_iter().for_each(|(segment, row)| by_segment.entry(segment).or_default().push(row));
        for mut entry in self.segments()? {
            if let Some(rows) = by_segment.get(&entry.id) {
                rows.iter().for_each(|&row| entry.live.remove(row));
                self.run("UPDATE segments SET live = ? WHERE id = ?", params![entry.live.to_bytes(), entry.id])?;
            }
        }
        self.run("DELETE FROM gone", [])?;
        Ok(())
    }
}
