//! Verifies the catalogue: its pages, its references, and what the segments and the chunks say of each other.

use logothete_core::{Error, ErrorKind, Result};

use super::{Statements, segments};

/// What must return no row, and the message if it does.
const CONTRADICTIONS: [(&str, &str); 4] = [
    (
        "SELECT 1 FROM chunks JOIN documents ON documents.id = document WHERE \"end\" > octet_length(documents.text) LIMIT 1",
        "a chunk lies outside the text of its document",
    ),
    (
        "SELECT 1 FROM chunks AS own LEFT JOIN chunks AS other ON other.id = own.same_as
      WHERE own.same_as IS NOT NULL AND other.id IS NULL LIMIT 1",
        "a chunk names a duplicate that does not exist",
    ),
    ("SELECT 1 FROM chunks WHERE segment IS NULL AND same_as IS NULL LIMIT 1", "a chunk is in no segment"),
    (
        "SELECT 1 FROM chunks JOIN segments ON segments.id = segment WHERE row >= rows LIMIT 1",
        "a chunk has a row that its segment does not have",
    ),
];

pub(super) fn catalogue(database: &impl Statements) -> Result<()> {
    let damaged = |what: &str| {
        let message = format!("the catalogue is damaged: {what}; restore it, or build a new corpus");
        Err(Error::new(ErrorKind::Corpus, message).at("corpus.db"))
    };
    let problems = database.rows("PRAGMA integrity_check(1)", [], |row| row.get::<_, String>(0))?;
    if let Some(problem) = problems.iter().find(|problem| *problem != "ok") {
        return damaged(problem.lines().last().unwrap_or_default());
    }
    if !database.rows("PRAGMA foreign_key_check", [], |row| row.get::<_, String>(0))?.is_empty() {
        return damaged("a row refers to another that does not exist");
    }
    for (sql, what) in CONTRADICTIONS {
        if !database.rows(sql, [], |row| row.get::<_, i64>(0))?.is_empty() {
            return damaged(what);
        }
    }
    let used = "SELECT row FROM chunks WHERE segment = ?";
    for segment in segments::all(database)? {
        let rows = database.rows(used, [segment.id], |row| row.get::<_, u32>(0))?;
        if rows.len() != segment.live.len() as usize || !rows.iter().all(|row| segment.live.contains(*row)) {
            return damaged("the live rows of a segment are not those of its chunks");
        }
    }
    Ok(())
}
