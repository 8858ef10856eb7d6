//! The keyword index: which rows hold which terms and where, scored by BM25.
//!
//! Writing: `fields` → `terms` → `writer`, or `merge` of segments that are there → `list` and `dictionary`. Searching:
//! `query` → `search` → `top` → `list`.

mod bits;
mod bm25;
mod dictionary;
mod fields;
mod index;
mod list;
mod merge;
mod query;
mod search;
mod terms;
mod top;
mod vocabulary;
mod writer;

pub use fields::{ContextParts, FieldWeights, Fields};
pub use index::{KeywordIndex, LiveCounts, LiveKeywords};
pub use merge::merge_keywords;
pub use query::{Clause, Occurs, Query};
pub use search::{PreparedQuery, Statistics, query_terms};
pub use terms::Languages;
pub use writer::KeywordWriter;
