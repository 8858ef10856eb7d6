//! Words and sentences: how text is split for counting, matching and quoting.

mod abbreviations;
mod count;
mod dates;
mod irregular;
mod language;
mod lists;
mod sentences;
mod stopwords;
mod tokens;
mod words;

pub use count::count_words;
pub use dates::{WrittenDate, dates};
pub use irregular::irregular_terms;
pub use language::Language;
pub(crate) use lists::is_listed;
pub use lists::list_marker;
pub use sentences::{citation_marker, sentences, without_markers};
pub use stopwords::is_stopword;
pub use tokens::{Token, TokenKind, tokens};
pub use words::{Word, fold, stem, words};
