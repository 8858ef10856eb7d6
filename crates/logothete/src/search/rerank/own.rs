//! Rerankers of the user's own, and those that are services.

use std::sync::Arc;
use std::time::Duration;

use logothete_core::search::Passage;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::threads::{caught_in, within};

/// Puts passages in a new order. Give it to [`Pipeline::with_reranker`](crate::Pipeline::with_reranker), and set `[search] rerank.kind` to
/// [`Own`](crate::search::RerankKind::Own).
///
/// A reranker that fails, takes too long, or returns something else than a number for each passage leaves the fused order, and the result
/// says so.
pub trait Reranker: Send + Sync {
    /// Returns the name of the reranker in traces.
    fn name(&self) -> &str;

    /// Returns a fingerprint that changes whenever it may score the same passages differently.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([self.name()])
    }

    /// Returns a score for each passage; higher is better. The passages come in the fused order.
    ///
    /// # Errors
    /// If it cannot judge them.
    fn rerank(&self, question: &str, passages: &[Passage]) -> Result<Vec<f32>>;
}

/// Asks a reranker for the scores of passages, on a thread of its own and for so many seconds.
pub(super) fn scores(
    reranker: &Arc<dyn Reranker>,
    seconds: f32,
    question: &str,
    passages: Vec<Passage>,
) -> Result<Vec<f32>> {
    let (asked, question, count) = (reranker.clone(), question.to_owned(), passages.len());
    let work = move || caught_in("the reranker", || asked.rerank(&question, &passages));
    let limit = Duration::try_from_secs_f32(seconds).unwrap_or(Duration::MAX);
    let scores = within(limit, || {}, work).unwrap_or_else(|| {
        let message = format!("it took more than {seconds} s; raise seconds in [search] rerank");
        Err(Error::new(ErrorKind::Limit, message))
    })?;
    let wrong = |message: String| Err(Error::new(ErrorKind::Unreadable, message));
    match scores.iter().position(|score| score.is_nan()) {
        _ if scores.len() != count => wrong(format!("it returned {} scores for {count} passages", scores.len())),
        Some(at) => wrong(format!("its score of passage {} is no number", at + 1)),
        None => Ok(scores),
    }
}
