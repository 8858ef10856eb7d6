//! Evaluation: question sets, measures of rankings and answers, and what may be said of their means.

mod answers;
mod compare;
mod draft;
mod measures;
mod questions;
mod ranking;
mod run;
mod score;
mod statistics;
mod trec;
mod tune;
mod verdicts;

pub use answers::{only_repeats, token_f1};
pub use compare::{ChangedQuestion, Comparison, Difference, compare};
pub use draft::{Draft, Drafter};
pub use measures::{MEASURES, Measure, MeasureGroup, Outcome, SHORT_MEASURES, STAGES};
pub use questions::{Relevant, SetQuestion, read_queries, read_questions, write_questions};
pub use ranking::{JudgedPlace, JudgedRanking, average_precision_of_scores, ndcg_of_scores};
pub use run::{Group, Mismatch, ReliabilityBin, Run, StageTime, mismatches};
pub use score::{FoundPassage, FoundSource, Metrics, QuestionDetails, QuestionScore, score_question, score_ranking};
pub use statistics::{BOOTSTRAP_ROUNDS, Interval, TEST_ROUNDS, bootstrap, holm, mean, quantile, randomisation_test};
pub use trec::{Judgement, RankedDocument, judged, read_qrels, read_run, write_qrels, write_run};
pub use tune::{Choice, MAX_CHANCE, Tried, Tuned, Tuner};
pub use verdicts::{JudgedClaim, KindMeasure, VerdictMeasures, verdict_measures};
