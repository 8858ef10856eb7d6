//! The one place that calls generators: several requests at a time, with retries, a cache and a budget.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::thread;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use futures_util::StreamExt;
use futures_util::future::{Either, select};
use futures_util::stream;
use logothete_core::document::Date;
use logothete_core::prompt::{Hidden, Mask};
use logothete_core::{Error, ErrorKind, Result, TokenUsage};

use super::{GenerationEvent, GenerationRequest, Generator};
use crate::config::{GeneratorConfig, LimitsConfig};
use crate::spending::Spending;
use crate::storage::{CacheStore, CachedReply, DaySpending, NewReply, reply_key};
use crate::threads::{Driver, StopToken, caught_future, either, sleep};

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

/// What came of a request.
struct Done {
    /// Its number.
    at: usize,
    /// Its key in the cache; `None` if it is not cached.
    key: Option<String>,
    /// The name of the document that it is for.
    owner: String,
    /// `None` means that it was not sent.
    outcome: Result<Option<Reply>>,
}

impl Done {
    /// Returns what the cache is to hold of it, if anything.
    fn new_reply(&self) -> Option<NewReply<'_>> {
        let Reply { text, usage, .. } = self.outcome.as_ref().ok()?.as_ref().filter(|reply| !reply.cached)?;
        Some(NewReply { key: self.key.as_deref()?, text, usage: *usage, owner: &self.owner })
    }
}

/// What came of a request whose reply is shown as it is written.
pub(crate) struct Answering {
    /// The reply, or what came of it.
    pub text: String,
    pub usage: TokenUsage,
    pub cached: bool,
    /// The number of attempts that failed before.
    pub retries: u32,
    /// Why the reply is not whole.
    pub broken: Option<Error>,
}

/// Calls a generator.
pub(crate) struct Runner<'a> {
    pub generator: &'a Arc<dyn Generator>,
    pub cache: &'a dyn CacheStore,
    pub config: &'a GeneratorConfig,
    pub limits: &'a LimitsConfig,
    /// What is replaced before it is sent, and put back in the reply.
    pub mask: Option<&'a Mask>,
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
}

