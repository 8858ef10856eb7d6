//! The one place that calls generators: several requests at a time, with retries, a cache and a budget.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream;
use logothete_core::{Result, TokenUsage};

use super::{GenerationRequest, Generator};
use crate::config::GeneratorConfig;
use crate::spending::Spending;
use crate::storage::{CacheStore, CachedReply, reply_key};
use crate::threads::{StopToken, caught_future, sleep};

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

/// The result of a request.
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
    /// Returns the key under which the reply to a request is cached.
    pub(crate) fn key(generator: &dyn Generator, request: &GenerationRequest) -> String {
        let parts = request.key_parts();
        let fingerprint = generator.fingerprint();
        let all: Vec<&str> = std::iter::once(fingerprint.as_str()).chain(parts.iter().map(String::as_str)).collect();
        reply_key(&all)
    }

    /// Sends requests, up to `max_concurrent` at a time. The outcomes are in the order of the requests.
    ///
    /// `None` stands for a request that was not sent, because the work was stopped or the budget is spent. Each reply is in the
    /// cache before it is returned. Identical requests are sent once. Requests that are under way when the work is stopped are
    /// still awaited, because they are paid for.
    pub(crate) async fn run(&self, jobs: &[Job]) -> Vec<Result<Option<Reply>>> {
        let keys: Vec<Option<String>> = jobs.iter().map(|job| self.cache_key(job)).collect();
        let mut seen = HashSet::new();
        let (first, repeated): (Vec<usize>, Vec<usize>) =
            (0..jobs.len()).partition(|&at| keys[at].as_ref().is_none_or(|key| seen.insert(key)));
        let mut outcomes: Vec<Option<Result<Option<Reply>>>> = jobs.iter().map(|_| None).collect();
        // The replies to the first requests are in the cache when the repeated ones look there.
        for pass in [first, repeated] {
            let wanted: Vec<&str> = pass.iter().filter_map(|&at| keys[at].as_deref()).collect();
            // If the cache cannot be read, each request tries it again and reports the failure.
            let cached = self.cache.replies(&wanted).ok();
            let requests = pass.iter().map(|&at| {
                let (key, cached) = (keys[at].as_deref(), cached.as_ref());
                async move { (at, self.one(&jobs[at], key, cached).await) }
            });
            let requests: Vec<_> = requests.collect();
            let mut done = stream::iter(requests).buffer_unordered(self.config.max_concurrent.max(1));
            while let Some((at, outcome)) = done.next().await {
                outcomes[at] = Some(outcome);
            }
        }
        outcomes.into_iter().map(|outcome| outcome.unwrap_or(Ok(None))).collect()
    }

    /// Returns the key of a request in the cache; `None` if the same request may get different replies.
    fn cache_key(&self, job: &Job) -> Option<String> {
        (job.request.parameters.temperature == 0.0).then(|| Self::key(&**self.generator, &job.request))
    }

    /// Returns the cached reply, or sends a request. `cached` has the replies that were found; `None` means that the cache has not
    /// been read.
    async fn one(
        &self,
        job: &Job,
        key: Option<&str>,
        cached: Option<&HashMap<String, CachedReply>>,
    ) -> Result<Option<Reply>> {
        let cached = match (key, cached) {
            (None, _) => None,
            (Some(key), Some(cached)) => cached.get(key).cloned(),
            (Some(key), None) => self.cache.replies(&[key])?.remove(key),
        };
        if let Some(CachedReply { text, usage }) = cached {
            return Ok(Some(Reply { text, usage, cached: true }));
        }
        let reserved = (job.expected.total(), self.config.price(job.expected));
        if self.stop.is_stopped() || !self.spending.spend(reserved.0, reserved.1) {
            return Ok(None);
        }
        let outcome = self.send(job).await;
        // The real usage replaces the reserved one.
        self.spending.give_back(reserved.0, reserved.1);
        let (text, usage) = outcome?;
        self.spending.count(usage.total(), self.config.price(usage));
        if let Some(key) = key {
            self.cache.put_reply(key, &CachedReply { text: text.clone(), usage }, &job.owner)?;
        }
        Ok(Some(Reply { text, usage, cached: false }))
    }

    /// Sends a request until it is answered, fails for good, or has failed too often.
    async fn send(&self, job: &Job) -> Result<(String, TokenUsage)> {
        let mut pause = FIRST_PAUSE;
        let mut retries = 0;
        loop {
            match caught_future("the generator", async { self.generator.generate(&job.request).await }).await {
                Ok(generation) => return Ok((generation.text, generation.usage)),
                Err(error) if error.is_retryable() && retries < self.config.max_retries && !self.stop.is_stopped() => {
                    sleep(pause, self.stop).await;
                    pause = (pause * 2).min(MAX_PAUSE);
                    retries += 1;
                }
                Err(error) => return Err(error),
            }
        }
    }
}
