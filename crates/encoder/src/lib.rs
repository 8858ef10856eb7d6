//! Sentence encoders in Logothete's own code.
//!
//! [`SentenceEncoder`] is a transformer of BERT's family: the one that is embedded, or yours from a folder. [`Hashing`] needs
//! no weights and knows no language: it stays when nothing better fits.
//!
//! From text to vector: [`tokenise`] turns text into tokens, [`bert`] runs them through the network with the arithmetic of
//! [`kernel`] and the numbers of [`weights`], and [`SentenceEncoder`] pools what comes out.

mod bert;
mod hashing;
mod kernel;
mod sentence;
mod tokenise;
mod weights;

pub use bert::{Activation, Precision, Shape};
pub use hashing::Hashing;
pub use kernel::{Kernel, Place as TilePlace, ROWS, Sums, WIDE};
pub use sentence::{FolderSettings, Packed, Pooling, SentenceEncoder, TextTokens, pack};
pub use tokenise::{Normaliser, WordPieceSettings};
