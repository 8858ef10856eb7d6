//! Measuring a pipeline on a question set.

use logothete_core::measure::{Run, SetQuestion, score_question};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use crate::ask::{self, SearchRequest};
use crate::corpus::Inner;

/// Searches and asks every question, and scores what comes back.
pub(crate) fn run(inner: &Inner, name: &str, questions: &[SetQuestion]) -> Result<Run> {
    if questions.is_empty() {
        return Err(Error::new(ErrorKind::Configuration, "there is no question to evaluate"));
    }
    let scores: Result<Vec<_>> = questions
        .par_iter()
        .map(|question| {
            let request = [SearchRequest::new(&question.question).plain()];
            let found =
                ask::search(inner, &request).map_err(|error| error.at(format!("question {}", question.id)))?.remove(0);
            Ok(score_question(question, &found.passages, &ask::ask(inner, &request)?.remove(0)))
        })
        .collect();
    Ok(Run::new(name, scores?))
}
