//! Searching: requests, legs, filters, and the passages that come out.

mod diversity;
mod fields;
mod find;
mod legs;
mod request;
mod rerank;
mod scope;
mod vectors;

pub use find::SearchResult;
pub(crate) use find::{Found, Searcher, search_all};
pub use logothete_core::search::*;
pub use request::SearchRequest;
pub(crate) use vectors::{QueryVectors, texts_of};
