//! Evaluation: question sets, and scores of passages and answers.

mod metrics;
mod questions;
mod score;

pub use metrics::{ndcg, recall, reciprocal_rank};
pub use questions::{Relevant, SetQuestion, read_questions};
pub use score::{Metrics, QuestionScore, Run, score_question};
