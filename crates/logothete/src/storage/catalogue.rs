//! The catalogue of a corpus: the values that it holds, and what a backend must do with them.
//!
//! Every operation works on a set: a backend that is reached over a network pays one round trip for a window of documents, and
//! not one for each row.

use std::collections::{BTreeMap, HashMap, HashSet};

use logothete_core::Result;
use logothete_core::chunk::{Chunk, ChunkId, indexed_text};
use logothete_core::document::{Document, Location, Metadata, Pages, Span};
use logothete_core::keyword::{ContextParts, KeywordWriter};
use logothete_core::search::{DocumentFacts, Passage, Surroundings};
use logothete_core::segment::RowSet;
use logothete_core::text::Language;
use serde_json::{Map, Value};

use super::PlacedRow;
use super::describe::{ChunkDetail, DocumentDetail, DocumentInfo, FieldInfo, Section};

/// A row of a segment: where a chunk's vector and terms are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct RowId {
    pub segment: i64,
    pub row: u32,
}

/// How a chunk is indexed.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct IndexEntry {
    /// The chunk that says the same, or nearly the same.
    pub duplicate_of: Option<ChunkId>,
    /// The text that is indexed; `None` means all of it.
    pub indexed: Option<String>,
    /// The row; `None` if the other chunk says everything that this one says.
    pub row: Option<RowId>,
    /// Hashes by which chunks that say the same are found.
    pub sketch: Vec<u64>,
}

/// The text and the fields by which a row is indexed.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Indexed {
    /// The name of the document.
    pub document: String,
    pub title: Option<String>,
    pub section: Vec<String>,
    pub context: String,
    pub body: String,
    pub language: Option<Language>,
}

impl Indexed {
    /// Returns the text that an encoder reads.
    pub(crate) fn text(&self) -> String {
        indexed_text(&self.context, &self.body)
    }

    /// Adds a row to a keyword index.
    pub(crate) fn write(&self, writer: &mut KeywordWriter) {
        let parts = ContextParts::new(self.title.as_deref(), &self.section, &self.context);
        writer.push(&parts.fields(&self.body), self.language);
    }
}

/// Returns the language of a document, from its metadata. A text that is too short for a decision counts as English.
pub(crate) fn indexed_language(tag: Option<&str>) -> Option<Language> {
    tag.map_or(Some(Language::English), Language::from_tag)
}

/// The facts about a document besides its text: enough to recognise a change.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct KnownDocument {
    pub id: i64,
    /// The name of the source and the path in it. The ids of the chunks depend on it.
    pub identity: String,
    pub path: String,
    pub name: String,
    /// The location of the source.
    pub location: String,
    pub size: u64,
    pub modified: i64,
    pub inode: Option<i64>,
    pub seen: i64,
    pub hash: String,
    pub parser: String,
    pub chunker: String,
    /// The metadata that the source and the build gave, as JSON.
    pub given: String,
}

/// Which documents to look up.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Which<'a> {
    /// All documents of a source.
    In(i64),
    /// The documents at some paths of a source.
    At(i64, &'a [&'a str]),
    /// The documents with some names.
    Named(&'a [&'a str]),
    /// The documents that a parser read from files with some hashes.
    WithContent(&'a [&'a str], &'a str),
    /// The documents of any source that another chunker cut. Chunks that were upserted are not cut.
    NotCutBy(&'a str),
}

/// The state of a file when it was read. Times are nanoseconds since 1970.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct FileState {
    pub size: u64,
    pub modified: i64,
    pub inode: Option<i64>,
    pub seen: i64,
    pub hash: String,
}

/// The chunker of a document that was upserted as a single chunk.
pub(crate) const UPSERTED: &str = "given";

/// The kind of a file of a segment. A new kind of index is a new kind of file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum FileKind {
    Vectors,
    Keywords,
    Graph,
    Lists,
    Tokens,
    /// The tree of summaries, which is of all segments.
    Tree,
}

impl FileKind {
    /// The kinds of the files of a segment.
    pub(crate) const ALL: [Self; 5] = [Self::Vectors, Self::Keywords, Self::Graph, Self::Lists, Self::Tokens];

    /// Returns the name in the catalogue, and the extension of the file.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Vectors => "vectors",
            Self::Keywords => "keywords",
            Self::Graph => "graph",
            Self::Lists => "lists",
            Self::Tokens => "tokens",
            Self::Tree => "tree",
        }
    }
}

