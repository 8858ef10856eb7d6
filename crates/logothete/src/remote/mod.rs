//! Models that run elsewhere, spoken to in JSON over HTTP.

mod embeddings;
mod post;

pub use embeddings::RemoteEncoder;
