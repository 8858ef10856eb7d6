//! Words and sentences: how text is taken apart for counting, matching and quoting.

mod lists;
mod sentences;
mod stop;
mod words;

pub use lists::list_marker;
pub use sentences::sentences;
pub use stop::is_function_word;
pub use words::{Word, count_words, fold, stem, words};
