//! Documents with their blocks, and what tells whether they have changed.

use std::borrow::Cow;

use logothete_core::Result;
use logothete_core::document::{
    Block, BlockKind, Date, Document, Furniture, LineBox, Link, Moment, PageArea, RecognisedWord, Table,
};
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use super::{Catalogue, failed, from_json, span, to_json};

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
    pub inode: Option<i64>,
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
    /// The number of the file, as the catalogue keeps it.
    pub inode: Option<i64>,
    pub seen: i64,
    pub hash: String,
}

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

impl Catalogue {
    const KNOWN: &str =
        "SELECT documents.id, sources.name || '/' || path, path, documents.name, size, modified, seen, hash, parser,
                         chunker, inode FROM main.documents JOIN sources ON sources.id = source";

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
            inode: row.get(10)?,
        })
    }

    /// The documents of a source.
    pub(crate) fn known_in(&self, source: i64) -> Result<Vec<Known>> {
        self.rows(&format!("{} WHERE source = ? ORDER BY path", Self::KNOWN), [source], Self::known)
    }

    /// The document at a path of a source.
    pub(crate) fn known_at(&self, source: i64, path: &str) -> Result<Option<Known>> {
        let sql = format!("{} WHERE source = ? AND path = ?", Self::KNOWN);
        self.one(&sql, params![source, path], Self::known)
    }

    /// The document of a name.
    pub(crate) fn known_by_name(&self, name: &str) -> Result<Option<Known>> {
        let sql = format!("{} WHERE documents.name = ?", Self::KNOWN);
        self.one(&sql, [name], Self::known)
    }

    /// A document that was read from the same content by the same parser.
    pub(crate) fn known_by_content(&self, hash: &str, parser: &str) -> Result<Option<Known>> {
        let sql = format!("{} WHERE hash = ? AND parser = ? LIMIT 1", Self::KNOWN);
        self.one(&sql, [hash, parser], Self::known)
    }

    /// Where the source of a document is.
    pub(crate) fn location_of(&self, document: i64) -> Result<String> {
        let sql = "SELECT location FROM main.documents JOIN sources ON sources.id = source WHERE documents.id = ?";
        self.connection.query_row(sql, [document], |row| row.get(0)).map_err(failed)
    }

    /// Whether there are no documents.
    pub(crate) fn is_empty(&self) -> Result<bool> {
        let sql = "SELECT NOT EXISTS (SELECT 1 FROM main.documents)";
        self.connection.query_row(sql, [], |row| row.get(0)).map_err(failed)
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

    /// The documents, of any source, that another chunker cut. Chunks that were given are not cut.
    pub(crate) fn known_cut_otherwise(&self, chunker: &str) -> Result<Vec<Known>> {
        self.rows(
            &format!("{} WHERE chunker NOT IN (?, 'given') ORDER BY documents.id", Self::KNOWN),
            [chunker],
            Self::known,
        )
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
            "UPDATE documents SET modified = ?, inode = ?, seen = ?, metadata = json_set(metadata, '$.modified', ?) WHERE id = ?",
            params![state.modified, state.inode, state.seen, written, id],
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
             text, pages, layout, metadata, warnings, inode) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
}
