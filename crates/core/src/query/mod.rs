//! Question analysis: the parts of a question, its terms and their weights, and the kind of answer it asks for.

mod question;

pub use question::{Expectation, Question, Term, TermSet, question_parts};
