//! Words and sentences: how text is taken apart for counting, matching and quoting.

mod count;
mod language;
mod lists;
mod sentences;
mod shortened;
mod stop;
mod tokens;
mod words;

pub use count::count_words;
pub use language::Language;
pub use lists::list_marker;
pub use sentences::sentences;
pub use stop::is_function_word;
pub use tokens::{Token, TokenKind, tokens};
pub use words::{Word, fold, stem, words};
