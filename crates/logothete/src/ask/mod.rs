//! Asking: legs → fusion → passages → the sentences that answer → their check.

mod answer;
mod fields;
mod find;
mod request;
mod scope;

pub(crate) use answer::ask;
pub(crate) use find::search;
pub use find::{Misspelt, SearchResult};
pub use request::SearchRequest;
