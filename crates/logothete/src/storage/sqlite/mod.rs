//! The catalogue in SQLite. All SQL of the crate is here and in [`cache`](super::cache).
//!
//! A change becomes visible when its transaction commits, and is durable by then: write-ahead log, `synchronous=FULL`.
//! Lists reach a statement as JSON arrays, so that a set is one statement whatever its size.

mod chunks;
mod describe;
mod documents;
mod facts;
mod segments;
mod transfer;
mod verify;
mod versions;

pub(crate) use versions::{FORMAT, OLDEST_EXPORT};

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use logothete_core::chunk::ChunkId;
use logothete_core::document::{Document, Location, Metadata, Pages, Span, Value as MetadataValue};
use logothete_core::search::{DocumentFacts, Passage, Surroundings};
use logothete_core::{Error, ErrorKind, Result};
use rusqlite::backup::Backup;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::{Map, Value};

use super::catalogue::{
    Catalogue, CatalogueReader, CatalogueTransaction, ChunkOwner, Counts, DocumentRecord, EncoderIdentity, FileState,
    IndexEntry, Indexed, KnownDocument, Manifest, NewChunk, NewDocument, RowFacts, RowId, RowsOf, SectionHeadings,
    SegmentEntry, SegmentFiles, SourceEntry, Which,
};
use super::describe::{ChunkDetail, DocumentDetail, DocumentInfo, FieldInfo, Section};
use super::{PlacedRow, lock};

/// How long a connection waits for another that holds a lock.
const MAX_WAIT: Duration = Duration::from_secs(10);

/// A catalogue in a file, or in memory.
pub(crate) struct SqliteCatalogue {
    /// `None` for a catalogue in memory.
    folder: Option<PathBuf>,
    writer: Mutex<Connection>,
    idle: Arc<Mutex<Vec<Idle>>>,
    /// The number of changes that were committed through the writer. A copy in memory is as good as the number that it has.
    changes: AtomicU64,
}

/// A connection that no reader uses.
struct Idle {
    connection: Connection,
    changes: u64,
}

impl SqliteCatalogue {
    /// Opens the catalogue of a folder, and creates it if it is missing.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        let writer = Mutex::new(connect(folder)?);
        Ok(Self { folder: Some(folder.to_path_buf()), writer, idle: Arc::default(), changes: AtomicU64::new(0) })
    }

    /// Creates a catalogue in memory.
    ///
    /// SQLite has no write-ahead log in memory, and a reader would block the writer. So a reader has a copy, made when there is
    /// none of the newest commit.
    pub(crate) fn in_memory() -> Result<Self> {
        let writer = Mutex::new(Connection::open_in_memory().map_err(failed).and_then(prepared)?);
        Ok(Self { folder: None, writer, idle: Arc::default(), changes: AtomicU64::new(0) })
    }

    /// Returns a connection for a reader, and the number of changes that it has.
    fn connect(&self) -> Result<Idle> {
        let changes = self.changes.load(Ordering::Acquire);
        let mut idle = lock(&self.idle);
        match &self.folder {
            Some(folder) => {
                let waiting = idle.pop();
                drop(idle);
                waiting.map_or_else(|| Ok(Idle { connection: connect(folder)?, changes }), Ok)
            }
            None => {
                idle.retain(|idle| idle.changes == changes);
                if let Some(waiting) = idle.pop() {
                    return Ok(waiting);
                }
                drop(idle);
                let writer = lock(&self.writer);
                let changes = self.changes.load(Ordering::Acquire);
                let mut connection = Connection::open_in_memory().map_err(failed)?;
                let backup = Backup::new(&writer, &mut connection).map_err(failed)?;
                backup.run_to_completion(i32::MAX, Duration::ZERO, None).map_err(failed)?;
                drop(backup);
                connection.set_prepared_statement_cache_capacity(64);
                Ok(Idle { connection, changes })
            }
        }
    }
}

fn connect(folder: &Path) -> Result<Connection> {
    let file = folder.join("corpus.db");
    let opened = Connection::open(&file).map_err(failed).and_then(prepared);
    opened.or_else(|error| match error.kind() {
        ErrorKind::System => for_reading(&file).ok_or(error),
        _ => Err(error),
    })
}