/// The files of a segment, by kind.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct SegmentFiles {
    pub rows: u32,
    pub names: BTreeMap<FileKind, String>,
}

impl SegmentFiles {
    /// Returns the name of a file; empty if the segment has none of this kind.
    pub(crate) fn name(&self, kind: FileKind) -> &str {
        self.names.get(&kind).map_or("", String::as_str)
    }

    /// Returns the approximate index over the vectors, if there is one.
    pub(crate) fn ann(&self) -> Option<(FileKind, &str)> {
        let found = [FileKind::Graph, FileKind::Lists].into_iter().find_map(|kind| self.names.get_key_value(&kind));
        found.map(|(kind, name)| (*kind, name.as_str()))
    }

    /// Returns the same files with another approximate index, or none.
    pub(crate) fn with_ann(&self, ann: Option<(FileKind, String)>) -> Self {
        let mut files = self.clone();
        files.names.retain(|kind, _| !matches!(kind, FileKind::Graph | FileKind::Lists));
        files.names.extend(ann);
        files
    }

    /// Returns the same files without one of a kind.
    pub(crate) fn without(&self, kind: FileKind) -> Self {
        let mut files = self.clone();
        files.names.remove(&kind);
        files
    }

    /// Returns the same files with another one of a kind.
    pub(crate) fn with(&self, kind: FileKind, name: String) -> Self {
        let mut files = self.clone();
        files.names.insert(kind, name);
        files
    }
}

/// A segment as the catalogue names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SegmentEntry {
    pub id: i64,
    pub files: SegmentFiles,
    /// The rows that belong to a chunk.
    pub live: RowSet,
}

/// A source as the catalogue names it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct SourceEntry {
    pub id: i64,
    pub name: String,
    pub location: String,
    /// Whether the whole source was requested, and not single files of it.
    pub whole: bool,
}

/// The encoder of the vectors.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct EncoderIdentity {
    pub fingerprint: String,
    pub name: String,
    pub dimensions: usize,
}

/// The facts about a corpus.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Manifest {
    /// The number of the last commit.
    pub commit: i64,
    pub encoder: Option<EncoderIdentity>,
    /// The name of the distance; `None` for a corpus of a time when there was only one.
    pub distance: Option<String>,
}

/// The number of chunks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Counts {
    pub chunks: u64,
    /// Chunks that say what another says, all or in part.
    pub duplicates: u64,
}

/// The document that a chunk belongs to.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct ChunkOwner {
    pub document: String,
    pub chunker: String,
    pub language: Option<Language>,
}

/// The facts about a document that filters use.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct DocumentRecord {
    pub title: Option<String>,
    pub media_type: String,
    pub metadata: Metadata,
}

/// A document to be added, without its chunks.
pub(crate) struct NewDocument<'a> {
    pub source: i64,
    pub path: &'a str,
    pub document: &'a Document,
    pub state: &'a FileState,
    pub parser: &'a str,
    pub chunker: &'a str,
    /// The metadata that the source and the build gave, as JSON.
    pub given: &'a str,
}

/// A chunk to be added.
pub(crate) struct NewChunk<'a> {
    pub document: i64,
    pub ordinal: usize,
    pub chunk: &'a Chunk,
    pub entry: IndexEntry,
}

/// What the rows are wanted of.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum RowsOf {
    Chunk(ChunkId),
    /// All chunks of a document, by its name.
    Document(String),
}

/// The title of a document, the headings of a section of it, and its language.
pub(crate) type SectionHeadings = (Option<String>, Vec<String>, Option<Language>);

/// A consistent view of the catalogue: all calls see the same commit.
///
/// Results are in the order of what was asked for, where that is an order; what is missing is left out.
pub(crate) trait CatalogueReader {
    fn manifest(&self) -> Result<Manifest>;
    fn counts(&self) -> Result<Counts>;
    fn segments(&self) -> Result<Vec<SegmentEntry>>;
    fn sources(&self) -> Result<Vec<SourceEntry>>;
    /// Returns the bytes of the catalogue.
    fn bytes(&self) -> u64;