impl Runner<'_> {
    /// Returns the key under which the reply to a request is cached.
    pub(crate) fn key(generator: &dyn Generator, request: &GenerationRequest, mask: Option<&Mask>) -> String {
        let mut parts = request.key_parts();
        parts.extend(mask.map(|mask| format!("mask {}", mask.fingerprint())));
        let fingerprint = generator.fingerprint();
        let all: Vec<&str> = std::iter::once(fingerprint.as_str()).chain(parts.iter().map(String::as_str)).collect();
        reply_key(&all)
    }

    /// Sends requests, up to `max_concurrent` at a time. `job` makes the request of a number below `count` when its turn comes. The
    /// outcomes are in the order of the numbers.
    ///
    /// `None` stands for a request that was not sent, because the work was stopped or the budget is spent. Each reply is in the
    /// cache before it is returned. Identical requests are sent once. Requests that are under way when the work is stopped are
    /// still awaited, because they are paid for.
    ///
    /// # Errors
    /// If no thread can be started; nothing was sent then.
    pub(crate) fn run(
        &self,
        driver: &Driver,
        count: usize,
        job: impl Fn(usize) -> Result<Job>,
    ) -> Result<Vec<Result<Option<Reply>>>> {
        let mut outcomes: Vec<Result<Option<Reply>>> = (0..count).map(|_| Ok(None)).collect();
        let (mut seen, mut repeated) = (HashSet::new(), Vec::new());
        let made = |at: usize| {
            let job = job(at);
            let key = job.as_ref().ok().and_then(|job| self.cache_key(job));
            (job, key)
        };
        let first = (0..count).filter_map(|at| {
            let (job, key) = made(at);
            if key.as_ref().is_some_and(|key| !seen.insert(key.clone())) {
                repeated.push(at);
                return None;
            }
            Some(self.done(at, job, key))
        });
        self.all(driver, first, &mut outcomes)?;
        // The replies to the first ones are in the cache now.
        let again = repeated.into_iter().map(|at| {
            let (job, key) = made(at);
            self.done(at, job, key)
        });
        self.all(driver, again, &mut outcomes)?;
        Ok(outcomes)
    }

    /// Awaits requests, several at a time. Another thread keeps their replies, so that no request waits for the disk.
    fn all(
        &self,
        driver: &Driver,
        requests: impl Iterator<Item = impl Future<Output = Done>>,
        outcomes: &mut [Result<Option<Reply>>],
    ) -> Result<()> {
        let (sender, receiver) = channel();
        let keep = move || {
            while let Ok(first) = receiver.recv() {
                let mut done: Vec<Done> = std::iter::once(first).chain(receiver.try_iter()).collect();
                self.keep(&mut done);
                for Done { at, outcome, .. } in done {
                    outcomes[at] = outcome;
                }
            }
        };
        thread::scope(|scope| {
            thread::Builder::new()
                .spawn_scoped(scope, keep)
                .map_err(|error| Error::new(ErrorKind::System, "no thread could be started").because(error))?;
            driver.wait(async {
                let mut done = stream::iter(requests).buffer_unordered(self.config.max_concurrent.max(1));
                while let Some(done) = done.next().await {
                    // The other thread ends after this one, unless it panics, which the scope passes on.
                    let _ = sender.send(done);
                }
            });
            drop(sender);
            Ok(())
        })
    }

    /// Puts new replies into the cache. One that cannot be kept becomes an error.
    fn keep(&self, done: &mut [Done]) {
        let new: Vec<NewReply<'_>> = done.iter().filter_map(Done::new_reply).collect();
        if new.is_empty() || self.cache.put_replies(&new).is_ok() {
            return;
        }
        for done in done {
            if let Some(Err(error)) = done.new_reply().map(|new| self.cache.put_replies(&[new])) {
                done.outcome = Err(error);
            }
        }
    }

    /// Returns the key of a request in the cache; `None` if the same request may get different replies.
    fn cache_key(&self, job: &Job) -> Option<String> {
        (job.request.parameters.temperature == 0.0).then(|| Self::key(&**self.generator, &job.request, self.mask))
    }

    /// Does a job, if it could be made.
    async fn done(&self, at: usize, job: Result<Job>, key: Option<String>) -> Done {
        match job {
            Ok(job) => {
                let outcome = self.one(&job, key.as_deref()).await;
                Done { at, key, owner: job.owner, outcome }
            }
            Err(error) => Done { at, key, owner: String::new(), outcome: Err(error) },
        }
    }

    /// Returns the cached reply, or sends a request.
    async fn one(&self, job: &Job, key: Option<&str>) -> Result<Option<Reply>> {
        if let Some(key) = key
            && let Some(CachedReply { text, usage }) = self.cache.replies(&[key])?.remove(key)
        {
            return Ok(Some(Reply { text, usage, cached: true }));
        }
        if self.stop.is_stopped() || !self.reserve(job)? {
            return Ok(None);
        }
        let outcome = self.send(job).await;
        self.settle(job, outcome.as_ref().ok().map(|(_, usage)| *usage))?;
        let (text, usage) = outcome?;
        Ok(Some(Reply { text, usage, cached: false }))
    }

    /// Counts the tokens that a request is expected to take. Returns `false` if the budget has no room for them.
    ///
    /// # Errors
    /// If the day has no room for them.
    fn reserve(&self, job: &Job) -> Result<bool> {
        if !self.spending.spend(job.expected.total(), self.config.price(job.expected)) {
            return Ok(false);
        }
        let Some((day, max)) = self.day() else { return Ok(true) };
        if self.cache.spend_on(&day, self.in_a_day(job.expected, 1), max)? {
            return Ok(true);
        }
        self.spending.give_back(job.expected.total(), self.config.price(job.expected));
        let message = format!(
            "the request, of up to {} tokens, would exceed the limit for {day}: day_tokens or day_money in [limits]; raise it, or \
             ask again tomorrow (UTC)",
            job.expected.total()
        );
        Err(Error::new(ErrorKind::Limit, message))
    }

    /// Replaces what was reserved by what was used; `None` means nothing, because the request failed.
    fn settle(&self, job: &Job, usage: Option<TokenUsage>) -> Result<()> {
        self.spending.give_back(job.expected.total(), self.config.price(job.expected));
        if let Some(usage) = usage {
            self.spending.count(usage.total(), self.config.price(usage));
        }
        if let Some((day, _)) = self.day() {
            let unlimited = DaySpending { tokens: i64::MAX, money: f64::MAX };
            self.cache.spend_on(&day, self.in_a_day(job.expected, -1), unlimited)?;
            self.cache.spend_on(&day, self.in_a_day(usage.unwrap_or_default(), 1), unlimited)?;
        }
        Ok(())
    }

    /// Returns today in UTC, and what may be spent on it; `None` if that is unlimited.
    fn day(&self) -> Option<(String, DaySpending)> {
        let LimitsConfig { day_tokens, day_money, .. } = *self.limits;
        if day_tokens == 0 && day_money == 0.0 {
            return None;
        }
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let (year, month, day) = Date::civil((now.as_secs() / 86_400).cast_signed());
        let tokens = if day_tokens == 0 { i64::MAX } else { i64::try_from(day_tokens).unwrap_or(i64::MAX) };
        let money = if day_money == 0.0 { f64::MAX } else { day_money };
        Some((format!("{year:04}-{month:02}-{day:02}"), DaySpending { tokens, money }))
    }

    fn in_a_day(&self, usage: TokenUsage, sign: i64) -> DaySpending {
        let tokens = i64::try_from(usage.total()).unwrap_or(i64::MAX / 4);
        DaySpending { tokens: sign * tokens, money: sign as f64 * self.config.price(usage) }
    }

    /// Sends a request whose reply is shown while it is written. It is sent again only as long as nothing was shown. What came before
    /// the connection broke is kept.
    ///
    /// # Errors
    /// If nothing of a reply came, or a budget has no room for it.
    pub(crate) async fn answer(&self, job: &Job, show: &mut (dyn FnMut(&str) + Send)) -> Result<Answering> {
        let key = self.cache_key(job);
        if let Some(key) = &key
            && let Some(CachedReply { text, usage }) = self.cache.replies(&[key])?.remove(key)
        {
            show(&text);
            return Ok(Answering { text, usage, cached: true, retries: 0, broken: None });
        }
        if !self.reserve(job)? {
            let message = format!(
                "the request may take {} tokens, more than question_tokens or question_money in [limits] allows",
                job.expected.total()
            );
            return Err(Error::new(ErrorKind::Limit, message));
        }
        let outcome = self.streamed(job, show).await;
        // A reply that broke off was paid for as far as it came.
        let usage = outcome.as_ref().ok().map(|answering| answering.usage);
        self.settle(job, usage)?;
        let answering = outcome?;
        if let (Some(key), None) = (&key, &answering.broken) {
            let Answering { text, usage, .. } = &answering;
            self.cache.put_replies(&[NewReply { key, text, usage: *usage, owner: &job.owner }])?;
        }
        Ok(answering)
    }

    /// Returns a request as it is sent, and what was replaced in it.
    fn as_sent(&self, request: &GenerationRequest) -> (GenerationRequest, Hidden) {
        let mut hidden = Hidden::default();
        let mut request = request.clone();
        if let Some(mask) = self.mask {
            request.prompt = mask.hide_prompt(&request.prompt, &mut hidden);
        }
        (request, hidden)
    }

    async fn streamed(&self, job: &Job, show: &mut (dyn FnMut(&str) + Send)) -> Result<Answering> {
        let (request, hidden) = self.as_sent(&job.request);
        let mut retries = 0;
        let ended = StopToken::default();
        let _ended = ended.stop_on_drop();
        let mut stopped = std::pin::pin!(either(self.stop, &ended));
        loop {
            let (mut text, mut waiting) = (String::new(), String::new());
            let outcome = caught_future("the generator", async {
                let mut parts = self.generator.stream(&request);
                loop {
                    let part = match select(parts.next(), stopped.as_mut()).await {
                        Either::Left((part, _)) => part,
                        Either::Right(_) => return Err(Error::new(ErrorKind::Cancelled, "the answer was stopped")),
                    };
                    match part {
                        Some(Ok(GenerationEvent::Text(part))) => {
                            let part = hidden.restore_part(&mut waiting, &part);
                            show(&part);
                            text.push_str(&part);
                        }
                        Some(Ok(GenerationEvent::End { usage, .. })) => return Ok(usage),
                        Some(Err(error)) => return Err(error),
                        None => return Err(Error::new(ErrorKind::Unavailable, "the generator broke off its reply")),
                    }
                }
            })
            .await;
            if !waiting.is_empty() {
                show(&waiting);
                text.push_str(&waiting);
            }
            match outcome {
                Ok(usage) => return Ok(Answering { text, usage, cached: false, retries, broken: None }),
                Err(error) if !text.is_empty() => {
                    let received = self.generator.count_tokens(&text);
                    let usage = TokenUsage { sent: job.expected.sent, received };
                    return Ok(Answering { text, usage, cached: false, retries, broken: Some(error) });
                }
                Err(error) => retries = self.retried(error, retries).await?,
            }
        }
    }

    /// Waits before a request is sent again, twice as long each time unless the generator says how long. Returns the number of retries.
    ///
    /// # Errors
    /// The error itself, if the request is not to be sent again.
    async fn retried(&self, error: Error, retries: u32) -> Result<u32> {
        if !error.is_retryable() || retries >= self.config.max_retries || self.stop.is_stopped() {
            return Err(error);
        }
        let pause = FIRST_PAUSE.saturating_mul(2_u32.saturating_pow(retries));
        sleep(error.retry_after().unwrap_or(pause).min(MAX_PAUSE), self.stop).await;
        Ok(retries + 1)
    }

    /// Sends a request until it is answered, fails for good, or has failed too often.
    async fn send(&self, job: &Job) -> Result<(String, TokenUsage)> {
        let (request, hidden) = self.as_sent(&job.request);
        let mut retries = 0;
        loop {
            match caught_future("the generator", async { self.generator.generate(&request).await }).await {
                Ok(generation) => return Ok((hidden.restore(&generation.text), generation.usage)),
                Err(error) => retries = self.retried(error, retries).await?,
            }
        }
    }
}
