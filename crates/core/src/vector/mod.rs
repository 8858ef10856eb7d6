//! Vectors: the encoder's trait, segments of rows, and the exact search over them.

mod codes;
mod distance;
mod encoder;
mod kernel;
mod scan;
mod segment;

pub use distance::Distance;
pub use encoder::{Encoder, Role, TokenEncoder, Vectors};
pub use segment::{VectorIndex, write_vectors};
