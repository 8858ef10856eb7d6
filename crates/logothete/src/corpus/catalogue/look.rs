//! What is told of a corpus to those who look into it.

use logothete_core::chunk::ChunkId;
use logothete_core::document::{Metadata, PageStart, Pages, Value};
use logothete_core::search::DocumentFacts;
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::{OptionalExtension, params};

use super::{Catalogue, Place, failed, from_json, pages, span};
use crate::corpus::info::{ChunkDetail, ChunkInfo, DocumentDetail, DocumentInfo, FieldInfo};
use crate::source::closest;

impl Catalogue {
    /// What `show` tells of each document: name, title, pages, chunks, size of the text, warnings.
    pub(crate) fn document_infos(&self) -> Result<Vec<DocumentInfo>> {
        let raw = self.rows(
            "SELECT name, title, media_type, pages, length(CAST(text AS BLOB)) AS bytes, warnings,
             (SELECT count(*) FROM chunks WHERE chunks.document = documents.id) AS chunks
             FROM main.documents ORDER BY name",
            [],
            |row| {
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
            },
        )?;
        raw.into_iter()
            .map(|(mut info, pages, warnings)| {
                let starts: Vec<PageStart> = from_json(&pages)?;
                info.pages = starts.iter().map(|start| start.page).max().unwrap_or(0);
                info.warnings = from_json(&warnings)?;
                Ok(info)
            })
            .collect()
    }

    /// The fields of the documents' metadata, by name, with the types of their values.
    pub(crate) fn fields(&self) -> Result<Vec<FieldInfo>> {
        let mut fields: Vec<FieldInfo> = Vec::new();
        for written in self.rows("SELECT metadata FROM main.documents", [], |row| row.get::<_, String>(0))? {
            for (name, value) in from_json::<Metadata>(&written)? {
                let kind = match value {
                    Value::Flag(_) => "flag",
                    Value::Number(_) => "number",
                    Value::Date(_) => "date",
                    Value::Text(_) => "text",
                };
                match fields.iter_mut().find(|field| field.name == name && field.kind == kind) {
                    Some(field) => field.documents += 1,
                    None => fields.push(FieldInfo { name, kind: kind.to_owned(), documents: 1 }),
                }
            }
        }
        fields.sort_by(|a, b| (&a.name, &a.kind).cmp(&(&b.name, &b.kind)));
        Ok(fields)
    }

    /// A document with its chunks.
    pub(crate) fn document_detail(&self, name: &str) -> Result<DocumentDetail> {
        let infos = self.document_infos()?;
        let Some(info) = infos.iter().find(|info| info.document == name).cloned() else {
            let names = infos.into_iter().map(|info| info.document);
            let near = closest(name, names).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            let message = format!("this corpus has no document of this name{near}");
            return Err(Error::new(ErrorKind::NotFound, message).at(name));
        };
        let sql = "SELECT date, metadata FROM main.documents WHERE name = ?";
        let (date, metadata): (_, String) =
            self.connection.query_row(sql, [name], |row| Ok((row.get(0)?, row.get(1)?))).map_err(failed)?;
        let sql = "SELECT chunks.id, chunks.start, chunks.\"end\", first_page, last_page, section, chunks.size, same_as
                   FROM chunks JOIN main.documents ON documents.id = chunks.document WHERE documents.name = ?
                   ORDER BY ordinal";
        let raw = self.rows(sql, [name], |row| {
            let chunk = ChunkInfo {
                chunk: ChunkId::from_stored(row.get::<_, String>(0)?),
                span: span(row)?,
                pages: pages(row, "first_page", "last_page")?,
                section: Vec::new(),
                size: row.get(6)?,
                same_as: row.get::<_, Option<String>>(7)?.map(ChunkId::from_stored),
            };
            Ok((chunk, row.get::<_, String>(5)?))
        })?;
        let chunks = raw.into_iter().map(|(chunk, section)| Ok(ChunkInfo { section: from_json(&section)?, ..chunk }));
        Ok(DocumentDetail { info, date, metadata: from_json(&metadata)?, chunks: chunks.collect::<Result<_>>()? })
    }

