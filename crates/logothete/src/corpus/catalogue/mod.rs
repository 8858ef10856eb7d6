//! The catalogue: everything of a corpus but its indexes, in SQLite.
//!
//! All SQL of the crate is here. A change becomes visible when its transaction commits, and is on the disk by then:
//! write-ahead log, `synchronous=FULL`.

mod look;

use std::borrow::Cow;
use std::path::Path;

use logothete_core::chunk::{Chunk, ChunkId, SKETCH};
use logothete_core::document::{
    Block, BlockKind, Date, Document, Furniture, LineBox, Link, Moment, PageArea, Pages, RecognisedWord, Span, Table,
};
use logothete_core::search::{OtherPlace, Passage};
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize, de::DeserializeOwned};

/// The version of the format on disk.
pub(crate) const FORMAT: u32 = 3;
const SCHEMA: &str = concat!(include_str!("schema.sql"), include_str!("chunks.sql"));
/// Brings a corpus of version 1 to version 2.
const FROM_1: &str = "ALTER TABLE documents ADD COLUMN layout TEXT NOT NULL DEFAULT '{}'";
/// Brings a corpus of version 2 to this one. Its chunks are looked at for repetitions when they are cut again.
const FROM_2: &str = concat!(
    "ALTER TABLE chunks RENAME TO chunks_2; DROP INDEX chunks_of_document;",
    include_str!("chunks.sql"),
    "INSERT INTO chunks SELECT id, document, ordinal, start, \"end\", start, \"end\", first_page, last_page, section, size,
     text, context, sentences, NULL, NULL, segment, row, NULL, NULL, NULL, NULL FROM chunks_2; DROP TABLE chunks_2;"
);

/// The catalogue's connection.
pub(crate) struct Catalogue {
    connection: Connection,
}

/// What is kept of a document beside its text, to know whether it has changed.
#[derive(Clone, Debug)]
pub(crate) struct Known {
    pub id: i64,
    /// The source's name and the path in it: what the ids of its chunks rest on.
    pub identity: String,
    pub path: String,
    pub name: String,
    pub size: u64,
    pub modified: i64,
    pub seen: i64,
    pub hash: String,
    pub parser: String,
    pub chunker: String,
}

/// The state of a file when it was read.
#[derive(Clone, Debug, Default)]
pub(crate) struct FileState {
    pub size: u64,
    pub modified: i64,
    pub seen: i64,
    pub hash: String,
}

/// A segment as the catalogue names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SegmentEntry {
    pub id: i64,
    pub rows: u32,
    pub vectors: String,
    pub keywords: String,
}

/// A source as the catalogue names it.
#[derive(Clone, Debug)]
pub(crate) struct SourceEntry {
    pub id: i64,
    pub name: String,
    pub location: String,
    pub whole: bool,
}

/// Where a chunk's vector and terms are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Place {
    pub segment: i64,
    pub row: u32,
}

/// How a chunk is indexed.
#[derive(Clone, Debug, Default)]
pub(crate) struct IndexEntry {
    /// The chunk that says the same, or nearly.
    pub same_as: Option<ChunkId>,
    /// What is indexed where it is not all of the text.
    pub indexed: Option<String>,
    /// Where; nothing when the other chunk says all of it.
    pub place: Option<Place>,
    /// To find chunks that say the same.
    pub sketch: Vec<u64>,
}

/// What was indexed for a chunk, in SQL.
const INDEXED: &str = "CASE context WHEN '' THEN coalesce(indexed, text)
                       ELSE context || char(10) || char(10) || coalesce(indexed, text) END";

/// The part of a block that only some kinds have.
#[derive(Default, PartialEq, Serialize, Deserialize)]
struct Details {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    table: Option<Table>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    furniture: Option<Furniture>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    figure: Option<PageArea>,
}

/// What points from the text of a document to places outside it.
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

pub(crate) fn failed(error: rusqlite::Error) -> Error {
    let kind = match error.sqlite_error_code() {
        Some(rusqlite::ErrorCode::DatabaseBusy | rusqlite::ErrorCode::DatabaseLocked) => ErrorKind::Busy,
        Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => ErrorKind::Corpus,
        _ => ErrorKind::System,
    };
    let message = match kind {
        ErrorKind::Busy => "another process is writing to this corpus; try again when it is done".to_owned(),
        ErrorKind::Corpus => {
            format!("corpus.db is damaged ({error}); restore it, or remove the folder and build again")
        }
        _ => format!("corpus.db: {error}"),
    };
    Error::new(kind, message).because(error)
}

