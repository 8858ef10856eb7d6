//! Facts about a corpus as a whole.

use std::path::PathBuf;

use logothete_core::Result;
use logothete_core::vector::{Distance, IndexKind};
use serde::Serialize;

use crate::opened::Opened;
use crate::storage::{Ann, ChunkDetail, DocumentInfo, FORMAT, FieldInfo, FileKind, Segment, VectorInfo, View};

/// The content of a corpus.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CorpusInfo {
    /// The folder; empty for a corpus in memory.
    pub corpus: PathBuf,
    /// The version of the format on disk.
    pub format: u32,
    /// The name of the encoder.
    pub encoder: String,
    /// The dimensions of the vectors.
    pub dimensions: usize,
    /// The distance between vectors.
    pub distance: Distance,
    /// The number of chunks.
    pub chunks: u64,
    /// The number of chunks that repeat another. Only what such a chunk adds is indexed.
    pub repeated: u64,
    /// The size of the catalogue.
    pub catalogue_bytes: u64,
    /// The size of the indexes.
    pub index_bytes: u64,
    /// The number of corpora of other pipelines that were built to be compared with it.
    pub variants: u64,
    /// The size of these.
    pub variant_bytes: u64,
    /// The number of rows of the indexes.
    pub rows: u64,
    /// The number of rows that belong to no chunk. They are dropped when segments are merged.
    pub dead_rows: u64,
    /// The size of the cache of replies and vectors.
    pub cache_bytes: u64,
    /// The number of different terms, counted in each segment.
    pub terms: u64,
    /// The number of tokens whose vectors are indexed; 0 unless `[index] tokens` is set.
    pub tokens: u64,
    /// The size of the indexes of tokens.
    pub token_bytes: u64,
    /// The segments of the indexes.
    pub segments: Vec<SegmentInfo>,
    /// The fields of the documents' metadata.
    pub fields: Vec<FieldInfo>,
    /// The locations that documents come from.
    pub sources: Vec<PathBuf>,
    /// The documents, by name.
    pub documents: Vec<DocumentInfo>,
}

/// A segment of the indexes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct SegmentInfo {
    /// The number of rows.
    pub rows: u64,
    /// The number of rows that belong to a chunk.
    pub live: u64,
    /// The vector index.
    pub index: IndexKind,
    /// The number of different terms.
    pub terms: u64,
    /// The number of tokens whose vectors are indexed.
    pub tokens: u64,
}

impl SegmentInfo {
    fn of(segment: &Segment) -> Self {
        let index = match &segment.ann {
            Ann::Scan => IndexKind::Exact,
            Ann::Graph(_) => IndexKind::Graph,
            Ann::Lists(_) => IndexKind::Lists,
        };
        Self {
            rows: segment.entry.files.rows.into(),
            live: segment.entry.live.len().into(),
            index,
            terms: segment.keywords.terms().into(),
            tokens: segment.tokens.as_ref().map_or(0, |tokens| tokens.tokens() as u64),
        }
    }
}

impl Opened {
    /// Returns the content of the corpus in a view.
    pub(crate) fn info(&self, view: &View) -> Result<CorpusInfo> {
        let documents = view.document_infos()?;
        let catalogue = view.catalogue();
        let segments: Vec<SegmentInfo> = view.snapshot.segments.iter().map(SegmentInfo::of).collect();
        let sum = |number: fn(&SegmentInfo) -> u64| segments.iter().map(number).sum::<u64>();
        let names = view.snapshot.segments.iter().flat_map(|segment| segment.entry.files.names.values());
        let token_files = view.snapshot.segments.iter().map(|segment| segment.entry.files.name(FileKind::Tokens));
        let token_files = token_files.filter(|name| !name.is_empty());
        let counts = catalogue.counts()?;
        let (variants, variant_bytes) = self.storage.variants();
        Ok(CorpusInfo {
            corpus: self.storage.folder.clone().unwrap_or_default(),
            format: FORMAT,
            encoder: self.encoder.name(),
            dimensions: self.encoder.dimensions(),
            distance: self.config().index.distance,
            chunks: counts.chunks,
            repeated: counts.duplicates,
            catalogue_bytes: catalogue.bytes(),
            index_bytes: self.storage.file_bytes(&names.map(String::as_str).collect::<Vec<_>>()),
            cache_bytes: self.storage.cache.bytes(),
            variants,
            variant_bytes,
            rows: sum(|segment| segment.rows),
            dead_rows: sum(|segment| segment.rows - segment.live),
            terms: sum(|segment| segment.terms),
            tokens: sum(|segment| segment.tokens),
            token_bytes: self.storage.file_bytes(&token_files.collect::<Vec<_>>()),
            segments,
            fields: catalogue.fields()?,
            sources: catalogue.sources()?.into_iter().map(|source| source.location.into()).collect(),
            documents,
        })
    }

    /// Returns a chunk, by its id or the beginning of it.
    pub(crate) fn chunk_detail(view: &View, id: &str) -> Result<ChunkDetail> {
        let (mut detail, row) = view.catalogue().chunk_detail(id)?;
        detail.vector = row.and_then(|row| view.snapshot.vector(row)).map(|vector| VectorInfo::of(&vector));
        Ok(detail)
    }
}
