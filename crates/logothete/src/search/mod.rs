//! Searching: requests, legs, filters, and the passages that come out.

mod expand;
mod expect;
mod fields;
mod find;
mod language;
mod legs;
mod request;
mod rerank;
mod reranker;
mod scope;
mod vectors;
mod wording;

pub use expect::{Expected, LostAt};
pub use find::SearchResult;
pub(crate) use find::{Found, Searcher, search_all};
pub use legs::{Leg, LegHit, LegQuestion};
pub use logothete_core::search::*;
pub use request::SearchRequest;
pub use reranker::Reranker;
pub(crate) use vectors::{QueryVectors, texts_of};