/// Opens the catalogue of a folder that cannot be written, because it is read-only or its disk is full. Returns `None` if a part of
/// the catalogue is in the log alone.
fn for_reading(file: &Path) -> Option<Connection> {
    let log = file.with_extension("db-wal");
    let logged = std::fs::metadata(log).map_or(0, |data| data.len());
    if logged > 0 || !file.is_file() {
        return None;
    }
    let path = file.to_str()?.replace('%', "%25").replace('?', "%3f").replace('#', "%23");
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(format!("file:{path}?immutable=1"), flags).ok()?;
    let version: u32 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).ok()?;
    (version == FORMAT).then_some(connection)
}

fn prepared(mut connection: Connection) -> Result<Connection> {
    connection.busy_timeout(MAX_WAIT).map_err(failed)?;
    connection.set_prepared_statement_cache_capacity(64);
    connection
        .execute_batch(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON; PRAGMA temp_store=MEMORY;",
        )
        .map_err(failed)?;
    versions::migrate(&mut connection)?;
    Ok(connection)
}

impl Catalogue for SqliteCatalogue {
    fn read(&self) -> Result<Box<dyn CatalogueReader + Send>> {
        let Idle { connection, changes } = self.connect()?;
        connection.execute_batch("BEGIN").map_err(failed)?;
        Ok(Box::new(SqliteReader { connection: Some(connection), changes, idle: self.idle.clone() }))
    }

    fn begin(&self, lease: u64) -> Result<Box<dyn CatalogueTransaction + '_>> {
        let connection = lock(&self.writer);
        connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
        Ok(Box::new(SqliteTransaction { connection, lease, changes: &self.changes, is_open: true }))
    }

    fn next_lease(&self) -> Result<u64> {
        let connection = lock(&self.writer);
        let transaction = SqliteTransaction { connection, lease: 0, changes: &self.changes, is_open: true };
        transaction.connection().execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
        let number = transaction.current_lease()? + 1;
        transaction.set_about("lease", &number.to_string())?;
        transaction.end("COMMIT")?;
        Ok(number)
    }

    fn is_read_only(&self) -> Result<bool> {
        lock(&self.writer).is_readonly("main").map_err(failed)
    }

    fn release(&self) {
        lock(&self.idle).clear();
    }

    fn compact(&self) -> Result<()> {
        self.release();
        let connection = lock(&self.writer);
        connection.execute_batch("VACUUM").map_err(failed)?;
        let (busy, log): (i64, i64) = connection
            .query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| Ok((row.get(0)?, row.get(1)?)))
            .map_err(failed)?;
        if busy != 0 && log > 0 {
            return Err(Error::new(
                ErrorKind::Busy,
                "another reader still sees what was there before, so its pages remain; try again when it is done",
            ));
        }
        Ok(())
    }
}

/// A read transaction on a connection of its own, which goes back to the idle ones at the end.
struct SqliteReader {
    connection: Option<Connection>,
    changes: u64,
    idle: Arc<Mutex<Vec<Idle>>>,
}

impl Drop for SqliteReader {
    fn drop(&mut self) {
        // Nothing was written, so there is nothing to lose. A connection whose transaction does not end is closed.
        if let Some(connection) = self.connection.take()
            && connection.execute_batch("COMMIT").is_ok()
        {
            lock(&self.idle).push(Idle { connection, changes: self.changes });
        }
    }
}

/// A write transaction on the writer's connection.
struct SqliteTransaction<'a> {
    connection: MutexGuard<'a, Connection>,
    lease: u64,
    changes: &'a AtomicU64,
    is_open: bool,
}

impl SqliteTransaction<'_> {
    fn current_lease(&self) -> Result<u64> {
        Ok(self.about("lease")?.and_then(|number| number.parse().ok()).unwrap_or(0))
    }

    fn end(mut self, how: &str) -> Result<()> {
        self.connection.execute_batch(how).map_err(failed)?;
        self.changes.fetch_add(1, Ordering::Release);
        self.is_open = false;
        Ok(())
    }
}

