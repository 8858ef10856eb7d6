//! Vectors: the encoder's trait, segments of rows, the exact search over them, and for many the graph and the inverted lists.

mod codes;
mod distance;
mod encoder;
mod graph;
mod kernel;
mod lists;
mod near;
mod rows;
mod scan;
mod segment;

pub use distance::Distance;
pub use encoder::{Encoder, Role, TokenEncoder, Vectors};
pub use graph::{Graph, write_graph};
pub use lists::{Lists, write_lists};
pub use segment::{VectorIndex, merge_vectors, write_vectors};
