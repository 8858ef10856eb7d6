//! Searching: requests, legs, filters, and the passages that come out.

mod ahead;
mod alike;
mod expand;
mod expect;
mod fields;
mod find;
mod language;
mod legs;
mod request;
mod rerank;
mod scope;
mod transform;
mod vectors;
mod whole;
mod wording;

pub(crate) use ahead::Ahead;
pub(crate) use alike::alike_words;
pub use expect::{Expected, LostAt};
pub use find::SearchResult;
pub(crate) use find::{Found, Searcher, search_all};
pub use legs::{Leg, LegHit, LegQuestion};
pub use logothete_core::search::*;
pub use request::SearchRequest;
pub(crate) use rerank::Judgements;
pub use rerank::Reranker;
pub use transform::Transform;
pub(crate) use transform::{Transformed, Transforms, made_by_own};
pub(crate) use vectors::{QueryVectors, texts_of};
