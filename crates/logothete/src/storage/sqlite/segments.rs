//! Segments and their files, and which of their rows are live.

use std::collections::BTreeMap;

use logothete_core::Result;
use logothete_core::segment::RowSet;
use rusqlite::params;

use super::{Statements, failed};
use crate::storage::catalogue::{FileKind, SegmentEntry, SegmentFiles};

pub(super) fn all(database: &impl Statements) -> Result<Vec<SegmentEntry>> {
    let mut segments = database.rows("SELECT id, rows, live FROM segments ORDER BY id", [], |row| {
        let files = SegmentFiles { rows: row.get(1)?, ..SegmentFiles::default() };
        let live: Option<Vec<u8>> = row.get(2)?;
        let live = live.map_or_else(|| RowSet::all(files.rows), |bytes| RowSet::from_bytes(files.rows, &bytes));
        Ok(SegmentEntry { id: row.get(0)?, files, live })
    })?;
    let files = database.rows("SELECT segment, kind, name FROM segment_files", [], |row| {
        Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?))
    })?;
    for (segment, kind, name) in files {
        // A file of an unknown kind was written by a newer version. The segment can be searched without it.
        let kind = FileKind::ALL.into_iter().find(|known| known.name() == kind);
        let at = segments.binary_search_by_key(&segment, |entry| entry.id);
        if let (Some(kind), Ok(at)) = (kind, at) {
            segments[at].files.names.insert(kind, name);
        }
    }
    Ok(segments)
}

/// Adds a segment, with an id of the caller's if there is one; returns its id.
pub(super) fn add(database: &impl Statements, id: Option<i64>, files: &SegmentFiles) -> Result<i64> {
    database.run("INSERT INTO segments (id, rows) VALUES (?, ?)", params![id, files.rows])?;
    let id = database.connection().last_insert_rowid();
    name_files(database, id, files)?;
    Ok(id)
}

pub(super) fn set_files(database: &impl Statements, id: i64, files: &SegmentFiles) -> Result<()> {
    database.run("DELETE FROM segment_files WHERE segment = ?", [id])?;
    name_files(database, id, files)
}

fn name_files(database: &impl Statements, id: i64, files: &SegmentFiles) -> Result<()> {
    for (kind, name) in &files.names {
        database.run("INSERT INTO segment_files VALUES (?, ?, ?)", params![id, kind.name(), name])?;
    }
    Ok(())
}

pub(super) fn move_rows(database: &impl Statements, from: &SegmentEntry, to: i64, first: u32) -> Result<()> {
    let sql = "UPDATE chunks SET segment = ?, row = ? WHERE segment = ? AND row = ?";
    let mut statement = database.connection().prepare_cached(sql).map_err(failed)?;
    for (position, row) in from.live.iter().enumerate() {
        statement.execute(params![to, first + position as u32, from.id, row]).map_err(failed)?;
    }
    Ok(())
}

/// Removes the rows of deleted chunks from the live ones.
pub(super) fn note_gone(database: &impl Statements) -> Result<()> {
    let gone = database.rows("SELECT segment, row FROM gone", [], |row| Ok((row.get::<_, i64>(0)?, row.get(1)?)))?;
    if gone.is_empty() {
        return Ok(());
    }
    let mut by_segment: BTreeMap<i64, Vec<u32>> = BTreeMap::new();
    gone.into_iter().for_each(|(segment, row)| by_segment.entry(segment).or_default().push(row));
    for mut entry in all(database)? {
        if let Some(rows) = by_segment.get(&entry.id) {
            rows.iter().for_each(|&row| entry.live.remove(row));
            database.run("UPDATE segments SET live = ? WHERE id = ?", params![entry.live.to_bytes(), entry.id])?;
        }
    }
    database.run("DELETE FROM gone", [])?;
    Ok(())
}
