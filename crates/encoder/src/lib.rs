//! Sentence encoders in Logothete's own code.
//!
//! [`SentenceEncoder`] is a transformer of BERT's family: the one that is embedded, or yours from a folder. [`Hashing`] needs
//! no weights and knows no language: it stays when nothing better fits.
//!
//! From text to vector: `tokenise` turns text into tokens, `bert` runs them through the network with the arithmetic of
//! `kernel` and the numbers of `weights`, and [`SentenceEncoder`] pools what comes out. [`CrossEncoder`] reads a question and a passage together.

mod bert;
mod cross;
mod folder;
mod half;
mod hashing;
mod kernel;
mod sentence;
mod tokenise;
mod weights;

pub use bert::Precision;
pub use cross::CrossEncoder;
pub use hashing::Hashing;
pub use sentence::{FolderSettings, Pooling, SentenceEncoder, TextTokens, pack};

/// The arithmetic kernels, for the benches and tests of this workspace. Nothing here is stable.
#[cfg(feature = "internals")]
pub mod internals {
    pub use crate::kernel::{Kernel, ROWS, Sums, TileLayout, WIDE};
}
