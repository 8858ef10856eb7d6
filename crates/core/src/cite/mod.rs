//! Answers whose claims can be checked: extraction, citations, refusals.
//!
//! [`extract`] answers a question with sentences taken from passages, word for word. [`check`] compares a claim with the
//! passage it cites, whoever wrote the claim.

mod answer;
mod check;
mod extract;
mod question;

pub use answer::{AlsoThere, Answer, Claim, SourceLine, Status, Tokens, Verdict};
pub use check::{Support, check};
pub use extract::{Extraction, LEAST_COVERAGE, Picked, extract};
pub use question::{Expectation, Question, Term, TermSet, question_parts};