    fn is_empty(&self) -> Result<bool>;
    /// Returns what is remembered of files that could not be read; `None` if nothing is.
    fn unread(&self) -> Result<Option<String>>;
    /// Returns the name of the file with the tree of summaries; `None` if there is none.
    fn tree(&self) -> Result<Option<String>>;
    fn count_documents(&self, source: i64) -> Result<usize>;
    fn known(&self, which: Which<'_>) -> Result<Vec<KnownDocument>>;
    /// Returns the names among these that documents have.
    fn taken_names(&self, names: &[&str]) -> Result<HashSet<String>>;
    /// Documents as they were parsed.
    fn documents(&self, ids: &[i64]) -> Result<HashMap<i64, Document>>;

    /// Returns the chunks of some rows as passages without rank and scores, with their duplicates.
    fn passages_at(&self, rows: &[RowId]) -> Result<Vec<Passage>>;
    /// Returns some chunks as passages without rank and scores, with their duplicates.
    fn passages_with_duplicates(&self, chunks: &[ChunkId]) -> Result<Vec<Passage>>;
    /// Returns some chunks as passages without rank, scores and duplicates.
    fn passages(&self, chunks: &[ChunkId]) -> Result<Vec<Passage>>;
    /// Chunks that have one of some hashes in their sketch and are no duplicates: up to `max` for each hash and column, with the
    /// documents that they belong to.
    fn similar(&self, hashes: &[u64], max: usize) -> Result<Vec<(ChunkId, i64)>>;
    fn owners(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, ChunkOwner>>;
    /// Returns the chunks of some documents.
    fn chunks_of(&self, documents: &[i64]) -> Result<Vec<ChunkId>>;
    /// Returns the chunks that say what one of some chunks says, with the documents that they belong to.
    fn duplicates_of(&self, chunks: &[ChunkId]) -> Result<Vec<(ChunkId, i64)>>;
    /// Returns the text that an encoder read of each chunk of some documents, with its row.
    fn encoded_texts(&self, documents: &[i64]) -> Result<Vec<(i64, Option<RowId>, String)>>;
    fn indexed(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, Indexed>>;
    /// Returns the rows of a segment from one to another that belong to a chunk, ascending, with what each is indexed by.
    fn indexed_rows(&self, segment: i64, from: u32, to: u32) -> Result<Vec<(u32, Indexed)>>;

    /// Returns the chunk of each of some rows, and the name of its document.
    fn chunks_at(&self, rows: &[RowId]) -> Result<Vec<(ChunkId, String)>>;
    /// Returns every indexed chunk, document by document, in the order of the text.
    fn places(&self) -> Result<Vec<PlacedRow>>;
    /// Returns the rows of some chunks and documents, each with the position of what it is a part of.
    fn rows_of(&self, places: &[RowsOf]) -> Result<Vec<(usize, RowId)>>;
    /// Returns the headings of every section that has an indexed chunk, in the order of [`places`](Self::places).
    fn section_headings(&self) -> Result<Vec<SectionHeadings>>;
    /// Returns the document of some chunks, and what is around each.
    fn surroundings(&self, chunks: &[ChunkId]) -> Result<HashMap<ChunkId, (i64, Surroundings)>>;

    /// Fills in the rectangles, the time and the headings of some locations.
    fn pinpoint(&self, locations: &mut [&mut Location]) -> Result<()>;
    /// Checks the structure of the catalogue, and that each part of it agrees with the others.
    fn verify(&self) -> Result<()>;
    /// Returns the fields of the metadata, by name, with the types of their values.
    fn fields(&self) -> Result<Vec<FieldInfo>>;
    fn records(&self, names: &[&str]) -> Result<HashMap<String, DocumentRecord>>;
    fn each_document(&self, each: &mut dyn FnMut(i64, &DocumentFacts<'_>)) -> Result<()>;
    /// Calls a function with the rows of the chunks of some documents, and of the chunks that stand for them.
    fn each_row(&self, documents: &[i64], each: &mut dyn FnMut(RowFacts<'_>)) -> Result<()>;

    fn document_infos(&self) -> Result<Vec<DocumentInfo>>;
    /// Returns the id of the document with a name.
    fn known_id(&self, name: &str) -> Result<Option<i64>>;
    /// Returns the text of a document at a span; `None` if the span does not lie on character boundaries inside it.
    fn text(&self, name: &str, span: Span) -> Result<Option<String>>;
    /// Returns the section that a chunk was cut from.
    fn section(&self, chunk: &ChunkId) -> Result<Option<Section>>;
    /// Returns a document with its chunks.
    fn document_detail(&self, name: &str) -> Result<DocumentDetail>;
    /// Returns a chunk, by its id or the beginning of it, without its vector, and its row.
    fn chunk_detail(&self, id: &str) -> Result<(ChunkDetail, Option<RowId>)>;
    /// Calls back with each row of a table, column by column, in the order of their keys.
    fn export(&self, table: &str, each: &mut dyn FnMut(Map<String, Value>) -> Result<()>) -> Result<()>;
}

/// The facts about an indexed chunk that filters use.
pub(crate) struct RowFacts<'a> {
    pub document: i64,
    pub row: RowId,
    pub pages: Option<Pages>,
    pub section: &'a [String],
}

/// Changes that happen together or not at all. Dropping it without [`commit`](Self::commit) undoes them.
pub(crate) trait CatalogueTransaction: CatalogueReader {
    fn set_encoder(&self, encoder: &EncoderIdentity) -> Result<()>;
    fn set_distance(&self, name: &str) -> Result<()>;

    /// Remembers files that could not be read.
    fn set_unread(&self, written: &str) -> Result<()>;
    /// Names the file with the tree of summaries; `None` removes it.
    fn set_tree(&self, file: Option<&str>) -> Result<()>;

    fn add_source(&self, name: &str, location: &str, whole: bool) -> Result<i64>;
    fn make_source_whole(&self, id: i64) -> Result<()>;
    fn insert_documents(&self, documents: &[NewDocument<'_>]) -> Result<Vec<i64>>;
    fn remove_documents(&self, ids: &[i64]) -> Result<()>;
    /// Removes the chunks of some documents, and records the chunker that is about to cut them.
    fn clear_chunks(&self, documents: &[i64], chunker: &str) -> Result<()>;
    /// Notes that files were seen again with the same content.
    fn touch(&self, files: &[(i64, FileState)]) -> Result<()>;
    fn add_chunks(&self, chunks: &[NewChunk<'_>]) -> Result<()>;
    /// Changes how some chunks are indexed.
    fn set_entries(&self, entries: &[(ChunkId, IndexEntry)]) -> Result<()>;

    fn add_segment(&self, files: &SegmentFiles) -> Result<i64>;
    /// Names other files for the rows of some segments.
    fn set_files(&self, segments: &[(i64, SegmentFiles)]) -> Result<()>;
    /// Removes segments whose chunks have moved.
    fn remove_segments(&self, ids: &[i64]) -> Result<()>;
    /// Moves the chunks of a segment's live rows to another segment, where they keep their order from row `first` on.
    fn move_rows(&self, from: &SegmentEntry, to: i64, first: u32) -> Result<()>;
    /// Notes that rows belong to no chunk.
    fn mark_dead(&self, segment: i64, rows: &[u32]) -> Result<()>;

    /// Lets rows refer to others that come later in this transaction.
    fn defer_references(&self) -> Result<()>;
    /// Inserts a row of a table. An unknown column is an error.
    fn import(&self, table: &str, row: &Map<String, Value>) -> Result<()>;
    /// Adds a segment whose rows imported chunks refer to already.
    fn add_segment_as(&self, id: i64, files: &SegmentFiles) -> Result<()>;

    /// Makes the changes visible, and durable.
    ///
    /// # Errors
    /// If another writer has taken over in the meantime.
    fn commit(self: Box<Self>) -> Result<()>;
}

/// A backend of the catalogue.
pub(crate) trait Catalogue: Send + Sync {
    /// Returns the catalogue as it is now. What others commit later is not seen through it.
    fn read(&self) -> Result<Box<dyn CatalogueReader + Send>>;
    /// Begins a change, under a writer's lease with this number.
    fn begin(&self, lease: u64) -> Result<Box<dyn CatalogueTransaction + '_>>;
    /// Numbers a new writer's lease. All leases with lower numbers can commit no more.
    fn next_lease(&self) -> Result<u64>;
    /// Returns `true` if it is read-only.
    fn is_read_only(&self) -> Result<bool>;
    /// Releases what idle readers hold.
    fn release(&self);
    /// Rewrites the catalogue without its free pages, so that nothing that was removed is left in them.
    fn compact(&self) -> Result<()>;
}
