//! Reads weights from files, and rounds them to small integers.

mod matrix;
mod tensors;
mod words;

pub use matrix::{ByteMatrix, FloatMatrix, Matrix, Quantised};
pub use tensors::{TensorWriter, Tensors};
pub use words::WordTable;
