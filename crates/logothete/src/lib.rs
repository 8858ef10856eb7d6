//! From a folder of documents to answers that cite their pages, on your own machine.
//!
//! ```no_run
//! use logothete::Pipeline;
//!
//! # async fn run() -> logothete::Result<()> {
//! let mut corpus = Pipeline::default().open("harbour.corpus").await?;
//! corpus.build("demo/documents").await?;
//! let answer = corpus.ask("What draught may enter the north channel at low water?").await?;
//! println!("{answer}");
//! # Ok(())
//! # }
//! ```
//!
//! A [`Pipeline`] says how documents are cut and encoded and how passages are found. Opened on a folder it gives a
//! [`Corpus`], which is built, searched and asked. Every value in between ([`Document`](document::Document),
//! [`Chunk`](chunk::Chunk), [`Passage`](search::Passage), [`Answer`](cite::Answer)) is plain, can be printed and written
//! as JSON, and every stage can be called alone: see [`parse`], [`chunk`], [`search`], [`cite`], [`measure`].
//!
//! Computation runs on threads of the pipeline's own, never on those of the async runtime. Nothing is sent anywhere.

mod ask;
mod build;
mod chunking;
mod config;
mod corpus;
mod evaluate;
mod generate;
mod handle;
#[cfg(feature = "http")]
mod net;
mod pipeline;
mod pool;
mod recognise;
#[cfg(feature = "http")]
mod remote;
mod source;
mod trace;

/// The name of the threads that compute, so that a panic in one can be told from a panic elsewhere.
pub use pool::THREAD_NAME as WORKER_THREAD;

pub use build::{
    BuildReport, BuildRequest, DocumentEstimate, Estimate, Failure, Forgotten, Given, OwnChunk, Progress, PruneNeeded,
    Stage, StopToken,
};
pub use config::{
    ChunkConfig, ChunkContext, ChunkUnit, Config, EncoderConfig, EncoderKind, IndexConfig, Ocr, Settings, Strategy,
    pages,
};
pub use corpus::{
    ChunkDetail, ChunkInfo, CorpusInfo, DocumentDetail, DocumentInfo, FieldInfo, IndexKind, SegmentInfo, VectorInfo,
};
pub use generate::{Generated, Generator};
pub use handle::Corpus;
pub use logothete_core::{
    Error, ErrorKind, Fingerprint, Result, chunk, cite, document, keyword, measure, prompt, search, text, vector,
};
pub use logothete_encoder::{FolderSettings, Hashing, Pooling, Precision, SentenceEncoder};
pub use logothete_parse::{
    ParseSettings, Parsers, area_picture, block_colour, outlined_page, page_picture, parse, png,
};
pub use pipeline::Pipeline;
pub use recognise::Tesseract;
#[cfg(feature = "http")]
pub use remote::RemoteEncoder;
#[cfg(feature = "http")]
pub use source::WebSource;
pub use source::{BoxFuture, Content, FolderSource, Item, Items, MemorySource, Source};

/// What a search found.
pub use ask::{Misspelt, SearchRequest, SearchResult};
