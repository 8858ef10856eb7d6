//! What a build would do and cost, without doing it.

use logothete_core::Result;
use logothete_core::cite::Tokens;
use rayon::prelude::*;
use serde::Serialize;

use super::plan::{self, Seen, Walk};
use super::work::{Look, Outcome, WINDOW};
use super::{BuildReport, BuildRequest, Failure, contexts};
use crate::corpus::Inner;
use crate::pool::Waiter;

/// What a build would do and cost.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Estimate {
    /// The documents that would be read or cut again.
    pub documents: Vec<DocumentEstimate>,
    /// Documents that are as they were.
    pub unchanged: usize,
    /// Files that could not be read.
    pub failed: Vec<Failure>,
    /// Chunks of those documents.
    pub chunks: usize,
    /// Contexts that a generator would write.
    pub contexts: usize,
    /// Contexts that were written before and are kept.
    pub contexts_cached: usize,
    /// What the generator would read, and at most write.
    pub tokens: Tokens,
    /// What those tokens cost at the prices of the settings, in their currency; nothing where no price is set.
    pub cost: Option<f64>,
}

/// What a build would do with a document.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct DocumentEstimate {
    /// Its name.
    pub document: String,
    /// How many chunks it would have.
    pub chunks: usize,
    /// Contexts that a generator would write.
    pub contexts: usize,
    /// Contexts that were written before and are kept.
    pub contexts_cached: usize,
    /// What the generator would read, and at most write.
    pub tokens: Tokens,
}

/// Reads and cuts what a build would, and counts.
pub(crate) fn run(inner: &Inner, request: &BuildRequest, waiter: &Waiter) -> Result<Estimate> {
    let mut report = BuildReport::default();
    let mut estimate = Estimate::default();
    let look = Look::new(inner, request, waiter, true);
    let planned = plan::sources(&mut inner.catalogue(), request, true, &mut report)?;
    let mut seen = Seen::default();
    for source in &planned {
        let Some(mut walk) = Walk::begin(source, waiter, &mut report) else { continue };
        loop {
            let window = walk.next(WINDOW, &inner.catalogue(), &mut seen, &mut report)?;
            if window.is_empty() || request.stop_token().is_stopped() {
                break;
            }
            let outcomes: Vec<Result<Looked>> = window
                .par_iter()
                .map(|candidate| match look.at(candidate) {
                    Outcome::Unchanged(_) | Outcome::Stopped => Ok(Looked::Unchanged),
                    Outcome::Failed(failure) => Ok(Looked::Failed(failure)),
                    Outcome::Read(change) => {
                        let needed = contexts::estimate(inner, &change.document, &change.chunks)?;
                        Ok(Looked::Read(DocumentEstimate {
                            document: change.document.name,
                            chunks: change.chunks.len(),
                            contexts: needed.asked,
                            contexts_cached: needed.cached,
                            tokens: needed.tokens,
                        }))
                    }
                })
                .collect();
            for outcome in outcomes {
                match outcome? {
                    Looked::Unchanged => estimate.unchanged += 1,
                    Looked::Failed(failure) => report.failed.push(failure),
                    Looked::Read(document) => estimate.documents.push(document),
                }
            }
        }
    }
    estimate.failed = report.failed;
    estimate.sum(inner.pipeline.settings.price_sent, inner.pipeline.settings.price_received);
    Ok(estimate)
}

enum Looked {
    Unchanged,
    Failed(Failure),
    Read(DocumentEstimate),
}

impl Estimate {
    fn sum(&mut self, price_sent: f64, price_received: f64) {
        for document in &self.documents {
            self.chunks += document.chunks;
            self.contexts += document.contexts;
            self.contexts_cached += document.contexts_cached;
            self.tokens.sent += document.tokens.sent;
            self.tokens.received += document.tokens.received;
        }
        if price_sent + price_received > 0.0 {
            let cost = self.tokens.sent as f64 * price_sent + self.tokens.received as f64 * price_received;
            self.cost = Some(cost / 1e6);
        }
    }
}