    /// A chunk by its id or the beginning of it, and where its vector is. The vector is left out.
    pub(crate) fn chunk_detail(&self, id: &str) -> Result<(ChunkDetail, Option<Place>)> {
        let not_found = |message: &str| Error::new(ErrorKind::NotFound, message.to_owned()).at(id);
        // Ids are hexadecimal, so that all that begin with one come before it with a letter behind.
        let sql =
            "SELECT id FROM chunks WHERE id = ?1 OR (id >= ?1 AND id < ?1 || 'g') ORDER BY id = ?1 DESC, id LIMIT 2";
        let mut found = self.rows(sql, [id], |row| row.get::<_, String>(0))?;
        // An id that was given may be the beginning of another.
        found.truncate(if found.first().is_some_and(|first| first == id) { 1 } else { 2 });
        let whole = match found.as_slice() {
            _ if id.is_empty() => return Err(not_found("a chunk's id is missing")),
            [] => return Err(not_found("this corpus has no chunk of this id; show --document NAME lists them")),
            [one] => one,
            _ => return Err(not_found("more than one chunk's id begins so; write more of it")),
        };
        let gone = || not_found("this chunk is gone");
        let chunk = ChunkId::from_stored(whole.clone());
        let passage = self.chunk(&chunk)?.ok_or_else(gone)?;
        let sql = "SELECT metadata, same_as, indexed, segment, row FROM chunks
                   JOIN main.documents ON documents.id = chunks.document WHERE chunks.id = ?";
        let place = |row: &rusqlite::Row<'_>| -> rusqlite::Result<Option<Place>> {
            let parts: (Option<i64>, Option<u32>) = (row.get(3)?, row.get(4)?);
            Ok(parts.0.zip(parts.1).map(|(segment, row)| Place { segment, row }))
        };
        let (metadata, same_as, indexed, place): (String, Option<String>, _, _) = self
            .connection
            .query_row(sql, params![whole], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, place(row)?)))
            .optional()
            .map_err(failed)?
            .ok_or_else(gone)?;
        let detail = ChunkDetail {
            chunk,
            document: passage.document,
            title: passage.title,
            date: passage.date,
            pages: passage.pages,
            section: passage.section,
            span: passage.span,
            text: passage.text,
            context: passage.context,
            indexed,
            same_as: same_as.map(ChunkId::from_stored),
            metadata: from_json(&metadata)?,
            vector: None,
        };
        Ok((detail, place))
    }

    /// Calls back with each document and what is known of it.
    pub(crate) fn each_document(&self, mut each: impl FnMut(i64, &DocumentFacts<'_>) -> Result<()>) -> Result<()> {
        let sql = "SELECT id, name, title, media_type, metadata FROM main.documents";
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let mut rows = statement.query([]).map_err(failed)?;
        while let Some(row) = rows.next().map_err(failed)? {
            let read = || -> rusqlite::Result<(i64, String, Option<String>, String, String)> {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
            };
            let (id, document, title, media_type, metadata) = read().map_err(failed)?;
            let metadata: Metadata = from_json(&metadata)?;
            let facts = DocumentFacts {
                document: &document,
                title: title.as_deref(),
                media_type: &media_type,
                metadata: &metadata,
            };
            each(id, &facts)?;
        }
        Ok(())
    }

    /// The title, the media type and the metadata of a document, by its name.
    pub(crate) fn facts_of(&self, name: &str) -> Result<Option<(Option<String>, String, Metadata)>> {
        let sql = "SELECT title, media_type, metadata FROM main.documents WHERE name = ?";
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let read = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?));
        let found = statement.query_row([name], read).optional().map_err(failed)?;
        found.map(|(title, media_type, metadata)| Ok((title, media_type, from_json(&metadata)?))).transpose()
    }

    /// Calls back with the places of a document's chunks, and of those that stand for them, with the chunk's pages and headings.
    pub(crate) fn each_place(
        &self,
        document: i64,
        mut each: impl FnMut(Place, Option<Pages>, &[String]),
    ) -> Result<()> {
        let sql = "SELECT own.segment, own.row, other.segment, other.row, own.first_page, own.last_page, own.section
                   FROM chunks AS own LEFT JOIN chunks AS other ON other.id = own.same_as WHERE own.document = ?";
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let mut rows = statement.query([document]).map_err(failed)?;
        while let Some(row) = rows.next().map_err(failed)? {
            let place = |at: usize| -> rusqlite::Result<Option<Place>> {
                let parts: (Option<i64>, Option<u32>) = (row.get(at)?, row.get(at + 1)?);
                Ok(parts.0.zip(parts.1).map(|(segment, row)| Place { segment, row }))
            };
            let read = || -> rusqlite::Result<_> {
                let both = [place(0)?, place(2)?];
                Ok((both, pages(row, "first_page", "last_page")?, row.get::<_, String>(6)?))
            };
            let (places, pages, section) = read().map_err(failed)?;
            let section: Vec<String> = from_json(&section)?;
            places.into_iter().flatten().for_each(|place| each(place, pages, &section));
        }
        Ok(())
    }
}
