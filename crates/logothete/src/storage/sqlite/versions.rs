//! The versions of the catalogue's format, and how an older one is migrated to the newest.

use logothete_core::segment::RowSet;
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::{Connection, TransactionBehavior};

use super::failed;

/// The version of the format on disk.
pub(crate) const FORMAT: u32 = 7;
/// The oldest version whose exports can be imported: the columns that came since have default values.
pub(crate) const OLDEST_EXPORT: u32 = 4;

/// The statements that create an empty catalogue.
const SCHEMA: &str = concat!(
    include_str!("schema.sql"),
    include_str!("documents.sql"),
    include_str!("chunks.sql"),
    include_str!("segments.sql"),
    include_str!("gone.sql")
);
/// From 1 to 2.
const FROM_1: &str = "ALTER TABLE documents ADD COLUMN layout TEXT NOT NULL DEFAULT '{}'";
/// From 2 to 3. The chunks are searched for duplicates when they are cut again.
const FROM_2: &str = concat!(
    "ALTER TABLE chunks RENAME TO chunks_2; DROP INDEX chunks_of_document;",
    include_str!("chunks.sql"),
    "INSERT INTO chunks SELECT id, document, ordinal, start, \"end\", start, \"end\", first_page, last_page, section, size,
     text, context, sentences, NULL, NULL, segment, row, NULL, NULL, NULL, NULL, 0, 0 FROM chunks_2; DROP TABLE chunks_2;"
);
/// From 3 to 4: live rows, and the approximate index of a segment. Postings are written again when the corpus is next opened.
const FROM_3: &str = concat!(
    "ALTER TABLE documents ADD COLUMN inode INTEGER; ALTER TABLE segments RENAME TO segments_3;",
    include_str!("segments_4.sql"),
    include_str!("gone.sql"),
    "INSERT INTO segments SELECT id, rows, vectors, keywords, NULL, NULL FROM segments_3; DROP TABLE segments_3;"
);
/// From 4 to 5: the files of a segment are rows of a table of their own.
const FROM_4: &str = concat!(
    "ALTER TABLE segments RENAME TO segments_4;",
    include_str!("segments.sql"),
    "INSERT INTO segments SELECT id, rows, live FROM segments_4;
     INSERT INTO segment_files SELECT id, 'vectors', vectors FROM segments_4;
     INSERT INTO segment_files SELECT id, 'keywords', keywords FROM segments_4;
     INSERT INTO segment_files SELECT id, CASE WHEN near LIKE '%.graph' THEN 'graph' ELSE 'lists' END, near FROM segments_4
         WHERE near IS NOT NULL;
     DROP TABLE segments_4;"
);
/// From 5 to 6: the long columns of a document come last, and there is a column for the metadata that were given.
const FROM_5: &str = concat!(
    "DROP INDEX IF EXISTS documents_hash; ALTER TABLE documents RENAME TO documents_5;",
    include_str!("documents.sql"),
    "INSERT INTO documents (id, source, path, name, title, media_type, date, size, modified, seen, inode, hash, parser, chunker,
     metadata, warnings, pages, layout, text) SELECT id, source, path, name, title, media_type, date, size, modified, seen, inode,
     hash, parser, chunker, metadata, warnings, pages, layout, text FROM documents_5; DROP TABLE documents_5;"
);

/// From 6 to 7: how much of a chunk is a list of contents, and how much are short lines; known when the document is read again.
const FROM_6: &str = "ALTER TABLE chunks ADD COLUMN contents INTEGER NOT NULL DEFAULT 0;
     ALTER TABLE chunks ADD COLUMN entries INTEGER NOT NULL DEFAULT 0;";

/// Migrates a catalogue to the newest version, all or not at all.
pub(super) fn migrate(connection: &mut Connection) -> Result<()> {
    let version = |connection: &Connection| -> Result<u32> {
        connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)
    };
    match version(connection)? {
        FORMAT => return Ok(()),
        0..FORMAT => {}
        newer => {
            return Err(Error::new(
                ErrorKind::Corpus,
                format!(
                    "this corpus has format {newer}, and this version reads formats up to {FORMAT}; use a newer one"
                ),
            ));
        }
    }
    // Tables are renamed while others refer to them.
    connection.execute_batch("PRAGMA foreign_keys=OFF; PRAGMA legacy_alter_table=ON").map_err(failed)?;
    // Two processes may migrate at once: the one that waits finds the work done.
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)?;
    let steps: &[&str] = match version(&transaction)? {
        0 => &[SCHEMA],
        1 => &[FROM_1, FROM_2, FROM_3, FROM_4, FROM_5],
        2 => &[FROM_2, FROM_3, FROM_4, FROM_5],
        3 => &[FROM_3, FROM_4, FROM_5, FROM_6],
        4 => &[FROM_4, FROM_5, FROM_6],
        5 => &[FROM_5, FROM_6],
        6 => &[FROM_6],
        _ => &[],
    };
    for step in steps {
        transaction.execute_batch(step).map_err(failed)?;
    }
    if steps.contains(&FROM_3) {
        note_live(&transaction).map_err(failed)?;
    }
    transaction.pragma_update(None, "user_version", FORMAT).map_err(failed)?;
    transaction.commit().map_err(failed)?;
    connection.execute_batch("PRAGMA foreign_keys=ON; PRAGMA legacy_alter_table=OFF").map_err(failed)
}

/// Notes which rows are live, from the chunks.
fn note_live(connection: &Connection) -> rusqlite::Result<()> {
    let mut segments = connection.prepare("SELECT id, rows FROM segments")?;
    let mut rows_of = connection.prepare("SELECT row FROM chunks WHERE segment = ?")?;
    let mut note = connection.prepare("UPDATE segments SET live = ? WHERE id = ?")?;
    let all: Vec<(i64, u32)> =
        segments.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    for (id, rows) in all {
        let mut live = RowSet::new(rows);
        for row in rows_of.query_map([id], |row| row.get(0))? {
            live.insert(row?);
        }
        if live.len() < rows {
            note.execute(rusqlite::params![live.to_bytes(), id])?;
        }
    }
    Ok(())
}
