//! Measuring: question sets, and how well passages and answers meet them.

mod metrics;
mod questions;
mod score;

pub use metrics::{ndcg, recall, reciprocal_rank};
pub use questions::{Relevant, SetQuestion, read_questions};
pub use score::{Metrics, QuestionScore, Run, score_question};
