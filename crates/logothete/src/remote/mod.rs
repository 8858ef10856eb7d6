//! Services that are called over HTTP, within the allow list.

mod chat;
mod embeddings;
pub(crate) mod net;
mod post;
mod rerank;

pub use chat::RemoteGenerator;
pub use embeddings::RemoteEncoder;
pub use rerank::RemoteReranker;
