//! Vectors: the encoder traits, segments of rows, the exact search over them, and two approximate indexes: a graph ([`AnnGraph`])
//! and inverted lists ([`IvfLists`]). [`TokenIndex`] has a vector for each token, for late interaction.

mod ann;
mod code_scorer;
mod codes;
mod distance;
mod encoder;
mod exact;
mod ivf;
mod kernel;
mod kind;
pub(crate) mod means;
mod rows;
mod segment;
mod tokens;

pub use ann::{AnnGraph, write_ann_graph};
pub use distance::Distance;
pub use encoder::{Encoder, Role, TokenEncoder, Vectors};
pub use ivf::{IvfLists, write_ivf_lists};
pub use kind::IndexKind;
pub use segment::{VectorIndex, merge_vectors, write_vectors};
pub use tokens::{TokenIndex, TokenIndexWriter, max_similarity, token_bytes};
