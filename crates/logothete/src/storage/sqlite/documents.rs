//! Documents with their blocks, and the state of their files.

use std::borrow::Cow;
use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::document::{
    Block, BlockKind, Date, Document, Furniture, LineBox, Link, Location, Moment, PageArea, RecognisedWord, Table,
};
use rusqlite::{Row, params};
use serde::{Deserialize, Serialize};

use super::{Statements, from_json, metadata_from_json, span, to_json};
use crate::storage::catalogue::{FileState, KnownDocument, NewDocument, UPSERTED, Which};

/// The part of a block that only some kinds have.
#[derive(Default, PartialEq, Serialize, Deserialize)]
struct Details {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    table: Option<Table>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    furniture: Option<Furniture>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    figure: Option<PageArea>,
    /// The text of a heading on one line. Headings of older versions have none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    heading: Option<String>,
}

/// The places, times, links and recognised words of a document.
#[derive(Serialize, Deserialize)]
struct Layout<'a> {
    #[serde(default, skip_serializing_if = "is_none")]
    boxes: Cow<'a, [LineBox]>,
    #[serde(default, skip_serializing_if = "is_none")]
    moments: Cow<'a, [Moment]>,
    #[serde(default, skip_serializing_if = "is_none")]
    links: Cow<'a, [Link]>,
    #[serde(default, skip_serializing_if = "is_none")]
    recognised: Cow<'a, [RecognisedWord]>,
}

fn is_none<T>(list: &[T]) -> bool {
    list.is_empty()
}

impl<'a> Layout<'a> {
    fn of(document: &'a Document) -> Self {
        Self {
            boxes: Cow::Borrowed(&document.boxes),
            moments: Cow::Borrowed(&document.moments),
            links: Cow::Borrowed(&document.links),
            recognised: Cow::Borrowed(&document.recognised),
        }
    }
}

/// The columns of [`read_known`].
const KNOWN: &str =
    "SELECT documents.id, sources.name || '/' || path, path, documents.name, size, modified, seen, hash, parser,
                     chunker, inode, location, given FROM main.documents JOIN sources ON sources.id = source";

fn read_known(row: &Row<'_>) -> rusqlite::Result<KnownDocument> {
    Ok(KnownDocument {
        id: row.get(0)?,
        identity: row.get(1)?,
        path: row.get(2)?,
        name: row.get(3)?,
        size: row.get(4)?,
        modified: row.get(5)?,
        seen: row.get(6)?,
        hash: row.get(7)?,
        parser: row.get(8)?,
        chunker: row.get(9)?,
        inode: row.get(10)?,
        location: row.get(11)?,
        given: row.get(12)?,
    })
}

pub(super) fn known(database: &impl Statements, which: Which<'_>) -> Result<Vec<KnownDocument>> {
    let list = "IN (SELECT value FROM json_each(?))";
    match which {
        Which::In(source) => database.rows(&format!("{KNOWN} WHERE source = ? ORDER BY path"), [source], read_known),
        Which::At(source, paths) => {
            let sql = format!("{KNOWN} WHERE source = ? AND path {list} ORDER BY path");
            database.rows(&sql, params![source, to_json(paths)?], read_known)
        }
        Which::Named(names) => {
            let sql = format!("{KNOWN} WHERE documents.name {list} ORDER BY documents.id");
            database.rows(&sql, [to_json(names)?], read_known)
        }
        Which::WithContent(hashes, parser) => {
            let sql = format!("{KNOWN} WHERE hash {list} AND parser = ? ORDER BY documents.id");
            database.rows(&sql, [&to_json(hashes)?, parser], read_known)
        }
        Which::NotCutBy(chunker) => {
            let sql = format!("{KNOWN} WHERE chunker NOT IN (?, '{UPSERTED}') ORDER BY documents.id");
            database.rows(&sql, [chunker], read_known)
        }
    }
}

