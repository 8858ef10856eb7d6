//! Evidence: which sentences of passages answer a question, and how sure that is.
//!
//! [`candidates`] measures each quotable part of the passages; [`EvidenceModel`] scores them; [`extract`] takes the best, and adds what the question
//! asks for beside it: the rest of a list, the exceptions of a rule, the other side of a comparison. [`Facts`] tell how likely it answers.

mod candidate;
mod compose;
mod confidence;
mod correction;
mod extract;
mod force;
mod model;
mod reason;

pub use candidate::{Candidate, CandidateFeatures, FEATURE_NAMES, FEATURES, candidates};
pub use compose::AnswerLength;
pub use confidence::{FACT_NAMES, Facts};
pub use correction::{Correction, NamedCell, correction};
pub use extract::{Certainty, EvidenceSettings, Extraction, SelectedSentence, choose, extract};
pub use force::day_asked;
pub use model::EvidenceModel;
