//! The keyword index: the terms of each row with their positions, scored by BM25.
//!
//! Writing: `fields` → `terms` → `writer`, or `merge` of existing segments → `postings` and `dictionary`. Searching:
//! `query` → `search` → `block_max` → `postings`.

mod bit_packing;
mod block_max;
mod bm25;
mod dictionary;
mod fields;
mod frequencies;
mod index;
mod merge;
mod postings;
mod query;
mod search;
mod terms;
mod vocabulary;
mod writer;

pub use fields::{ContextParts, FieldWeights, Fields};
pub use frequencies::Standing;
pub use index::{KeywordIndex, LiveCounts, LiveKeywords};
pub use merge::merge_keywords;
pub use query::{Clause, Occurs, Query};
pub use search::{PreparedQuery, Statistics, query_terms};
pub use terms::Languages;
pub use writer::KeywordWriter;
