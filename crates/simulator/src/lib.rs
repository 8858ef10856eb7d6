//! Stand-ins for the models that Logothete works with. They run in the same process, do as they are told, and write down
//! what they were asked: for tests, for examples, and to try a pipeline before a model is paid for. [`EmbeddingService`]
//! answers over HTTP, on a port of this machine.
//!
//! ```
//! use logothete::{ChunkConfig, ChunkContext, MemorySource, Pipeline};
//! use logothete::BuildRequest;
//! use logothete_simulator::ScriptedGenerator;
//!
//! # tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(async {
//! # let folder = tempfile::tempdir().expect("a folder");
//! let generator = ScriptedGenerator::contexts();
//! let config = ChunkConfig { context: ChunkContext::Generated, ..ChunkConfig::default() };
//! let pipeline = Pipeline::default().with_chunk_config(config).with_generator(generator.clone());
//! let mut corpus = pipeline.open(folder.path().join("lights.corpus")).await?;
//! let source = MemorySource::new("lights").with("orla.md", "# Orla Light\n\nIt has two keepers.");
//! let report = corpus.build(BuildRequest::default().source(source)).await?;
//! assert_eq!((report.contexts, generator.asked().len()), (1, 1));
//! # Ok::<(), logothete::Error>(())
//! # }).expect("it builds");
//! ```

mod embeddings;
mod generator;

pub use embeddings::{EmbeddingFault, EmbeddingRequest, EmbeddingService};
pub use generator::{Fault, ScriptedGenerator, part};
