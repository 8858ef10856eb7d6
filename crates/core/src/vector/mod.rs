//! Vectors: the encoder's trait, segments of rows, the exact search over them, and the graph for many.

mod codes;
mod distance;
mod encoder;
mod graph;
mod kernel;
mod near;
mod rows;
mod scan;
mod segment;

pub use distance::Distance;
pub use encoder::{Encoder, Role, TokenEncoder, Vectors};
pub use graph::{Graph, write_graph};
pub use segment::{VectorIndex, write_vectors};
