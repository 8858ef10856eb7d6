//! Asking: legs → fusion → passages → the sentences that answer → their check.

mod answer;
mod find;

pub(crate) use answer::ask;
pub use find::SearchResult;
pub(crate) use find::search;