fn from_json<T: DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| {
        Error::new(ErrorKind::Corpus, "corpus.db holds JSON that cannot be read; build again").because(error)
    })
}

fn to_json<T: Serialize>(value: &T) -> Result<String> {
    serde_json::to_string(value)
        .map_err(|error| Error::new(ErrorKind::System, "a value cannot be written as JSON").because(error))
}

fn pages(row: &Row<'_>, first: &str, last: &str) -> rusqlite::Result<Option<Pages>> {
    let pair: (Option<u32>, Option<u32>) = (row.get(first)?, row.get(last)?);
    Ok(pair.0.zip(pair.1).map(|(first, last)| Pages { first, last }))
}

fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    let bounds: (i64, i64) = (row.get("start")?, row.get("end")?);
    Ok(Span::new(bounds.0.max(0) as usize, bounds.1.max(0) as usize))
}

impl Catalogue {
    /// Opens the catalogue of a folder, and makes it if it is not there.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        let mut connection = Connection::open(folder.join("corpus.db")).map_err(failed)?;
        connection.busy_timeout(std::time::Duration::from_secs(5)).map_err(failed)?;
        connection
            .execute_batch("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;")
            .map_err(failed)?;
        let version: u32 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)?;
        match version {
            0..FORMAT => {
                // Two processes may come here at once: the one that waits finds the work done.
                let transaction =
                    connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(failed)?;
                let found: u32 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)?;
                let steps: &[&str] = match found {
                    0 => &[SCHEMA],
                    1 => &[FROM_1, FROM_2],
                    2 => &[FROM_2],
                    _ => &[],
                };
                for step in steps {
                    transaction.execute_batch(step).map_err(failed)?;
                }
                transaction.pragma_update(None, "user_version", FORMAT).map_err(failed)?;
                transaction.commit().map_err(failed)?;
            }
            FORMAT => {}
            newer => {
                return Err(Error::new(
                    ErrorKind::Corpus,
                    format!(
                        "this corpus has format {newer}, and this program knows format {FORMAT}; use a newer logothete"
                    ),
                ));
            }
        }
        Ok(Self { connection })
    }

    /// A number that changes when another connection has committed.
    pub(crate) fn version(&self) -> Result<i64> {
        self.connection.query_row("PRAGMA data_version", [], |row| row.get(0)).map_err(failed)
    }

    /// Runs some changes as one: all of them happen, or none.
    pub(crate) fn commit<T>(&mut self, changes: impl FnOnce(&Self) -> Result<T>) -> Result<T> {
        self.connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
        let outcome =
            changes(self).and_then(|value| self.connection.execute_batch("COMMIT").map_err(failed).map(|()| value));
        if outcome.is_err() {
            // The transaction may be gone already; the error that matters is the first.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
        outcome
    }

    /// Reads several things as of one moment.
    pub(crate) fn read<T>(&self, reads: impl FnOnce(&Self) -> Result<T>) -> Result<T> {
        self.connection.execute_batch("BEGIN").map_err(failed)?;
        let outcome = reads(self);
        let _ = self.connection.execute_batch("COMMIT");
        outcome
    }

    fn rows<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let rows = statement.query_map(values, |row| read(row)).map_err(failed)?;
        rows.collect::<rusqlite::Result<Vec<T>>>().map_err(failed)
    }

    fn run(&self, sql: &str, values: impl rusqlite::Params) -> Result<usize> {
        self.connection.prepare_cached(sql).and_then(|mut statement| statement.execute(values)).map_err(failed)
    }

    // About

    pub(crate) fn about(&self, key: &str) -> Result<Option<String>> {
        self.connection
            .query_row("SELECT value FROM about WHERE key = ?", [key], |row| row.get(0))
            .optional()
            .map_err(failed)
    }

    pub(crate) fn set_about(&self, key: &str, value: &str) -> Result<()> {
        self.run(
            "INSERT INTO about VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
            [key, value],
        )?;
        Ok(())
    }

    // Sources

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

    // Documents

    const KNOWN: &str =
        "SELECT documents.id, sources.name || '/' || path, path, documents.name, size, modified, seen, hash, parser,
                         chunker FROM main.documents JOIN sources ON sources.id = source";

    fn known(row: &Row<'_>) -> rusqlite::Result<Known> {
        Ok(Known {
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
        })
    }

    /// The documents of a source.
    pub(crate) fn known_in(&self, source: i64) -> Result<Vec<Known>> {
        self.rows(&format!("{} WHERE source = ? ORDER BY path", Self::KNOWN), [source], Self::known)
    }

    /// The document at a path of a source.
    pub(crate) fn known_at(&self, source: i64, path: &str) -> Result<Option<Known>> {
        let sql = format!("{} WHERE source = ? AND path = ?", Self::KNOWN);
        self.connection.query_row(&sql, params![source, path], Self::known).optional().map_err(failed)
    }

    /// How many documents a source has.
    pub(crate) fn count_in(&self, source: i64) -> Result<usize> {
        let sql = "SELECT count(*) FROM main.documents WHERE source = ?";
        self.connection.query_row(sql, [source], |row| row.get(0)).map_err(failed)
    }

    /// Begins to note what sources list. The notes are the connection's own and go with it.
    pub(crate) fn begin_listing(&self) -> Result<()> {
        self.connection
            .execute_batch(
                "DROP TABLE IF EXISTS temp.listed;
                 CREATE TEMP TABLE listed (source INTEGER, path TEXT, PRIMARY KEY (source, path)) WITHOUT ROWID;",
            )
            .map_err(failed)
    }

    /// Notes that a source lists a path.
    pub(crate) fn note_listed(&self, source: i64, path: &str) -> Result<()> {
        self.run("INSERT OR IGNORE INTO temp.listed VALUES (?, ?)", params![source, path])?;
        Ok(())
    }

    /// The documents of a source that it no longer lists.
    pub(crate) fn known_unlisted(&self, source: i64) -> Result<Vec<Known>> {
        let unlisted = "NOT EXISTS (SELECT 1 FROM temp.listed AS now WHERE now.source = documents.source AND now.path = documents.path)";
        self.rows(&format!("{} WHERE source = ? AND {unlisted} ORDER BY path", Self::KNOWN), [source], Self::known)
    }

    /// The documents, of any source, that another chunker cut.
    pub(crate) fn known_cut_otherwise(&self, chunker: &str) -> Result<Vec<Known>> {
        self.rows(&format!("{} WHERE chunker <> ? ORDER BY documents.id", Self::KNOWN), [chunker], Self::known)
    }

    /// Whether a document has a name.
    pub(crate) fn has_name(&self, name: &str) -> Result<bool> {
        let sql = "SELECT EXISTS (SELECT 1 FROM main.documents WHERE name = ?)";
        self.connection.query_row(sql, [name], |row| row.get(0)).map_err(failed)
    }

    /// Notes that a file was seen again with the same content.
    pub(crate) fn touch(&self, id: i64, state: &FileState) -> Result<()> {
        let written = Date::from_unix(state.modified.div_euclid(1_000_000_000)).as_str().to_owned();
        self.run(
            "UPDATE documents SET modified = ?, seen = ?, metadata = json_set(metadata, '$.modified', ?) WHERE id = ?",
            params![state.modified, state.seen, written, id],
        )?;
        Ok(())
    }

    pub(crate) fn remove_document(&self, id: i64) -> Result<()> {
        self.run("DELETE FROM main.documents WHERE id = ?", [id])?;
        Ok(())
    }

    /// Writes a document and its blocks, without chunks.
    pub(crate) fn add_document(
        &self,
        source: i64,
        path: &str,
        document: &Document,
        state: &FileState,
        parser: &str,
        chunker: &str,
    ) -> Result<i64> {
        let date = document.metadata.get("date").map(ToString::to_string);
        self.run(
            "INSERT INTO documents (source, path, name, title, media_type, date, size, modified, seen, hash, parser, chunker,
             text, pages, layout, metadata, warnings) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
            ],
        )?;
        let id = self.connection.last_insert_rowid();
        for (ordinal, block) in document.blocks.iter().enumerate() {
            let details =
                Details { table: block.table.clone(), furniture: block.furniture.clone(), figure: block.figure };
            let details = if details == Details::default() { None } else { Some(to_json(&details)?) };
            let (start, end) = (block.span.start as i64, block.span.end as i64);
            self.run(
                "INSERT INTO blocks VALUES (?, ?, ?, ?, ?, ?, ?)",
                params![id, ordinal as i64, block.kind.name(), block.level, start, end, details],
            )?;
        }
        Ok(id)
    }

    /// Says that a document is now cut by another chunker.
    pub(crate) fn set_chunker(&self, document: i64, chunker: &str) -> Result<()> {
        self.run("UPDATE documents SET chunker = ? WHERE id = ?", params![chunker, document])?;
        self.run("DELETE FROM chunks WHERE document = ?", [document])?;
        Ok(())
    }

    /// A document as it was parsed.
    pub(crate) fn document(&self, id: i64) -> Result<Document> {
        let sql =
            "SELECT name, title, media_type, text, pages, metadata, warnings, layout FROM main.documents WHERE id = ?";
        let (mut document, [pages, metadata, warnings, layout]) = self
            .connection
            .query_row(sql, [id], |row| {
                let document = Document {
                    name: row.get(0)?,
                    title: row.get(1)?,
                    media_type: row.get(2)?,
                    text: row.get(3)?,
                    ..Document::default()
                };
                Ok((document, [row.get::<_, String>(4)?, row.get(5)?, row.get(6)?, row.get(7)?]))
            })
            .map_err(failed)?;
        document.page_starts = from_json(&pages)?;
        document.metadata = from_json(&metadata)?;
        document.warnings = from_json(&warnings)?;
        let layout: Layout<'_> = from_json(&layout)?;
        document.boxes = layout.boxes.into_owned();
        document.moments = layout.moments.into_owned();
        document.links = layout.links.into_owned();
        document.recognised = layout.recognised.into_owned();
        let blocks = self.rows(
            "SELECT kind, level, start, \"end\", details FROM blocks WHERE document = ? ORDER BY ordinal",
            [id],
            |row| Ok((row.get::<_, String>(0)?, row.get(1)?, span(row)?, row.get::<_, Option<String>>(4)?)),
        )?;
        for (kind, level, span, details) in blocks {
            let kind: BlockKind = from_json(&format!("\"{kind}\""))?;
            let details: Details = from_json(details.as_deref().unwrap_or("{}"))?;
            let Details { table, furniture, figure } = details;
            document.blocks.push(Block { kind, span, level, table, furniture, figure });
        }
        Ok(document)
    }

    /// The places on pages and the moments of a document, by its name, without its text.
    pub(crate) fn layout(&self, name: &str) -> Result<Option<Document>> {
        let sql = "SELECT layout FROM main.documents WHERE name = ?";
        let found: Option<String> =
            self.connection.query_row(sql, [name], |row| row.get(0)).optional().map_err(failed)?;
        let Some(found) = found else { return Ok(None) };
        let layout: Layout<'_> = from_json(&found)?;
        let (boxes, moments) = (layout.boxes.into_owned(), layout.moments.into_owned());
        Ok(Some(Document { boxes, moments, ..Document::default() }))
    }

    /// The headings above a place in a document, outermost first.
    pub(crate) fn section_at(&self, name: &str, at: usize) -> Result<Vec<String>> {
        let headings = self.rows(
            "SELECT level, substr(CAST(text AS BLOB), start + 1, \"end\" - start)
             FROM blocks JOIN main.documents ON documents.id = document
             WHERE documents.name = ? AND kind = 'heading' AND start <= ? ORDER BY ordinal",
            params![name, at as i64],
            |row| Ok((row.get::<_, u8>(0)?, row.get::<_, Vec<u8>>(1)?)),
        )?;
        let mut open: Vec<(u8, String)> = Vec::new();
        for (level, heading) in headings {
            open.retain(|(above, _)| *above < level);
            let heading = String::from_utf8_lossy(&heading);
            open.push((level, heading.split_whitespace().collect::<Vec<_>>().join(" ")));
        }
        Ok(open.into_iter().map(|(_, heading)| heading).collect())
    }

    // Chunks

    /// Where the chunks of a document are, by id, with what was indexed for each.
    pub(crate) fn chunk_places(&self, document: i64) -> Result<Vec<(ChunkId, Place, String)>> {
        let sql = format!("SELECT id, segment, row, {INDEXED} FROM chunks WHERE document = ? AND segment IS NOT NULL");
        self.rows(&sql, [document], |row| {
            let place = Place { segment: row.get(1)?, row: row.get(2)? };
            Ok((ChunkId::from_stored(row.get::<_, String>(0)?), place, row.get(3)?))
        })
    }

    /// Every live place.
    pub(crate) fn live_places(&self) -> Result<Vec<Place>> {
        self.rows("SELECT segment, row FROM chunks WHERE segment IS NOT NULL", [], |row| {
            Ok(Place { segment: row.get(0)?, row: row.get(1)? })
        })
    }

    pub(crate) fn count_chunks(&self) -> Result<u64> {
        self.connection.query_row("SELECT count(*) FROM chunks", [], |row| row.get(0)).map_err(failed)
    }

    /// How many rows of the segments belong to a chunk.
    pub(crate) fn count_live(&self) -> Result<u64> {
        let sql = "SELECT count(*) FROM chunks WHERE segment IS NOT NULL";
        self.connection.query_row(sql, [], |row| row.get(0)).map_err(failed)
    }

    /// How many chunks say what another says, in all or in part.
    pub(crate) fn count_repeated(&self) -> Result<u64> {
        let sql = "SELECT count(*) FROM chunks WHERE same_as IS NOT NULL";
        self.connection.query_row(sql, [], |row| row.get(0)).map_err(failed)
    }

    pub(crate) fn add_chunk(&self, document: i64, ordinal: usize, chunk: &Chunk, entry: &IndexEntry) -> Result<()> {
        let sketch = |at: usize| entry.sketch.get(at).copied().map(u64::cast_signed);
        self.run(
            "INSERT INTO chunks VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            params![
                chunk.id.as_str(),
                document,
                ordinal as i64,
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
                entry.same_as.as_ref().map(ChunkId::as_str),
                entry.indexed,
                entry.place.map(|place| place.segment),
                entry.place.map(|place| place.row),
                sketch(0),
                sketch(1),
                sketch(2),
                sketch(3),
            ],
        )?;
        Ok(())
    }

    /// Says anew how a chunk is indexed.
    pub(crate) fn set_entry(&self, chunk: &ChunkId, entry: &IndexEntry) -> Result<()> {
        self.run(
            "UPDATE chunks SET same_as = ?, indexed = ?, segment = ?, row = ? WHERE id = ?",
            params![
                entry.same_as.as_ref().map(ChunkId::as_str),
                entry.indexed,
                entry.place.map(|place| place.segment),
                entry.place.map(|place| place.row),
                chunk.as_str()
            ],
        )?;
        Ok(())
    }

    /// Some chunks with a hash in common with a sketch, `most` for each hash, and their documents. Only those that say what no other says.
    pub(crate) fn like(&self, sketch: &[u64], most: usize) -> Result<Vec<(ChunkId, i64)>> {
        let mut found: Vec<(ChunkId, i64)> = Vec::new();
        for hash in sketch {
            for column in 1..=SKETCH {
                let sql = format!(
                    "SELECT id, document FROM chunks WHERE sketch{column} = ? AND same_as IS NULL LIMIT {most}"
                );
                let candidates = self.rows(&sql, [hash.cast_signed()], |row| {
                    Ok((ChunkId::from_stored(row.get::<_, String>(0)?), row.get(1)?))
                })?;
                for candidate in candidates {
                    if !found.contains(&candidate) {
                        found.push(candidate);
                    }
                }
            }
        }
        Ok(found)
    }

    /// The chunks of a document, by their ids.
    pub(crate) fn chunk_ids(&self, document: i64) -> Result<Vec<ChunkId>> {
        self.rows("SELECT id FROM chunks WHERE document = ?", [document], |row| {
            Ok(ChunkId::from_stored(row.get::<_, String>(0)?))
        })
    }

    /// The chunks that say what a chunk says, with their documents.
    pub(crate) fn same_as(&self, chunk: &ChunkId) -> Result<Vec<(ChunkId, i64)>> {
        self.rows("SELECT id, document FROM chunks WHERE same_as = ? ORDER BY id", [chunk.as_str()], |row| {
            Ok((ChunkId::from_stored(row.get::<_, String>(0)?), row.get(1)?))
        })
    }

    /// Moves a chunk to another place, when segments are merged.
    pub(crate) fn move_chunk(&self, from: Place, to: Place) -> Result<()> {
        self.run(
            "UPDATE chunks SET segment = ?, row = ? WHERE segment = ? AND row = ?",
            params![to.segment, to.row, from.segment, from.row],
        )?;
        Ok(())
    }

    /// What was indexed for the chunk at a place.
    pub(crate) fn indexed_text(&self, place: Place) -> Result<String> {
        let sql = format!("SELECT {INDEXED} FROM chunks WHERE segment = ? AND row = ?");
        self.connection.query_row(&sql, params![place.segment, place.row], |row| row.get(0)).map_err(failed)
    }

    /// The chunk at a place as a passage, still without rank and scores, with the other places that say the same.
    pub(crate) fn passage(&self, place: Place) -> Result<Passage> {
        let found = self.passages("segment = ? AND row = ?", params![place.segment, place.row])?;
        let (mut passage, same_as) =
            found.into_iter().next().ok_or_else(|| failed(rusqlite::Error::QueryReturnedNoRows))?;
        let group = same_as.unwrap_or_else(|| passage.chunk.clone());
        let others = self.passages(
            "(chunks.id = ?1 OR same_as = ?1) AND chunks.id <> ?2 ORDER BY documents.name, chunks.start",
            params![group.as_str(), passage.chunk.as_str()],
        )?;
        passage.also = others.into_iter().map(|(other, _)| OtherPlace::new(&passage, other)).collect();
        Ok(passage)
    }

    /// A chunk as a passage, by its id.
    pub(crate) fn chunk(&self, id: &ChunkId) -> Result<Option<Passage>> {
        Ok(self.passages("chunks.id = ?", [id.as_str()])?.into_iter().next().map(|(passage, _)| passage))
    }

    /// Chunks as passages, each with the chunk that says the same.
    fn passages(&self, condition: &str, values: impl rusqlite::Params) -> Result<Vec<(Passage, Option<ChunkId>)>> {
        let sql = format!(
            "SELECT chunks.id, documents.name, documents.title, documents.date, chunks.start, chunks.\"end\", first_page,
             last_page, section, chunks.text, context, sentences, same_as
             FROM chunks JOIN main.documents ON documents.id = chunks.document WHERE {condition}"
        );
        let raw = self.rows(&sql, values, |row| {
            let passage = Passage {
                rank: 0,
                score: 0.0,
                chunk: ChunkId::from_stored(row.get::<_, String>(0)?),
                document: row.get(1)?,
                title: row.get(2)?,
                date: row.get(3)?,
                pages: pages(row, "first_page", "last_page")?,
                section: Vec::new(),
                span: span(row)?,
                text: row.get(9)?,
                context: row.get(10)?,
                sentences: Vec::new(),
                legs: Default::default(),
                also: Vec::new(),
            };
            let same_as: Option<String> = row.get(12)?;
            Ok((passage, row.get::<_, String>(8)?, row.get::<_, String>(11)?, same_as.map(ChunkId::from_stored)))
        })?;
        let whole = raw.into_iter().map(|(mut passage, section, sentences, same_as)| {
            passage.section = from_json(&section)?;
            passage.sentences = from_json(&sentences)?;
            Ok((passage, same_as))
        });
        whole.collect()
    }

    // Segments

    pub(crate) fn segments(&self) -> Result<Vec<SegmentEntry>> {
        self.rows("SELECT id, rows, vectors, keywords FROM segments ORDER BY id", [], |row| {
            Ok(SegmentEntry { id: row.get(0)?, rows: row.get(1)?, vectors: row.get(2)?, keywords: row.get(3)? })
        })
    }

    pub(crate) fn add_segment(&self, rows: u32, vectors: &str, keywords: &str) -> Result<i64> {
        self.run("INSERT INTO segments (rows, vectors, keywords) VALUES (?, ?, ?)", params![rows, vectors, keywords])?;
        Ok(self.connection.last_insert_rowid())
    }

    pub(crate) fn remove_segment(&self, id: i64) -> Result<()> {
        self.run("DELETE FROM segments WHERE id = ?", [id])?;
        Ok(())
    }
}
