//! Facts of documents and chunks that filters need.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::document::{Metadata, Value};
use logothete_core::search::DocumentFacts;

use super::{Statements, failed, from_json, metadata_from_json, pages, row_id, to_json};
use crate::storage::catalogue::{DocumentRecord, RowFacts};
use crate::storage::describe::FieldInfo;

pub(super) fn fields(database: &impl Statements) -> Result<Vec<FieldInfo>> {
    let mut fields: Vec<FieldInfo> = Vec::new();
    for written in database.rows("SELECT metadata FROM main.documents", [], |row| row.get::<_, String>(0))? {
        for (name, value) in metadata_from_json(&written)? {
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

pub(super) fn records(database: &impl Statements, names: &[&str]) -> Result<HashMap<String, DocumentRecord>> {
    let sql =
        "SELECT name, title, media_type, metadata FROM main.documents WHERE name IN (SELECT value FROM json_each(?))";
    let raw = database.rows(sql, [to_json(names)?], |row| {
        let record = DocumentRecord { title: row.get(1)?, media_type: row.get(2)?, metadata: Metadata::new() };
        Ok((row.get::<_, String>(0)?, record, row.get::<_, String>(3)?))
    })?;
    let whole = raw.into_iter();
    whole
        .map(|(name, record, written)| Ok((name, DocumentRecord { metadata: metadata_from_json(&written)?, ..record })))
        .collect()
}

pub(super) fn each_document(database: &impl Statements, each: &mut dyn FnMut(i64, &DocumentFacts<'_>)) -> Result<()> {
    let sql = "SELECT id, name, title, media_type, metadata FROM main.documents";
    let mut statement = database.connection().prepare_cached(sql).map_err(failed)?;
    let mut rows = statement.query([]).map_err(failed)?;
    while let Some(row) = rows.next().map_err(failed)? {
        let read = || -> rusqlite::Result<(i64, String, Option<String>, String, String)> {
            Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
        };
        let (id, document, title, media_type, metadata) = read().map_err(failed)?;
        let metadata = metadata_from_json(&metadata)?;
        let title = title.as_deref();
        each(id, &DocumentFacts { document: &document, title, media_type: &media_type, metadata: &metadata });
    }
    Ok(())
}

pub(super) fn each_row(
    database: &impl Statements,
    documents: &[i64],
    each: &mut dyn FnMut(RowFacts<'_>),
) -> Result<()> {
    let sql = "SELECT own.segment, own.row, other.segment, other.row, own.first_page, own.last_page, own.section, own.document
               FROM json_each(?) AS wanted JOIN chunks AS own ON own.document = wanted.value
               LEFT JOIN chunks AS other ON other.id = own.same_as";
    let mut statement = database.connection().prepare_cached(sql).map_err(failed)?;
    let mut rows = statement.query([to_json(documents)?]).map_err(failed)?;
    while let Some(row) = rows.next().map_err(failed)? {
        let read = || -> rusqlite::Result<_> {
            let both = [row_id(row, 0)?, row_id(row, 2)?];
            Ok((both, pages(row, "first_page", "last_page")?, row.get::<_, String>(6)?, row.get::<_, i64>(7)?))
        };
        let (both, pages, section, document) = read().map_err(failed)?;
        let section: Vec<String> = from_json(&section)?;
        both.into_iter().flatten().for_each(|row| each(RowFacts { document, row, pages, section: &section }));
    }
    Ok(())
}
