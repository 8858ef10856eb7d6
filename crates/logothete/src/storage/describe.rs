//! Descriptions of the documents and chunks of a corpus.

use logothete_core::chunk::ChunkId;
use logothete_core::document::{Location, Metadata, Pages, Span};
use serde::Serialize;

/// A section of a document.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Section {
    /// The location of the section.
    pub location: Location,
    /// The text of the section, with its heading.
    pub text: String,
}

/// The content of one document.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct DocumentInfo {
    /// The name.
    pub document: String,
    /// The title.
    pub title: Option<String>,
    /// The media type.
    pub media_type: String,
    /// The number of pages; 0 for a document without pages.
    pub pages: u32,
    /// The length of the text in bytes.
    pub text_bytes: u64,
    /// The number of chunks.
    pub chunks: u64,
    /// The warnings of the parser.
    pub warnings: Vec<String>,
}

/// A field of the documents' metadata.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct FieldInfo {
    /// The name.
    pub name: String,
    /// The type of the values: flag, number, date or text. A field with several types is listed once for each.
    #[serde(rename = "type")]
    pub kind: String,
    /// The number of documents that have it.
    pub documents: u64,
}

/// A document with its chunks.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct DocumentDetail {
    /// The summary.
    #[serde(flatten)]
    pub info: DocumentInfo,
    /// The date, from the metadata.
    pub date: Option<String>,
    /// The metadata.
    pub metadata: Metadata,
    /// The chunks, in their order.
    #[serde(rename = "chunk_list")]
    pub chunks: Vec<ChunkInfo>,
}

/// A chunk in the list of a document.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ChunkInfo {
    /// The id.
    pub chunk: ChunkId,
    /// The position in the document's text.
    pub span: Span,
    /// The pages that the chunk touches.
    pub pages: Option<Pages>,
    /// The headings above, outermost first.
    pub section: Vec<String>,
    /// The number of words.
    pub size: u64,
    /// The chunk that says the same.
    #[serde(rename = "same_as")]
    pub duplicate_of: Option<ChunkId>,
}

/// A chunk with all that a corpus holds of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ChunkDetail {
    /// The id.
    pub chunk: ChunkId,
    /// The location of the chunk.
    #[serde(flatten)]
    pub location: Location,
    /// The text.
    pub text: String,
    /// Text that helps to find the chunk and is not part of its text.
    pub context: String,
    /// The part of the text that is indexed; `None` means all of it.
    pub indexed: Option<String>,
    /// The chunk that says the same.
    #[serde(rename = "same_as")]
    pub duplicate_of: Option<ChunkId>,
    /// The metadata of the document.
    pub metadata: Metadata,
    /// The vector; `None` if the other chunk says everything that this one says.
    pub vector: Option<VectorInfo>,
}

/// A summary of a vector.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct VectorInfo {
    /// The number of dimensions.
    pub dimensions: usize,
    /// The Euclidean length.
    pub length: f32,
    /// The first numbers.
    pub first: Vec<f32>,
}

impl VectorInfo {
    /// The number of components that are shown.
    const SHOWN: usize = 8;

    pub(crate) fn of(vector: &[f32]) -> Self {
        let length = vector.iter().map(|number| number * number).sum::<f32>().sqrt();
        Self { dimensions: vector.len(), length, first: vector.iter().take(Self::SHOWN).copied().collect() }
    }
}
