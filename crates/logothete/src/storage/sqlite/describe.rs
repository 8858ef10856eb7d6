//! Reads descriptions of documents and chunks.

use logothete_core::chunk::ChunkId;
use logothete_core::document::{Location, PageStart, Span};
use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::params;

use super::{Statements, chunk_id, chunks, from_json, metadata_from_json, pages, row_id, span};
use crate::storage::catalogue::RowId;
use crate::storage::describe::{ChunkDetail, ChunkInfo, DocumentDetail, DocumentInfo, Section};

/// Returns all documents, or the one with a name.
pub(super) fn document_infos(database: &impl Statements, name: Option<&str>) -> Result<Vec<DocumentInfo>> {
    let which = if name.is_some() { "WHERE name = ?1" } else { "WHERE ?1 IS NULL" };
    // The length of a text is read without the text.
    let sql = format!(
        "SELECT name, title, media_type, pages, octet_length(text) AS bytes, warnings,
         (SELECT count(*) FROM chunks WHERE chunks.document = documents.id) AS chunks
         FROM main.documents {which} ORDER BY name"
    );
    let raw = database.rows(&sql, [name], |row| {
        let info = DocumentInfo {
            document: row.get(0)?,
            title: row.get(1)?,
            media_type: row.get(2)?,
            pages: 0,
            text_bytes: row.get(4)?,
            chunks: row.get(6)?,
            warnings: Vec::new(),
        };
        Ok((info, row.get::<_, String>(3)?, row.get::<_, String>(5)?))
    })?;
    let whole = raw.into_iter().map(|(mut info, pages, warnings)| {
        let starts: Vec<PageStart> = from_json(&pages)?;
        info.pages = starts.iter().map(|start| start.page).max().unwrap_or(0);
        info.warnings = from_json(&warnings)?;
        Ok(info)
    });
    whole.collect()
}

pub(super) fn text(database: &impl Statements, name: &str, span: Span) -> Result<Option<String>> {
    let sql = "SELECT octet_length(text), substr(CAST(text AS BLOB), ?2 + 1, ?3) FROM main.documents WHERE name = ?1";
    let (start, length) = (span.start as i64, span.len() as i64);
    let found = database.rows(sql, params![name, start, length], |row| {
        Ok((row.get::<_, i64>(0)?, row.get::<_, Option<Vec<u8>>>(1)?.unwrap_or_default()))
    })?;
    let inside = found.into_iter().find(|(size, _)| start + length <= *size);
    Ok(inside.and_then(|(_, bytes)| String::from_utf8(bytes).ok()))
}

pub(super) fn section(database: &impl Statements, chunk: &ChunkId) -> Result<Option<Section>> {
    let Some(passage) = chunks::passages(database, std::slice::from_ref(chunk))?.pop() else { return Ok(None) };
    let sql = "SELECT parent_start AS start, parent_end AS \"end\" FROM chunks WHERE id = ?";
    let parent = database.one(sql, [chunk.as_str()], span)?;
    let mut location = Location::new(&passage.location.document, parent);
    location.title = passage.location.title;
    location.date = passage.location.date;
    let text = text(database, &location.document, parent)?.unwrap_or_default();
    super::documents::pinpoint(database, &mut [&mut location])?;
    Ok(Some(Section { location, text }))
}

pub(super) fn document_detail(database: &impl Statements, name: &str) -> Result<DocumentDetail> {
    let Some(info) = document_infos(database, Some(name))?.into_iter().next() else {
        let names = database.rows("SELECT name FROM main.documents", [], |row| row.get(0))?;
        let hint = closest(name, names.into_iter()).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        let message = format!("the corpus has no document of this name{hint}");
        return Err(Error::new(ErrorKind::NotFound, message).at(name));
    };
    let sql = "SELECT date, metadata FROM main.documents WHERE name = ?";
    let (date, metadata): (_, String) = database.one(sql, [name], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let sql = "SELECT chunks.id, chunks.start, chunks.\"end\", first_page, last_page, section, chunks.size, same_as
               FROM chunks JOIN documents ON documents.id = chunks.document WHERE documents.name = ? ORDER BY ordinal";
    let raw = database.rows(sql, [name], |row| {
        let chunk = ChunkInfo {
            chunk: chunk_id(row, 0)?,
            span: span(row)?,
            pages: pages(row, "first_page", "last_page")?,
            section: Vec::new(),
            size: row.get(6)?,
            duplicate_of: row.get::<_, Option<String>>(7)?.map(ChunkId::from_stored),
        };
        Ok((chunk, row.get::<_, String>(5)?))
    })?;
    let chunks = raw.into_iter().map(|(chunk, section)| Ok(ChunkInfo { section: from_json(&section)?, ..chunk }));
    Ok(DocumentDetail { info, date, metadata: metadata_from_json(&metadata)?, chunks: chunks.collect::<Result<_>>()? })
}

pub(super) fn chunk_detail(database: &impl Statements, id: &str) -> Result<(ChunkDetail, Option<RowId>)> {
    let not_found = |message: &str| Error::new(ErrorKind::NotFound, message.to_owned()).at(id);
    // No character sorts after the last one of Unicode.
    let sql = "SELECT id FROM chunks WHERE id = ?1 OR (id >= ?1 AND id < ?1 || char(1114111))
               ORDER BY id = ?1 DESC, id LIMIT 2";
    let mut found = database.rows(sql, [id], |row| row.get::<_, String>(0))?;
    // A whole id may be the beginning of another.
    found.truncate(if found.first().is_some_and(|first| first == id) { 1 } else { 2 });
    let whole = match found.as_slice() {
        _ if id.is_empty() => return Err(not_found("the id of the chunk is empty")),
        [] => return Err(not_found("the corpus has no chunk with this id")),
        [one] => ChunkId::from_stored(one.clone()),
        _ => return Err(not_found("several ids begin with this; write more characters")),
    };
    let passage = chunks::passages(database, std::slice::from_ref(&whole))?.pop();
    let passage = passage.ok_or_else(|| not_found("the chunk is gone"))?;
    let sql = "SELECT metadata, same_as, indexed, segment, row FROM chunks
               JOIN documents ON documents.id = chunks.document WHERE chunks.id = ?";
    let (metadata, duplicate_of, indexed, row): (String, Option<String>, _, _) =
        database
            .one(sql, params![whole.as_str()], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row_id(row, 3)?)))?;
    let detail = ChunkDetail {
        chunk: whole,
        location: passage.location,
        text: passage.text,
        context: passage.context,
        indexed,
        duplicate_of: duplicate_of.map(ChunkId::from_stored),
        metadata: metadata_from_json(&metadata)?,
        vector: None,
    };
    Ok((detail, row))
}