impl Drop for SqliteTransaction<'_> {
    fn drop(&mut self) {
        if self.is_open {
            // SQLite may have rolled back already, which is what is wanted.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
    }
}

/// A connection inside a transaction, with the statements that both kinds of transaction share.
trait Statements {
    fn connection(&self) -> &Connection;

    fn rows<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let mut statement = self.connection().prepare_cached(sql).map_err(failed)?;
        let rows = statement.query_map(values, |row| read(row)).map_err(failed)?;
        rows.collect::<rusqlite::Result<Vec<T>>>().map_err(failed)
    }

    /// Returns the only row of a statement that always has one.
    fn one<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<T> {
        self.connection()
            .prepare_cached(sql)
            .and_then(|mut statement| statement.query_row(values, read))
            .map_err(failed)
    }

    fn run(&self, sql: &str, values: impl rusqlite::Params) -> Result<usize> {
        self.connection().prepare_cached(sql).and_then(|mut statement| statement.execute(values)).map_err(failed)
    }

    fn about(&self, key: &str) -> Result<Option<String>> {
        let sql = "SELECT value FROM about WHERE key = ?";
        self.connection().query_row(sql, [key], |row| row.get(0)).optional().map_err(failed)
    }

    fn set_about(&self, key: &str, value: &str) -> Result<()> {
        let sql = "INSERT INTO about VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value";
        self.run(sql, [key, value])?;
        Ok(())
    }
}

impl Statements for SqliteReader {
    fn connection(&self) -> &Connection {
        self.connection.as_ref().expect("the connection is there until the reader is dropped")
    }
}

impl Statements for SqliteTransaction<'_> {
    fn connection(&self) -> &Connection {
        &self.connection
    }
}

pub(crate) fn failed(error: rusqlite::Error) -> Error {
    let kind = match error.sqlite_error_code() {
        Some(rusqlite::ErrorCode::DatabaseBusy | rusqlite::ErrorCode::DatabaseLocked) => ErrorKind::Busy,
        Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => ErrorKind::Corpus,
        // What was to be written is at fault, and not the file.
        Some(rusqlite::ErrorCode::TooBig | rusqlite::ErrorCode::ConstraintViolation) => ErrorKind::Unreadable,
        _ => ErrorKind::System,
    };
    let message = match kind {
        ErrorKind::Busy => "another process is writing to this corpus; try again when it is done".to_owned(),
        ErrorKind::Unreadable => format!("corpus.db does not take it: {error}"),
        ErrorKind::Corpus => format!("corpus.db is damaged ({error}); restore it, or build a new corpus"),
        _ => match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DiskFull) => {
                "the disk is full; make room and build again: what was committed is kept".to_owned()
            }
            Some(rusqlite::ErrorCode::ReadOnly | rusqlite::ErrorCode::CannotOpen) => {
                format!("corpus.db cannot be written ({error}); make its folder writable")
            }
            _ => format!("corpus.db: {error}"),
        },
    };
    Error::new(kind, message).because(error)
}

fn from_json<T: DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| {
        Error::new(ErrorKind::Corpus, "corpus.db holds JSON that cannot be read; build again").because(error)
    })
}

/// Reads metadata. A field without a value, which versions before 6 wrote for a number that is none, is left out.
fn metadata_from_json(text: &str) -> Result<Metadata> {
    let fields: BTreeMap<String, Option<MetadataValue>> = from_json(text)?;
    Ok(fields.into_iter().filter_map(|(name, value)| Some((name, value?))).collect())
}

fn to_json<T: Serialize + ?Sized>(value: &T) -> Result<String> {
    serde_json::to_string(value)
        .map_err(|error| Error::new(ErrorKind::System, "a value cannot be written as JSON").because(error))
}

/// Returns some ids of chunks as a parameter.
fn ids_json(chunks: &[ChunkId]) -> Result<String> {
    to_json(&chunks.iter().map(ChunkId::as_str).collect::<Vec<_>>())
}

fn pages(row: &Row<'_>, first: &str, last: &str) -> rusqlite::Result<Option<Pages>> {
    let pair: (Option<u32>, Option<u32>) = (row.get(first)?, row.get(last)?);
    Ok(pair.0.zip(pair.1).map(|(first, last)| Pages { first, last }))
}

fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    let bounds: (i64, i64) = (row.get("start")?, row.get("end")?);
    Ok(Span::new(bounds.0.max(0) as usize, bounds.1.max(0) as usize))
}

/// Returns a row of a segment, from two columns.
fn row_id(row: &Row<'_>, segment: usize) -> rusqlite::Result<Option<RowId>> {
    let pair: (Option<i64>, Option<u32>) = (row.get(segment)?, row.get(segment + 1)?);
    Ok(pair.0.zip(pair.1).map(|(segment, row)| RowId { segment, row }))
}

fn chunk_id(row: &Row<'_>, at: usize) -> rusqlite::Result<ChunkId> {
    Ok(ChunkId::from_stored(row.get::<_, String>(at)?))
}

impl<T: Statements> CatalogueReader for T {
    fn manifest(&self) -> Result<Manifest> {
        let encoder = self.about("encoder")?.map(|fingerprint| -> Result<EncoderIdentity> {
            let dimensions = self.about("dimensions")?.and_then(|number| number.parse().ok()).unwrap_or_default();
            Ok(EncoderIdentity { fingerprint, name: self.about("encoder_name")?.unwrap_or_default(), dimensions })
        });
        let commit = self.about("commit")?.and_then(|number| number.parse().ok()).unwrap_or(0);
        Ok(Manifest { commit, encoder: encoder.transpose()?, distance: self.about("distance")? })
    }

    fn counts(&self) -> Result<Counts> {
        chunks::counts(self)
    }

    fn segments(&self) -> Result<Vec<SegmentEntry>> {
        segments::all(self)
    }

    fn sources(&self) -> Result<Vec<SourceEntry>> {
        self.rows("SELECT id, name, location, whole FROM sources ORDER BY id", [], |row| {
            Ok(SourceEntry { id: row.get(0)?, name: row.get(1)?, location: row.get(2)?, whole: row.get(3)? })
        })
    }

    fn bytes(&self) -> u64 {
        let file = self.connection().path().filter(|path| !path.is_empty()).map(PathBuf::from);
        let size = |path: &Path| std::fs::metadata(path).map_or(0, |data| data.len());
        file.map_or(0, |file| size(&file) + size(&file.with_extension("db-wal")))
    }

    fn is_empty(&self) -> Result<bool> {
        self.one("SELECT NOT EXISTS (SELECT 1 FROM main.documents)", [], |row| row.get(0))
    }

    fn unread(&self) -> Result<Option<String>> {
        self.about("unread")
    }

    fn tree(&self) -> Result<Option<String>> {
        Ok(self.about("tree")?.filter(|file| !file.is_empty()))
    }

    fn count_documents(&self, source: i64) -> Result<usize> {
        self.one("SELECT count(*) FROM main.documents WHERE source = ?", [source], |row| row.get(0))
    }

    fn known(&self, which: Which<'_>) -> Result<Vec<KnownDocument>> {
        documents::known(self, which)
    }

    fn taken_names(&self, names: &[&str]) -> Result<HashSet<String>> {
        let sql = "SELECT name FROM main.documents WHERE name IN (SELECT value FROM json_each(?))";
        Ok(self.rows(sql, [to_json(names)?], |row| row.get(0))?.into_iter().collect())
    }

    fn documents(&self, ids: &[i64]) -> Result<HashMap<i64, Document>> {
        documents::parsed(self, ids)
    }

    fn passages_at(&self, rows: &[RowId]) -> Result<Vec<Passage>> {
        chunks::passages_at(self, rows)
    }

    fn passages_with_duplicates(&self, chunks: &[ChunkId]) -> Result<Vec<Passage>> {
        chunks::passages_with_duplicates(self, chunks)
    }

    fn passages(&self, chunks: &[ChunkId]) -> Result<Vec<Passage>> {
        chunks::passages(self, chunks)
    }

    fn similar(&self, hashes: &[u64], max: usize) -> Result<Vec<(ChunkId, i64)>> {
        chunks::similar(self, hashes, max)
    }

