//! Chunks, and their rows in the indexes.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::chunk::{ChunkId, SKETCH, shortened_runs};
use logothete_core::document::{Location, Span};
use logothete_core::search::{Duplicate, Passage, Surroundings};
use rusqlite::{Row, params};

use super::{Statements, chunk_id, from_json, ids_json, pages, row_id, span, to_json};
use crate::storage::PlacedRow;
use crate::storage::catalogue::{
    ChunkOwner, Counts, IndexEntry, Indexed, NewChunk, RowId, RowsOf, SectionHeadings, indexed_language,
};

/// The text that an encoder read of a chunk.
const ENCODED: &str = "CASE context WHEN '' THEN coalesce(indexed, text)
                       ELSE context || char(10) || char(10) || coalesce(indexed, text) END";
/// The columns of [`read_passage`].
const PASSAGE: &str =
    "chunks.id, documents.name, documents.title, documents.date, chunks.start, chunks.\"end\", first_page,
                       last_page, section, chunks.text, context, sentences, same_as";
/// The columns of [`read_indexed`].
const INDEXED: &str = "name, title, section, context, coalesce(indexed, chunks.text), metadata ->> 'language'";

pub(super) fn counts(database: &impl Statements) -> Result<Counts> {
    database.one("SELECT count(*), count(same_as) FROM chunks", [], |row| {
        Ok(Counts { chunks: row.get(0)?, duplicates: row.get(1)? })
    })
}

/// A passage whose section and sentences are still JSON, and the chunk that says the same.
type RawPassage = (Passage, String, String, Option<ChunkId>);

fn read_passage(row: &Row<'_>) -> rusqlite::Result<RawPassage> {
    let mut location = Location::new(row.get::<_, String>(1)?, span(row)?);
    location.title = row.get(2)?;
    location.date = row.get(3)?;
    location.pages = pages(row, "first_page", "last_page")?;
    let mut passage = Passage::new(chunk_id(row, 0)?, location, row.get::<_, String>(9)?);
    passage.context = row.get(10)?;
    let duplicate_of: Option<String> = row.get(12)?;
    Ok((passage, row.get(8)?, row.get(11)?, duplicate_of.map(ChunkId::from_stored)))
}

fn whole((mut passage, section, sentences, duplicate_of): RawPassage) -> Result<(Passage, Option<ChunkId>)> {
    passage.location.section = from_json(&section)?;
    passage.sentences = from_json(&sentences)?;
    Ok((passage, duplicate_of))
}

pub(super) fn passages(database: &impl Statements, chunks: &[ChunkId]) -> Result<Vec<Passage>> {
    Ok(of_chunks(database, chunks)?.into_iter().map(|(passage, _)| passage).collect())
}

fn of_chunks(database: &impl Statements, chunks: &[ChunkId]) -> Result<Vec<(Passage, Option<ChunkId>)>> {
    let sql = format!(
        "SELECT {PASSAGE} FROM json_each(?) AS wanted JOIN chunks ON chunks.id = wanted.value
         JOIN documents ON documents.id = chunks.document ORDER BY wanted.key"
    );
    database.rows(&sql, [ids_json(chunks)?], read_passage)?.into_iter().map(whole).collect()
}

pub(super) fn passages_with_duplicates(database: &impl Statements, chunks: &[ChunkId]) -> Result<Vec<Passage>> {
    with_duplicates(database, of_chunks(database, chunks)?)
}

pub(super) fn passages_at(database: &impl Statements, rows: &[RowId]) -> Result<Vec<Passage>> {
    let found = at_rows(database, PASSAGE, rows, read_passage)?.into_iter().map(whole).collect::<Result<_>>()?;
    with_duplicates(database, found)
}

pub(super) fn chunks_at(database: &impl Statements, rows: &[RowId]) -> Result<Vec<(ChunkId, String)>> {
    at_rows(database, "chunks.id, documents.name", rows, |row| Ok((chunk_id(row, 0)?, row.get(1)?)))
}

