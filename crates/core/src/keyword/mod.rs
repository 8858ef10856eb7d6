//! The keyword index: which rows hold which terms, scored by BM25.

mod index;
mod score;

pub use index::{KeywordIndex, KeywordWriter, Posting};
pub use score::{Statistics, query_terms, search};
