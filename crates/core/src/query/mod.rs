//! Question analysis: the parts of a question, its terms and their weights, and the kind of answer it asks for.

mod asked;
mod follow_up;
mod question;
mod whole;
mod wording;

pub use asked::Expectation;
pub use follow_up::{asks_for_source, standing_alone};
pub use question::{Question, QuestionPart, Term, TermSet, is_question, question_parts, question_terms};
pub use whole::{asks_about_the_whole, subject_of_the_whole};
pub use wording::{Abbreviated, Wording, abbreviated, definition, has_words, reworded, synonyms};