    fn owners(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, ChunkOwner>> {
        chunks::owners(self, chunks)
    }

    fn chunks_of(&self, documents: &[i64]) -> Result<Vec<ChunkId>> {
        let sql = "SELECT id FROM chunks WHERE document IN (SELECT value FROM json_each(?)) ORDER BY document, ordinal";
        self.rows(sql, [to_json(documents)?], |row| chunk_id(row, 0))
    }

    fn duplicates_of(&self, chunks: &[ChunkId]) -> Result<Vec<(ChunkId, i64)>> {
        let sql =
            "SELECT id, document FROM chunks WHERE same_as IN (SELECT value FROM json_each(?)) ORDER BY same_as, id";
        self.rows(sql, [ids_json(chunks)?], |row| Ok((chunk_id(row, 0)?, row.get(1)?)))
    }

    fn encoded_texts(&self, documents: &[i64]) -> Result<Vec<(i64, Option<RowId>, String)>> {
        chunks::encoded_texts(self, documents)
    }

    fn indexed(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, Indexed>> {
        chunks::indexed(self, chunks)
    }

    fn indexed_rows(&self, segment: i64, from: u32, to: u32) -> Result<Vec<(u32, Indexed)>> {
        chunks::indexed_rows(self, segment, from, to)
    }

    fn chunks_at(&self, rows: &[RowId]) -> Result<Vec<(ChunkId, String)>> {
        chunks::chunks_at(self, rows)
    }

    fn places(&self) -> Result<Vec<PlacedRow>> {
        chunks::places(self)
    }

    fn rows_of(&self, places: &[RowsOf]) -> Result<Vec<(usize, RowId)>> {
        chunks::rows_of(self, places)
    }

    fn section_headings(&self) -> Result<Vec<SectionHeadings>> {
        chunks::section_headings(self)
    }

    fn surroundings(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, (i64, Surroundings)>> {
        chunks::surroundings(self, chunks)
    }

    fn pinpoint(&self, locations: &mut [&mut Location]) -> Result<()> {
        documents::pinpoint(self, locations)
    }

    fn verify(&self) -> Result<()> {
        verify::catalogue(self)
    }

    fn fields(&self) -> Result<Vec<FieldInfo>> {
        facts::fields(self)
    }

    fn records(&self, names: &[&str]) -> Result<HashMap<String, DocumentRecord>> {
        facts::records(self, names)
    }

    fn each_document(&self, each: &mut dyn FnMut(i64, &DocumentFacts<'_>)) -> Result<()> {
        facts::each_document(self, each)
    }

    fn each_row(&self, documents: &[i64], each: &mut dyn FnMut(RowFacts<'_>)) -> Result<()> {
        facts::each_row(self, documents, each)
    }

    fn document_infos(&self) -> Result<Vec<DocumentInfo>> {
        describe::document_infos(self, None)
    }

    fn known_id(&self, name: &str) -> Result<Option<i64>> {
        let sql = "SELECT id FROM main.documents WHERE name = ?";
        self.connection().query_row(sql, [name], |row| row.get(0)).optional().map_err(failed)
    }

    fn text(&self, name: &str, span: Span) -> Result<Option<String>> {
        describe::text(self, name, span)
    }

    fn section(&self, chunk: &ChunkId) -> Result<Option<Section>> {
        describe::section(self, chunk)
    }

    fn document_detail(&self, name: &str) -> Result<DocumentDetail> {
        describe::document_detail(self, name)
    }

    fn chunk_detail(&self, id: &str) -> Result<(ChunkDetail, Option<RowId>)> {
        describe::chunk_detail(self, id)
    }

    fn export(&self, table: &str, each: &mut dyn FnMut(Map<String, Value>) -> Result<()>) -> Result<()> {
        transfer::export(self, table, each)
    }
}

impl CatalogueTransaction for SqliteTransaction<'_> {
    fn set_encoder(&self, encoder: &EncoderIdentity) -> Result<()> {
        self.set_about("encoder", &encoder.fingerprint)?;
        self.set_about("encoder_name", &encoder.name)?;
        self.set_about("dimensions", &encoder.dimensions.to_string())
    }

    fn set_distance(&self, name: &str) -> Result<()> {
        self.set_about("distance", name)
    }

    fn set_unread(&self, written: &str) -> Result<()> {
        self.set_about("unread", written)
    }

    fn set_tree(&self, file: Option<&str>) -> Result<()> {
        self.set_about("tree", file.unwrap_or_default())
    }

    fn add_source(&self, name: &str, location: &str, whole: bool) -> Result<i64> {
        let sql = "INSERT INTO sources (name, location, whole) VALUES (?, ?, ?)";
        self.run(sql, rusqlite::params![name, location, whole])?;
        Ok(self.connection.last_insert_rowid())
    }

    fn make_source_whole(&self, id: i64) -> Result<()> {
        self.run("UPDATE sources SET whole = 1 WHERE id = ?", [id])?;
        Ok(())
    }

    fn insert_documents(&self, documents: &[NewDocument<'_>]) -> Result<Vec<i64>> {
        documents.iter().map(|document| documents::add(self, document)).collect()
    }

    fn remove_documents(&self, ids: &[i64]) -> Result<()> {
        self.run("DELETE FROM main.documents WHERE id IN (SELECT value FROM json_each(?))", [to_json(ids)?])?;
        Ok(())
    }

    fn clear_chunks(&self, documents: &[i64], chunker: &str) -> Result<()> {
        let ids = to_json(documents)?;
        let sql = "UPDATE documents SET chunker = ? WHERE id IN (SELECT value FROM json_each(?))";
        self.run(sql, [chunker, &ids])?;
        self.run("DELETE FROM chunks WHERE document IN (SELECT value FROM json_each(?))", [ids])?;
        Ok(())
    }

    fn touch(&self, files: &[(i64, FileState)]) -> Result<()> {
        files.iter().try_for_each(|(id, state)| documents::touch(self, *id, state))
    }

    fn add_chunks(&self, chunks: &[NewChunk<'_>]) -> Result<()> {
        chunks.iter().try_for_each(|chunk| chunks::add(self, chunk))
    }

    fn set_entries(&self, entries: &[(ChunkId, IndexEntry)]) -> Result<()> {
        entries.iter().try_for_each(|(chunk, entry)| chunks::set_entry(self, chunk, entry))
    }

    fn add_segment(&self, files: &SegmentFiles) -> Result<i64> {
        segments::add(self, None, files)
    }

    fn set_files(&self, segments: &[(i64, SegmentFiles)]) -> Result<()> {
        segments.iter().try_for_each(|(id, files)| segments::set_files(self, *id, files))
    }

    fn remove_segments(&self, ids: &[i64]) -> Result<()> {
        let ids = to_json(ids)?;
        self.run("DELETE FROM gone WHERE segment IN (SELECT value FROM json_each(?))", [&ids])?;
        self.run("DELETE FROM segments WHERE id IN (SELECT value FROM json_each(?))", [&ids])?;
        Ok(())
    }

    fn move_rows(&self, from: &SegmentEntry, to: i64, first: u32) -> Result<()> {
        segments::move_rows(self, from, to, first)
    }

    fn mark_dead(&self, segment: i64, rows: &[u32]) -> Result<()> {
        let sql = "INSERT OR IGNORE INTO gone SELECT ?, value FROM json_each(?)";
        self.run(sql, rusqlite::params![segment, to_json(rows)?])?;
        Ok(())
    }

    fn defer_references(&self) -> Result<()> {
        self.connection.execute_batch("PRAGMA defer_foreign_keys = ON").map_err(failed)
    }

    fn import(&self, table: &str, row: &Map<String, Value>) -> Result<()> {
        transfer::import(self, table, row)
    }

    fn add_segment_as(&self, id: i64, files: &SegmentFiles) -> Result<()> {
        segments::add(self, Some(id), files).map(|_| ())
    }

    fn commit(self: Box<Self>) -> Result<()> {
        if self.current_lease()? != self.lease {
            let message = "another writer has taken over this corpus; nothing of this commit was kept";
            return Err(Error::new(ErrorKind::Busy, message));
        }
        segments::note_gone(&*self)?;
        let number = self.manifest()?.commit + 1;
        self.set_about("commit", &number.to_string())?;
        self.end("COMMIT")
    }
}
