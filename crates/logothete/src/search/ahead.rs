//! What services said before a search began, because a search must not wait for them.

use super::rerank::Judgements;
use super::vectors::QueryVectors;

/// The vectors of queries, if the encoder is a service, and what slow rerankers said of candidates.
#[derive(Default)]
pub(crate) struct Ahead {
    pub vectors: QueryVectors,
    pub judgements: Judgements,
}
