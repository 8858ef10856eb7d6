//! Services that are called over HTTP, within the allow list.

mod embeddings;
pub(crate) mod net;
mod post;

pub use embeddings::RemoteEncoder;
