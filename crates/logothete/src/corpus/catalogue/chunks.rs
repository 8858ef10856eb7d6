//! Chunks, and how each is indexed.

use logothete_core::Result;
use logothete_core::chunk::{Chunk, ChunkId, SKETCH, indexed_text};
use logothete_core::keyword::{ContextParts, KeywordWriter};
use logothete_core::search::{OtherPlace, Passage};
use logothete_core::text::Language;
use rusqlite::params;

use super::{Catalogue, failed, from_json, pages, span, to_json};

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

/// What a row is indexed by.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Indexed {
    /// The name of its document.
    pub document: String,
    pub title: Option<String>,
    pub section: Vec<String>,
    pub context: String,
    pub body: String,
    pub language: Option<Language>,
}

impl Indexed {
    /// What an encoder reads.
    pub(crate) fn text(&self) -> String {
        indexed_text(&self.context, &self.body)
    }

    /// Adds it to an index of keywords.
    pub(crate) fn write(&self, to: &mut KeywordWriter) {
        let parts = ContextParts::new(self.title.as_deref(), &self.section, &self.context);
        to.push(&parts.fields(&self.body), self.language);
    }
}

/// The language that a document's words are taken to be in, by its metadata. A text too short to tell is taken for English.
pub(crate) fn indexed_language(tag: Option<&str>) -> Option<Language> {
    tag.map_or(Some(Language::English), Language::from_tag)
}

/// What was indexed for a chunk, in SQL.
const INDEXED: &str = "CASE context WHEN '' THEN coalesce(indexed, text)
                       ELSE context || char(10) || char(10) || coalesce(indexed, text) END";

impl Catalogue {
    /// Where the chunks of a document are, with what was indexed for each.
    pub(crate) fn chunk_places(&self, document: i64) -> Result<Vec<(Place, String)>> {
        let sql = format!("SELECT segment, row, {INDEXED} FROM chunks WHERE document = ? AND segment IS NOT NULL");
        self.rows(&sql, [document], |row| Ok((Place { segment: row.get(0)?, row: row.get(1)? }, row.get(2)?)))
    }

    /// The language that a chunk's words are taken to be in.
    pub(crate) fn language_of(&self, chunk: &ChunkId) -> Result<Option<Language>> {
        let sql = "SELECT metadata ->> 'language' FROM chunks JOIN main.documents ON documents.id = document WHERE chunks.id = ?";
        let tags = self.rows(sql, [chunk.as_str()], |row| row.get::<_, Option<String>>(0))?;
        Ok(indexed_language(tags.first().and_then(|tag| tag.as_deref())))
    }

    /// The name of the document that a chunk is from, and what cut it.
    pub(crate) fn document_of(&self, chunk: &str) -> Result<Option<(String, String)>> {
        let sql = "SELECT name, chunker FROM chunks JOIN main.documents ON documents.id = document WHERE chunks.id = ?";
        Ok(self.rows(sql, [chunk], |row| Ok((row.get(0)?, row.get(1)?)))?.into_iter().next())
    }

    /// What is indexed of the chunks of a document.
    pub(crate) fn indexed_texts(&self, document: i64) -> Result<Vec<String>> {
        self.rows(&format!("SELECT {INDEXED} FROM chunks WHERE document = ?"), [document], |row| row.get(0))
    }

    /// What a chunk is indexed by.
    pub(crate) fn indexed(&self, chunk: &str) -> Result<Indexed> {
        let found = self.indexed_where("chunks.id = ?", [chunk])?.into_iter().next();
        found.map(|(_, indexed)| indexed).ok_or_else(|| failed(rusqlite::Error::QueryReturnedNoRows))
    }

    /// The rows of a segment from one to another that belong to a chunk, ascending, and what each is indexed by.
    pub(crate) fn indexed_rows(&self, segment: i64, from: u32, to: u32) -> Result<Vec<(u32, Indexed)>> {
        self.indexed_where("segment = ? AND row >= ? AND row < ? ORDER BY row", params![segment, from, to])
    }

    fn indexed_where(&self, condition: &str, values: impl rusqlite::Params) -> Result<Vec<(u32, Indexed)>> {
        let sql = format!(
            "SELECT coalesce(row, 0), name, title, section, context, coalesce(indexed, chunks.text), metadata ->> 'language'
             FROM chunks JOIN main.documents ON documents.id = document WHERE {condition}"
        );
        let raw = self.rows(&sql, values, |row| {
            let language: Option<String> = row.get(6)?;
            let indexed = Indexed {
                document: row.get(1)?,
                title: row.get(2)?,
                section: Vec::new(),
                context: row.get(4)?,
                body: row.get(5)?,
                language: indexed_language(language.as_deref()),
            };
            Ok((row.get(0)?, row.get::<_, String>(3)?, indexed))
        })?;
        let whole = raw.into_iter();
        whole.map(|(row, section, indexed)| Ok((row, Indexed { section: from_json(&section)?, ..indexed }))).collect()
    }

    pub(crate) fn count_chunks(&self) -> Result<u64> {
        self.connection.query_row("SELECT count(*) FROM chunks", [], |row| row.get(0)).map_err(failed)
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
        let gone = "INSERT OR IGNORE INTO gone SELECT segment, row FROM chunks WHERE id = ? AND segment IS NOT NULL";
        self.run(gone, [chunk.as_str()])?;
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

    /// The chunk at a place as a passage, still without rank and scores, with the other places that say the same.
    pub(crate) fn passage(&self, place: Place) -> Result<Passage> {
        let found = self.passages("segment = ? AND row = ?", params![place.segment, place.row])?;
        let found = found.into_iter().next().ok_or_else(|| failed(rusqlite::Error::QueryReturnedNoRows))?;
        self.with_others(found)
    }

    /// The same of a chunk, by its id.
    pub(crate) fn passage_of(&self, id: &ChunkId) -> Result<Option<Passage>> {
        let found = self.passages("chunks.id = ?", [id.as_str()])?.into_iter().next();
        found.map(|found| self.with_others(found)).transpose()
    }

    fn with_others(&self, (mut passage, same_as): (Passage, Option<ChunkId>)) -> Result<Passage> {
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
}
