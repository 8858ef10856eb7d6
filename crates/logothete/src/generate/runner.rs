//! The one place that calls generators: several requests at a time, with retries, a cache and a budget.

use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream;
use logothete_core::{Result, TokenUsage};

use super::{GenerationRequest, Generator};
use crate::config::GeneratorConfig;
use crate::ingest::Spending;
use crate::storage::{CacheStore, CachedReply, reply_key};
use crate::threads::{StopToken, sleep};

/// The pause before the first retry. Each later one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
/// The longest pause.
const MAX_PAUSE: Duration = Duration::from_secs(30);

/// A request to a generator.
pub(crate) struct Job {
    pub request: GenerationRequest,
    /// The name of the document that the reply is for.
    pub owner: String,
    /// The tokens that it will take: all of the prompt, and at most this much of a reply.
    pub expected: TokenUsage,
}

/// What came of a request.
pub(crate) struct Reply {
    pub text: String,
    pub usage: TokenUsage,
    pub cached: bool,
}

/// Calls a generator.
pub(crate) struct Runner<'a> {
    pub generator: &'a Arc<dyn Generator>,
    pub cache: &'a dyn CacheStore,
    pub config: &'a GeneratorConfig,
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
}

impl Runner<'_> {
    /// The key under which the reply to a request is cached.
    pub(crate) fn key(generator: &dyn Generator, request: &GenerationRequest) -> String {
        let parts = request.key_parts();
        let fingerprint = generator.fingerprint();
        let all: Vec<&str> = std::iter::once(fingerprint.as_str()).chain(parts.iter().map(String::as_str)).collect();
        reply_key(&all)
    }

    /// Sends requests, up to `max_concurrent` at a time. The outcomes are in the order of the requests.
    ///
    /// `None` stands for a request that was not sent, because the work was stopped or the budget is spent. Each reply is in the
    /// cache before it is returned.
    pub(crate) async fn run(&self, jobs: &[Job]) -> Vec<Result<Option<Reply>>> {
        // Requests borrow what they need until all are done, so they are futures of this one.
        let requests: Vec<_> = jobs.iter().map(|job| self.one(job)).collect();
        stream::iter(requests).buffered(self.config.max_concurrent.max(1)).collect().await
    }

    async fn one(&self, job: &Job) -> Result<Option<Reply>> {
        let key = Self::key(&**self.generator, &job.request);
        let is_cacheable = job.request.parameters.temperature == 0.0;
        if is_cacheable && let Some(CachedReply { text, usage }) = self.cache.replies(&[&key])?.remove(&key) {
            return Ok(Some(Reply { text, usage, cached: true }));
        }
        let reserved = (job.expected.total(), self.config.price(job.expected));
        if self.stop.is_stopped() || !self.spending.spend(reserved.0, reserved.1) {
            return Ok(None);
        }
        let outcome = self.send(job).await;
        // What it really took is counted in place of what was expected.
        self.spending.give_back(reserved.0, reserved.1);
        let (text, usage) = outcome?;
        self.spending.count(usage.total(), self.config.price(usage));
        if is_cacheable {
            self.cache.put_reply(&key, &CachedReply { text: text.clone(), usage }, &job.owner)?;
        }
        Ok(Some(Reply { text, usage, cached: false }))
    }

    /// Sends a request until it is answered, fails for good, or has failed too often.
    async fn send(&self, job: &Job) -> Result<(String, TokenUsage)> {
        let mut pause = FIRST_PAUSE;
        let mut retries = 0;
        loop {
            match self.generator.generate(&job.request).await {
                Ok(generation) => return Ok((generation.text, generation.usage)),
                Err(error) if error.is_retryable() && retries < self.config.max_retries && !self.stop.is_stopped() => {
                    sleep(pause).await;
                    pause = (pause * 2).min(MAX_PAUSE);
                    retries += 1;
                }
                Err(error) => return Err(error),
            }
        }
    }
}
