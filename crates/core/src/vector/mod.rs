//! Vectors: the encoder's trait, rows of vectors, and the exact index over them.

mod encoder;
mod index;

pub use encoder::{Encoder, Role, TokenEncoder, Vectors};
pub use index::{VectorIndex, write_vectors};
