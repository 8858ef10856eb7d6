//! Stand-ins for the models that Logothete works with. They run in the same process, follow a script, and record what they
//! were asked: for tests, for examples, and to try a pipeline before paying for a model. [`EmbeddingService`], [`RerankService`] and
//! [`ModelService`] respond over HTTP, on a port of this machine. The program of this crate is such a service too.
//!
//! ```
//! use logothete::config::ChunkContext;
//! use logothete::{BuildRequest, MemorySource, Pipeline};
//! use logothete_simulator::ScriptedGenerator;
//!
//! # tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(async {
//! # let folder = tempfile::tempdir().expect("a folder");
//! let generator = ScriptedGenerator::contexts();
//! let pipeline = Pipeline::default().configured(|config| config.chunk.context = ChunkContext::Generated);
//! let pipeline = pipeline.with_generator(generator.clone());
//! let corpus = pipeline.open(folder.path().join("lights.corpus")).await?;
//! let source = MemorySource::new("lights").with("orla.md", "# Orla Light\n\nIt has two keepers.");
//! let report = corpus.build(BuildRequest::default().source(source)).await?;
//! assert_eq!((report.contexts, generator.asked().len()), (1, 1));
//! # Ok::<(), logothete::Error>(())
//! # }).expect("it builds");
//! ```

mod embeddings;
mod generator;
mod http;
mod model;
mod reranker;
mod writer;

pub use embeddings::{EmbeddingFault, EmbeddingRequest, EmbeddingService};
pub use generator::{Fault, ScriptedGenerator, part};
pub use model::{ModelFault, ModelRequest, ModelService};
pub use reranker::{RerankFault, RerankRequest, RerankService};
pub use writer::{WritingFault, reply_to};
