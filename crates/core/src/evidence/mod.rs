//! Evidence: the sentences of passages that an extractive answer is made of.

mod extract;

pub use extract::{Extraction, MIN_COVERAGE, SelectedSentence, extract};