pub(super) fn touch(database: &impl Statements, id: i64, state: &FileState) -> Result<()> {
    let written = |modified: i64| (modified > 0).then(|| Date::from_unix(modified.div_euclid(1_000_000_000)));
    let before: i64 = database.one("SELECT modified FROM main.documents WHERE id = ?", [id], |row| row.get(0))?;
    let sql = "UPDATE documents SET modified = ?, inode = ?, seen = ? WHERE id = ?";
    database.run(sql, params![state.modified, state.inode, state.seen, id])?;
    // The date of the file is in the metadata, unless the document has a date of its own there.
    if let (Some(before), Some(now)) = (written(before), written(state.modified)) {
        let sql = "UPDATE documents SET metadata = json_set(metadata, '$.modified', ?)
                   WHERE id = ? AND metadata ->> 'modified' = ?";
        database.run(sql, params![now.as_str(), id, before.as_str()])?;
    }
    Ok(())
}

/// Writes a document and its blocks, without chunks; returns its id.
pub(super) fn add(database: &impl Statements, new: &NewDocument<'_>) -> Result<i64> {
    let NewDocument { source, path, document, state, parser, chunker, given } = new;
    let date = document.metadata.get("date").map(ToString::to_string);
    database.run(
        "INSERT INTO documents (source, path, name, title, media_type, date, size, modified, seen, hash, parser, chunker,
         text, pages, layout, metadata, warnings, inode, given)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        params![
            source,
            path,
            document.name,
            document.title,
            document.media_type,
            date,
            state.size,
            state.modified,
            state.seen,
            state.hash,
            parser,
            chunker,
            document.text,
            to_json(&document.page_starts)?,
            to_json(&Layout::of(document))?,
            to_json(&document.metadata)?,
            to_json(&document.warnings)?,
            state.inode,
            given,
        ],
    )?;
    let id = database.connection().last_insert_rowid();
    for (ordinal, block) in document.blocks.iter().enumerate() {
        let heading = (block.kind == BlockKind::Heading).then(|| one_line(document.slice(block.span)));
        let (table, furniture) = (block.table.clone(), block.furniture.clone());
        let details = Details { table, furniture, figure: block.figure, heading };
        let details = if details == Details::default() { None } else { Some(to_json(&details)?) };
        let (start, end) = (block.span.start as i64, block.span.end as i64);
        database.run(
            "INSERT INTO blocks VALUES (?, ?, ?, ?, ?, ?, ?)",
            params![id, ordinal as i64, block.kind.name(), block.level, start, end, details],
        )?;
    }
    Ok(id)
}

/// Documents as they were parsed.
pub(super) fn parsed(database: &impl Statements, ids: &[i64]) -> Result<HashMap<i64, Document>> {
    let ids = to_json(ids)?;
    let sql = "SELECT id, name, title, media_type, text, pages, metadata, warnings, layout FROM main.documents
               WHERE id IN (SELECT value FROM json_each(?))";
    let raw = database.rows(sql, [&ids], |row| {
        let document = Document {
            name: row.get(1)?,
            title: row.get(2)?,
            media_type: row.get(3)?,
            text: row.get(4)?,
            ..Document::default()
        };
        Ok((row.get::<_, i64>(0)?, document, [row.get::<_, String>(5)?, row.get(6)?, row.get(7)?, row.get(8)?]))
    })?;
    let mut documents = HashMap::with_capacity(raw.len());
    for (id, mut document, [pages, metadata, warnings, layout]) in raw {
        document.page_starts = from_json(&pages)?;
        document.metadata = metadata_from_json(&metadata)?;
        document.warnings = from_json(&warnings)?;
        let layout: Layout<'_> = from_json(&layout)?;
        document.boxes = layout.boxes.into_owned();
        document.moments = layout.moments.into_owned();
        document.links = layout.links.into_owned();
        document.recognised = layout.recognised.into_owned();
        documents.insert(id, document);
    }
    let sql = "SELECT kind, level, start, \"end\", details, document FROM blocks
               WHERE document IN (SELECT value FROM json_each(?)) ORDER BY document, ordinal";
    let blocks = database.rows(sql, [&ids], |row| {
        let details: Option<String> = row.get(4)?;
        Ok((row.get::<_, i64>(5)?, row.get::<_, String>(0)?, row.get(1)?, span(row)?, details))
    })?;
    for (id, kind, level, span, details) in blocks {
        let kind: BlockKind = from_json(&format!("\"{kind}\""))?;
        let details: Details = from_json(details.as_deref().unwrap_or("{}"))?;
        let Details { table, furniture, figure, .. } = details;
        if let Some(document) = documents.get_mut(&id) {
            document.blocks.push(Block { kind, span, level, table, furniture, figure });
        }
    }
    Ok(documents)
}