/// Reads some columns of the chunks of some rows, in their order.
fn at_rows<T>(
    database: &impl Statements,
    columns: &str,
    rows: &[RowId],
    read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>> {
    let sql = format!(
        "SELECT {columns} FROM json_each(?) AS wanted
         JOIN chunks ON chunks.segment = wanted.value ->> 0 AND chunks.row = wanted.value ->> 1
         JOIN documents ON documents.id = chunks.document ORDER BY wanted.key"
    );
    let wanted = to_json(&rows.iter().map(|row| (row.segment, row.row)).collect::<Vec<_>>())?;
    database.rows(&sql, [wanted], read)
}

/// Adds to each passage the chunks that say the same, by document and position.
fn with_duplicates(database: &impl Statements, found: Vec<(Passage, Option<ChunkId>)>) -> Result<Vec<Passage>> {
    // All that say the same name the same chunk, but for that one itself.
    let group = |passage: &Passage, duplicate_of: &Option<ChunkId>| {
        duplicate_of.clone().unwrap_or_else(|| passage.chunk.clone())
    };
    let groups: Vec<ChunkId> = found.iter().map(|(passage, of)| group(passage, of)).collect();
    let sql = format!(
        "SELECT {PASSAGE} FROM chunks JOIN documents ON documents.id = chunks.document
         WHERE same_as IN (SELECT value FROM json_each(?1))
         UNION ALL
         SELECT {PASSAGE} FROM chunks JOIN documents ON documents.id = chunks.document
         WHERE chunks.id IN (SELECT value FROM json_each(?1))
         ORDER BY 2, 5"
    );
    let members = database.rows(&sql, [ids_json(&groups)?], read_passage)?.into_iter().map(whole);
    let mut by_group: HashMap<ChunkId, Vec<Passage>> = HashMap::new();
    for member in members {
        let (passage, duplicate_of) = member?;
        by_group.entry(group(&passage, &duplicate_of)).or_default().push(passage);
    }
    let passages = found.into_iter().zip(groups).map(|((mut passage, _), group)| {
        let others = by_group.get(&group).into_iter().flatten().filter(|other| other.chunk != passage.chunk);
        passage.also = others.map(|other| Duplicate::new(&passage, other.clone())).collect();
        passage
    });
    Ok(passages.collect())
}

pub(super) fn similar(database: &impl Statements, hashes: &[u64], max: usize) -> Result<Vec<(ChunkId, i64)>> {
    let mut found: Vec<(ChunkId, i64)> = Vec::new();
    for hash in hashes {
        for column in 1..=SKETCH {
            let sql =
                format!("SELECT id, document FROM chunks WHERE sketch{column} = ? AND same_as IS NULL LIMIT {max}");
            let candidates = database.rows(&sql, [hash.cast_signed()], |row| Ok((chunk_id(row, 0)?, row.get(1)?)))?;
            for candidate in candidates {
                if !found.contains(&candidate) {
                    found.push(candidate);
                }
            }
        }
    }
    Ok(found)
}

pub(super) fn owners(database: &impl Statements, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, ChunkOwner>> {
    let sql = "SELECT chunks.id, name, chunker, metadata ->> 'language' FROM chunks
               JOIN documents ON documents.id = document WHERE chunks.id IN (SELECT value FROM json_each(?))";
    let owners = database.rows(sql, [ids_json(chunks)?], |row| {
        let language: Option<String> = row.get(3)?;
        let language = indexed_language(language.as_deref());
        Ok((chunk_id(row, 0)?, ChunkOwner { document: row.get(1)?, chunker: row.get(2)?, language }))
    })?;
    Ok(owners.into_iter().collect())
}

pub(super) fn encoded_texts(
    database: &impl Statements,
    documents: &[i64],
) -> Result<Vec<(i64, Option<RowId>, String)>> {
    let sql = format!(
        "SELECT segment, row, document, {ENCODED} FROM chunks WHERE document IN (SELECT value FROM json_each(?))"
    );
    database.rows(&sql, [to_json(documents)?], |row| {
        let text: String = row.get(3)?;
        Ok((row.get(2)?, row_id(row, 0)?, shortened_runs(&text).into_owned()))
    })
}

fn read_indexed(row: &Row<'_>, first: usize) -> rusqlite::Result<(Indexed, String)> {
    let language: Option<String> = row.get(first + 5)?;
    let indexed = Indexed {
        document: row.get(first)?,
        title: row.get(first + 1)?,
        section: Vec::new(),
        context: row.get(first + 3)?,
        body: row.get(first + 4)?,
        language: indexed_language(language.as_deref()),
    };
    Ok((indexed, row.get(first + 2)?))
}

pub(super) fn indexed(database: &impl Statements, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, Indexed>> {
    let sql = format!(
        "SELECT chunks.id, {INDEXED} FROM chunks JOIN documents ON documents.id = document
         WHERE chunks.id IN (SELECT value FROM json_each(?))"
    );
    let raw = database.rows(&sql, [ids_json(chunks)?], |row| Ok((chunk_id(row, 0)?, read_indexed(row, 1)?)))?;
    let whole = raw.into_iter();
    whole.map(|(id, (indexed, section))| Ok((id, Indexed { section: from_json(&section)?, ..indexed }))).collect()
}

pub(super) fn indexed_rows(
    database: &impl Statements,
    segment: i64,
    from: u32,
    to: u32,
) -> Result<Vec<(u32, Indexed)>> {
    let sql = format!(
        "SELECT row, {INDEXED} FROM chunks JOIN documents ON documents.id = document
         WHERE segment = ? AND row >= ? AND row < ? ORDER BY row"
    );
    let raw = database.rows(&sql, params![segment, from, to], |row| Ok((row.get(0)?, read_indexed(row, 1)?)))?;
    let whole = raw.into_iter();
    whole.map(|(row, (indexed, section))| Ok((row, Indexed { section: from_json(&section)?, ..indexed }))).collect()
}

pub(super) fn places(database: &impl Statements) -> Result<Vec<PlacedRow>> {
    let sql = "SELECT segment, row, document, parent_start, contents, entries, start, \"end\" FROM chunks WHERE segment IS NOT NULL ORDER BY document, ordinal";
    database.rows(sql, [], |row| {
        Ok(PlacedRow {
            row: RowId { segment: row.get(0)?, row: row.get(1)? },
            document: row.get(2)?,
            section_start: row.get(3)?,
            span: span(row)?,
            contents: row.get(4)?,
            entries: row.get(5)?,
        })
    })
}

pub(super) fn rows_of(database: &impl Statements, places: &[RowsOf]) -> Result<Vec<(usize, RowId)>> {
    // A chunk that another stands for is found where that one is.
    let sql = |condition: &str| {
        format!(
            "SELECT coalesce(chunks.segment, other.segment), coalesce(chunks.row, other.row) FROM chunks
             LEFT JOIN chunks AS other ON other.id = chunks.same_as {condition}
             AND coalesce(chunks.segment, other.segment) IS NOT NULL ORDER BY chunks.ordinal"
        )
    };
    let (of_chunk, of_document) =
        (sql("WHERE chunks.id = ?"), sql("JOIN documents ON documents.id = chunks.document WHERE documents.name = ?"));
    let mut found = Vec::new();
    for (at, place) in places.iter().enumerate() {
        let (sql, name) = match place {
            RowsOf::Chunk(chunk) => (&of_chunk, chunk.as_str()),
            RowsOf::Document(name) => (&of_document, name.as_str()),
        };
        let rows = database.rows(sql, [name], |row| Ok(RowId { segment: row.get(0)?, row: row.get(1)? }))?;
        found.extend(rows.into_iter().map(|row| (at, row)));
    }
    Ok(found)
}

pub(super) fn section_headings(database: &impl Statements) -> Result<Vec<SectionHeadings>> {
    // In the order of `places`, so that the sections have the same numbers.
    let sql = "SELECT title, section, metadata ->> 'language' FROM chunks JOIN documents ON documents.id = document
               WHERE segment IS NOT NULL GROUP BY document, parent_start ORDER BY document, min(ordinal)";
    let raw =
        database.rows(sql, [], |row| Ok((row.get(0)?, row.get::<_, String>(1)?, row.get::<_, Option<String>>(2)?)))?;
    raw.into_iter()
        .map(|(title, section, language)| Ok((title, from_json(&section)?, indexed_language(language.as_deref()))))
        .collect()
}

pub(super) fn surroundings(
    database: &impl Statements,
    chunks: &[ChunkId],
) -> Result<HashMap<ChunkId, (i64, Surroundings)>> {
    let sql = "SELECT own.id, own.document, own.start, own.\"end\", own.parent_start, own.parent_end,
               coalesce(before.start, own.start) AS first, coalesce(after.\"end\", own.\"end\") AS last
               FROM chunks AS own
               LEFT JOIN chunks AS before ON before.document = own.document AND before.ordinal = own.ordinal - 1
               LEFT JOIN chunks AS after ON after.document = own.document AND after.ordinal = own.ordinal + 1
               WHERE own.id IN (SELECT value FROM json_each(?))";
    let between = |row: &Row<'_>, start: usize, end: usize| -> rusqlite::Result<Span> {
        let at = |column| Ok::<_, rusqlite::Error>(row.get::<_, i64>(column)?.max(0) as usize);
        Ok(Span::new(at(start)?, at(end)?))
    };
    let found = database.rows(sql, [ids_json(chunks)?], |row| {
        let around =
            Surroundings { span: between(row, 2, 3)?, section: between(row, 4, 5)?, neighbours: between(row, 6, 7)? };
        Ok((chunk_id(row, 0)?, (row.get(1)?, around)))
    })?;
    Ok(found.into_iter().collect())
}

pub(super) fn add(database: &impl Statements, new: &NewChunk<'_>) -> Result<()> {
    let NewChunk { document, ordinal, chunk, entry } = new;
    let sketch = |at: usize| entry.sketch.get(at).copied().map(u64::cast_signed);
    database.run(
        "INSERT INTO chunks VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        params![
            chunk.id.as_str(),
            document,
            *ordinal as i64,
            chunk.span.start as i64,
            chunk.span.end as i64,
            chunk.parent.start as i64,
            chunk.parent.end as i64,
            chunk.pages.map(|pages| pages.first),
            chunk.pages.map(|pages| pages.last),
            to_json(&chunk.section)?,
            chunk.size as i64,
            chunk.text,
            chunk.context,
            to_json(&chunk.sentences)?,
            entry.duplicate_of.as_ref().map(ChunkId::as_str),
            entry.indexed,
            entry.row.map(|row| row.segment),
            entry.row.map(|row| row.row),
            sketch(0),
            sketch(1),
            sketch(2),
            sketch(3),
            chunk.percent_of_contents(),
            chunk.percent_of_entries(),
        ],
    )?;
    Ok(())
}

pub(super) fn set_entry(database: &impl Statements, chunk: &ChunkId, entry: &IndexEntry) -> Result<()> {
    let gone = "INSERT OR IGNORE INTO gone SELECT segment, row FROM chunks WHERE id = ? AND segment IS NOT NULL";
    database.run(gone, [chunk.as_str()])?;
    database.run(
        "UPDATE chunks SET same_as = ?, indexed = ?, segment = ?, row = ? WHERE id = ?",
        params![
            entry.duplicate_of.as_ref().map(ChunkId::as_str),
            entry.indexed,
            entry.row.map(|row| row.segment),
            entry.row.map(|row| row.row),
            chunk.as_str()
        ],
    )?;
    Ok(())
}
