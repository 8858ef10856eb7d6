//! What a corpus tells of itself: all of it, a document, a chunk.

use std::path::PathBuf;

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::document::{Metadata, Pages, Span};
use logothete_core::vector::Distance;
use serde::Serialize;

use super::near::IndexKind;
use super::snapshot::{Near, Segment};
use super::{Inner, catalogue};

/// What a corpus holds.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct CorpusInfo {
    /// Its folder.
    pub corpus: PathBuf,
    /// The version of its format.
    pub format: u32,
    /// Its encoder.
    pub encoder: String,
    /// The length of its vectors.
    pub dimensions: usize,
    /// What its vectors are compared by.
    pub distance: Distance,
    /// How many chunks it has.
    pub chunks: u64,
    /// How many of them say what another says, and are not indexed again but for what only they say.
    pub repeated: u64,
    /// The bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// The bytes of the indexes.
    pub index_bytes: u64,
    /// How many rows the indexes have.
    pub rows: u64,
    /// How many of them belong to no chunk any more; they go when segments are merged.
    pub dead_rows: u64,
    /// The bytes of what generators wrote and encoders made.
    pub cache_bytes: u64,
    /// The different terms of the keyword index, counted in each segment.
    pub terms: u64,
    /// The parts of the indexes.
    pub segments: Vec<SegmentInfo>,
    /// The fields of the documents' metadata.
    pub fields: Vec<FieldInfo>,
    /// Where its documents come from.
    pub sources: Vec<PathBuf>,
    /// Its documents by name.
    pub documents: Vec<DocumentInfo>,
}

/// A part of the indexes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SegmentInfo {
    /// How many rows it has.
    pub rows: u64,
    /// How many of them belong to a chunk.
    pub live: u64,
    /// How its vectors are searched.
    pub index: IndexKind,
    /// How many different terms it has.
    pub terms: u64,
}

impl SegmentInfo {
    fn of(segment: &Segment) -> Self {
        let index = match &segment.near {
            Near::Scan => IndexKind::Exact,
            Near::Graph(_) => IndexKind::Graph,
            Near::Lists(_) => IndexKind::Lists,
        };
        Self {
            rows: segment.entry.files.rows.into(),
            live: segment.entry.live.len().into(),
            index,
            terms: segment.keywords.terms().into(),
        }
    }
}

/// What a corpus holds of one document.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct DocumentInfo {
    /// Its name.
    pub document: String,
    /// Its title.
    pub title: Option<String>,
    /// Its media type.
    pub media_type: String,
    /// How many pages it has; 0 for none.
    pub pages: u32,
    /// The length of its text in bytes.
    pub text_bytes: u64,
    /// How many chunks it has.
    pub chunks: u64,
    /// What could not be read of it.
    pub warnings: Vec<String>,
}

/// A field of the documents' metadata.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FieldInfo {
    /// Its name.
    pub name: String,
    /// The type of its values: flag, number, date or text. A field with several types is there once for each.
    #[serde(rename = "type")]
    pub kind: String,
    /// How many documents have it.
    pub documents: u64,
}

/// A document with its chunks.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct DocumentDetail {
    /// What is told of every document.
    #[serde(flatten)]
    pub info: DocumentInfo,
    /// Its date, from its metadata.
    pub date: Option<String>,
    /// What is known about it.
    pub metadata: Metadata,
    /// Its chunks, in their order.
    #[serde(rename = "chunk_list")]
    pub chunks: Vec<ChunkInfo>,
}

/// A chunk in the list of a document.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ChunkInfo {
    /// Its id.
    pub chunk: ChunkId,
    /// Where it is in the document's text.
    pub span: Span,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// How many words it has.
    pub size: u64,
    /// The chunk that says the same.
    pub same_as: Option<ChunkId>,
}

/// A chunk with all that is kept of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ChunkDetail {
    /// Its id.
    pub chunk: ChunkId,
    /// The name of its document.
    pub document: String,
    /// The title of its document.
    pub title: Option<String>,
    /// The date of its document.
    pub date: Option<String>,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Where it is in its document's text.
    pub span: Span,
    /// Its text.
    pub text: String,
    /// What helps to find it and is not its text.
    pub context: String,
    /// What is indexed of it where that is not all: what no other chunk says.
    pub indexed: Option<String>,
    /// The chunk that says the same.
    pub same_as: Option<ChunkId>,
    /// The metadata of its document.
    pub metadata: Metadata,
    /// Its vector; nothing when the other chunk says all that it says.
    pub vector: Option<VectorInfo>,
}

/// What a vector looks like.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct VectorInfo {
    /// How many numbers it has.
    pub dimensions: usize,
    /// How long it is.
    pub length: f32,
    /// Its first numbers.
    pub first: Vec<f32>,
}

impl VectorInfo {
    /// How many numbers are shown.
    const FIRST: usize = 8;

    fn of(vector: &[f32]) -> Self {
        let length = vector.iter().map(|number| number * number).sum::<f32>().sqrt();
        Self { dimensions: vector.len(), length, first: vector.iter().take(Self::FIRST).copied().collect() }
    }
}

impl Inner {
    /// What the corpus holds.
    pub(crate) fn info(&self) -> Result<CorpusInfo> {
        let view = self.view()?;
        let catalogue = view.catalogue();
        let encoder = &self.pipeline.encoder;
        let folder = self.folder.clone().unwrap_or_default();
        let bytes = |name: &str| std::fs::metadata(folder.join(name)).map_or(0, |data| data.len());
        let segments: Vec<SegmentInfo> = view.snapshot.segments.iter().map(SegmentInfo::of).collect();
        let sum = |number: fn(&SegmentInfo) -> u64| segments.iter().map(number).sum::<u64>();
        Ok(CorpusInfo {
            corpus: folder.clone(),
            format: catalogue::FORMAT,
            encoder: encoder.name(),
            dimensions: encoder.dimensions(),
            distance: self.pipeline.settings.distance,
            chunks: catalogue.count_chunks()?,
            repeated: catalogue.count_repeated()?,
            catalogue_bytes: bytes("corpus.db") + bytes("corpus.db-wal"),
            index_bytes: self
                .store
                .bytes(view.snapshot.segments.iter().flat_map(|segment| segment.entry.files.names())),
            cache_bytes: self.cache.bytes(),
            rows: sum(|segment| segment.rows),
            dead_rows: sum(|segment| segment.rows - segment.live),
            terms: sum(|segment| segment.terms),
            segments,
            fields: catalogue.fields()?,
            sources: catalogue.sources()?.into_iter().map(|source| source.location.into()).collect(),
            documents: catalogue.document_infos()?,
        })
    }

    /// A document, by its name.
    pub(crate) fn document_detail(&self, name: &str) -> Result<DocumentDetail> {
        self.view()?.catalogue().document_detail(name)
    }

    /// A chunk, by its id or the beginning of it.
    pub(crate) fn chunk_detail(&self, id: &str) -> Result<ChunkDetail> {
        let view = self.view()?;
        let (mut detail, place) = view.catalogue().chunk_detail(id)?;
        detail.vector = place.and_then(|place| view.snapshot.vector(place)).map(|vector| VectorInfo::of(&vector));
        Ok(detail)
    }
}
