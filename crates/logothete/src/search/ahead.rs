//! What was done before a search began, because a search must not wait for services.

use super::rerank::Judgements;
use super::transform::Transforms;
use super::vectors::QueryVectors;

/// What was made of questions, the vectors of queries, if the encoder is a service, and what slow rerankers said of candidates.
#[derive(Default)]
pub(crate) struct Ahead {
    pub transforms: Transforms,
    pub vectors: QueryVectors,
    pub judgements: Judgements,
}
