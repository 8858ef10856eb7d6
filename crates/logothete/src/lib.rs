//! From a folder of documents to answers that cite their pages, on your own machine.
//!
//! ```no_run
//! use logothete::Pipeline;
//!
//! # async fn run() -> logothete::Result<()> {
//! let corpus = Pipeline::default().open("harbour.corpus").await?;
//! corpus.build("demo/documents").await?;
//! let reply = corpus.ask("What draught may enter the north channel at low water?").await?;
//! println!("{reply}");
//! # Ok(())
//! # }
//! ```
//!
//! A [`Pipeline`] says how documents are cut and encoded, and how passages are found. Opened on a folder it returns a [`Corpus`],
//! which is built, searched and asked. A `Corpus` is cheap to clone and may be used by many tasks at a time.
//!
//! Every value in between is plain data that can be printed and written as JSON: [`Document`](document::Document),
//! [`Chunk`](chunk::Chunk), [`Passage`](search::Passage), [`Answer`](answer::Answer). Every stage can be called alone: see
//! [`parse`], [`chunk`], [`search`], [`evidence`], [`verify`] and [`eval`].
//!
//! Computation runs on threads of the corpus, never on those of the async runtime. Nothing is sent anywhere by default.

pub mod answer;
mod checking;
pub mod config;
pub mod contract;
pub mod conversation;
pub mod corpus;
pub mod digest;
mod evaluation;
pub mod generate;
mod ingest;
mod maintenance;
mod opened;
mod pipeline;
mod reading;
#[cfg(feature = "http")]
mod remote;
pub mod routing;
pub mod search;
pub mod source;
mod spending;
mod storage;
mod threads;
pub mod trace;
pub mod tree;

/// A future that any thread may run.
pub type BoxFuture<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

pub use answer::Reply;
pub use checking::{Check, CheckReport, CheckedClaim, ClaimPair, ClaimToCheck, Objection, PairCheck, pair_measures};
pub use config::Config;
pub use conversation::Conversation;
pub use corpus::{AskBatch, BatchProgress, BatchReport, Corpus};
pub use digest::DigestReport;
pub use generate::{CommandGenerator, Generator};
pub use ingest::{
    BuildReport, BuildRequest, DocumentEstimate, Estimate, Failure, OwnChunk, Progress, PruneNeeded, Stage, Upsert,
};
pub use logothete_core::{
    Error, ErrorKind, Fingerprint, Result, TokenUsage, chunk, document, eval, evidence, keyword, prompt, quantity,
    query, suggest, table, text, vector, verify,
};
pub use logothete_encoder::{CrossEncoder, FolderSettings, Hashing, Pooling, Precision, SentenceEncoder};
pub use logothete_parse::{
    ParseSettings, Parsers, area_picture, block_colour, outlined_page, page_picture, parse, png,
};
pub use maintenance::Forgotten;
pub use pipeline::{Journey, Pipeline, PipelineDescription, StageDescription, Tesseract, write_templates};
pub use reading::{Drawing, Drawn, serve_reader};
#[cfg(feature = "http")]
pub use remote::{RemoteEncoder, RemoteGenerator, RemoteReranker};
pub use search::{SearchRequest, SearchResult};
#[cfg(feature = "http")]
pub use source::WebSource;
pub use source::{FolderSource, MemorySource, Source};
pub use threads::StopToken;
/// The name of the threads that compute, so that a panic in one can be told from a panic elsewhere.
pub use threads::THREAD_NAME as WORKER_THREAD;