/// A heading of a document: where it begins, its level, and its text.
type HeadingRow = (usize, u8, String);

pub(super) fn pinpoint(database: &impl Statements, locations: &mut [&mut Location]) -> Result<()> {
    let mut names: Vec<&str> = locations.iter().map(|location| location.document.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let names = to_json(&names)?;
    let sql = "SELECT name, layout FROM main.documents WHERE name IN (SELECT value FROM json_each(?))";
    let mut layouts: HashMap<String, Document> = HashMap::new();
    for (name, layout) in database.rows(sql, [&names], |row| Ok((row.get(0)?, row.get::<_, String>(1)?)))? {
        let layout: Layout<'_> = from_json(&layout)?;
        let (boxes, moments) = (layout.boxes.into_owned(), layout.moments.into_owned());
        layouts.insert(name, Document { boxes, moments, ..Document::default() });
    }
    let last = |name: &str| {
        let here = locations.iter().filter(|location| location.document == name);
        here.map(|location| location.span.start).max().unwrap_or(0)
    };
    let mut headings: HashMap<String, Vec<HeadingRow>> = HashMap::new();
    for name in layouts.keys() {
        headings.insert(name.clone(), headings_up_to(database, name, last(name))?);
    }
    for location in locations {
        let Some(layout) = layouts.get(&location.document) else { continue };
        location.areas = layout.areas(location.span);
        location.seconds = layout.seconds(location.span);
        location.section = section_at(&headings[&location.document], location.span.start);
    }
    Ok(())
}

/// Returns the headings of a document that begin no later than at a byte.
fn headings_up_to(database: &impl Statements, name: &str, at: usize) -> Result<Vec<HeadingRow>> {
    let sql = "SELECT start, level, blocks.details ->> 'heading', \"end\" FROM main.documents
               JOIN blocks ON document = documents.id WHERE name = ?1 AND kind = 'heading' AND start <= ?2 ORDER BY ordinal";
    let rows = database.rows(sql, params![name, at as i64], |row| {
        Ok((row.get::<_, usize>(0)?, row.get(1)?, row.get::<_, Option<String>>(2)?, row.get::<_, usize>(3)?))
    })?;
    let text = match rows.iter().any(|(_, _, heading, _)| heading.is_none()) {
        true => database.one("SELECT text FROM main.documents WHERE name = ?", [name], |row| row.get(0))?,
        false => String::new(),
    };
    let whole = rows.into_iter().map(|(start, level, heading, end)| {
        (start, level, heading.unwrap_or_else(|| one_line(text.get(start..end).unwrap_or_default())))
    });
    Ok(whole.collect())
}

/// Returns a text with single blanks for its white space.
fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Returns the headings above a byte, outermost first.
fn section_at(headings: &[HeadingRow], at: usize) -> Vec<String> {
    let mut open: Vec<(u8, &str)> = Vec::new();
    for (_, level, heading) in headings.iter().take_while(|(start, ..)| *start <= at) {
        open.retain(|(above, _)| above < level);
        open.push((*level, heading));
    }
    open.into_iter().map(|(_, heading)| heading.to_owned()).collect()
}
