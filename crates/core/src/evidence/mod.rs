//! Evidence: selects the sentences of passages for an extractive answer.

mod extract;

pub use extract::{Extraction, MIN_COVERAGE, SelectedSentence, extract};
