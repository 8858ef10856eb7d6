//! Rerankers that are asked before a search, since they may take long: services, generators, and those of the user's own.
//!
//! The search is rehearsed first. What it would ask them is collected, they are asked on a driver, and the search finds what they said.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use logothete_core::chunk::ChunkId;
use logothete_core::prompt::{ordered, rerank_prompt};
use logothete_core::search::{Passage, RerankKind, RerankPlan};
use logothete_core::{Error, ErrorKind, Result, TokenUsage};

use super::own;
use crate::config::GeneratorRole;
use crate::generate::{GenerationRequest, Job, Reply, Runner};
use crate::opened::Opened;
use crate::pipeline::{Equipped, Pipeline};
use crate::spending::Spending;
use crate::storage::lock;
use crate::threads::{Driver, StopToken};
use crate::trace::milliseconds;

/// The tokens of a number in the reply of a generator, with what stands between.
const REPLY_TOKENS: u64 = 4;

/// What a reranker is asked.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Asked {
    pub kind: RerankKind,
    pub question: String,
    /// The candidates in their fused order.
    pub chunks: Vec<ChunkId>,
}

/// What a reranker said.
pub(super) struct Judgement {
    /// The name of the reranker.
    pub reranker: String,
    /// The scores of the candidates, or why there are none.
    pub scores: std::result::Result<Vec<f32>, String>,
    pub took_ms: f64,
    pub usage: TokenUsage,
}

/// What rerankers said before a search, and what a rehearsal would have asked them.
#[derive(Default)]
pub(crate) struct Judgements {
    known: HashMap<Asked, Judgement>,
    /// Whether searches only note what has to be asked.
    is_rehearsal: bool,
    wanted: Mutex<HashMap<Asked, Wanted>>,
}

/// What a rehearsal would have asked.
pub(crate) struct Wanted {
    passages: Vec<Passage>,
    seconds: f32,
}

impl Judgements {
    /// Creates those of a rehearsal, after which rerankers of some kinds will be asked.
    ///
    /// # Errors
    /// If one of them does not exist, or a setting is invalid.
    pub(crate) fn rehearsal(pipeline: &Pipeline, kinds: impl IntoIterator<Item = RerankKind>) -> Result<Self> {
        for kind in kinds {
            match kind {
                RerankKind::Generator => generator(pipeline).map(drop)?,
                _ => pipeline.reranker(kind).map(drop)?,
            }
        }
        Ok(Self { is_rehearsal: true, ..Self::default() })
    }

    /// Returns `true` in a rehearsal.
    pub(super) fn is_rehearsal(&self) -> bool {
        self.is_rehearsal
    }

    /// Returns what was said.
    pub(super) fn of(&self, asked: &Asked) -> Option<&Judgement> {
        self.known.get(asked)
    }

    /// Notes what has to be asked.
    pub(super) fn want(&self, asked: Asked, plan: &RerankPlan, passages: Vec<Passage>) {
        lock(&self.wanted).insert(asked, Wanted { passages, seconds: plan.seconds });
    }

    /// Asks rerankers for what a rehearsal noted. Blocks the thread until they have answered, or their time is over.
    ///
    /// # Errors
    /// If a setting is invalid, or no thread can be started.
    pub(crate) fn ask(
        &mut self,
        opened: &Opened,
        driver: &Driver,
        spending: &Spending,
        stop: &StopToken,
    ) -> Result<()> {
        self.is_rehearsal = false;
        let wanted = self.wanted.get_mut().unwrap_or_else(PoisonError::into_inner);
        let (by_generator, others): (Vec<_>, Vec<_>) =
            wanted.drain().partition(|(asked, _)| asked.kind == RerankKind::Generator);
        self.known.extend(by_rerankers(opened, others)?);
        if !by_generator.is_empty() {
            self.known.extend(generated(opened, driver, spending, stop, by_generator)?);
        }
        Ok(())
    }
}

/// Asks services and rerankers of the user's own, some at a time.
fn by_rerankers(opened: &Opened, wanted: Vec<(Asked, Wanted)>) -> Result<Vec<(Asked, Judgement)>> {
    let rerankers = wanted.iter().map(|(asked, _)| opened.pipeline.reranker(asked.kind)).collect::<Result<Vec<_>>>()?;
    let judged: Mutex<Vec<(usize, Judgement)>> = Mutex::default();
    let next = AtomicUsize::new(0);
    let work = || {
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(((asked, wanted), reranker)) = wanted.get(at).zip(rerankers.get(at)) else { break };
            let started = Instant::now();
            let scores = own::scores(reranker, wanted.seconds, &asked.question, wanted.passages.clone());
            let scores = scores.map_err(|error| error.to_string());
            let (reranker, took_ms) = (reranker.name().to_owned(), milliseconds(started));
            lock(&judged).push((at, Judgement { reranker, scores, took_ms, usage: TokenUsage::default() }));
        }
    };
    let threads = opened.config().reranker.max_concurrent.clamp(1, wanted.len().max(1));
    std::thread::scope(|scope| {
        for _ in 1..threads {
            scope.spawn(work);
        }
        work();
    });
    let mut judged = judged.into_inner().unwrap_or_else(PoisonError::into_inner);
    judged.sort_by_key(|(at, _)| *at);
    Ok(wanted.into_iter().map(|(asked, _)| asked).zip(judged.into_iter().map(|(_, judgement)| judgement)).collect())
}

/// Returns the generator that puts passages in order.
fn generator(pipeline: &Pipeline) -> Result<Equipped> {
    pipeline.generator(GeneratorRole::Rerank)?.ok_or_else(|| {
        let message = "a generator is to put passages in order, and [generator] names none; choose another kind";
        Error::new(ErrorKind::Configuration, message).at("[search] rerank.kind")
    })
}

/// Lets a generator put candidates in order. It sees as many of the first as fit its context.
fn generated(
    opened: &Opened,
    driver: &Driver,
    spending: &Spending,
    stop: &StopToken,
    wanted: Vec<(Asked, Wanted)>,
) -> Result<Vec<(Asked, Judgement)>> {
    let equipped = generator(&opened.pipeline)?;
    let Equipped { generator, config, mask } = &equipped;
    let shown: Vec<Vec<String>> = wanted.iter().map(|(_, wanted)| fitting(&equipped, &wanted.passages)).collect();
    let job = |at: usize| {
        let texts: Vec<&str> = shown[at].iter().map(String::as_str).collect();
        let mut request =
            GenerationRequest::new(rerank_prompt(&wanted[at].0.question, &texts, opened.pipeline.templates())?);
        request.parameters = config.parameters();
        let sent = request.prompt.messages.iter().map(|message| generator.count_tokens(&message.content)).sum();
        let received = config.max_tokens.min(texts.len() as u64 * REPLY_TOKENS);
        // It is about many documents. An entry without an owner goes when any document is forgotten.
        Ok(Job { request, owner: String::new(), expected: TokenUsage { sent, received } })
    };
    let (cache, limits) = (&*opened.storage.cache, &opened.config().limits);
    let runner = Runner { generator, cache, config, limits, mask: mask.as_ref(), spending, stop };
    let started = Instant::now();
    let replies = runner.run(driver, wanted.len(), job)?;
    let took_ms = milliseconds(started);
    let mut judged = Vec::with_capacity(wanted.len());
    for (((asked, wanted), shown), reply) in wanted.into_iter().zip(shown).zip(replies) {
        let mut usage = TokenUsage::default();
        let scores = match reply {
            Ok(Some(Reply { text, usage: used, cached })) => {
                usage = if cached { usage } else { used };
                ordered(&text, shown.len()).ok_or_else(|| "its reply names no passage".to_owned())
            }
            Ok(None) => Err("it was not asked: the budget is spent, or the work was stopped".to_owned()),
            Err(error) => Err(error.to_string()),
        };
        // What it did not see comes after what it saw.
        let scores = scores.map(|mut scores| {
            scores.resize(wanted.passages.len(), 0.0);
            scores
        });
        judged.push((asked, Judgement { reranker: generator.name(), scores, took_ms, usage }));
    }
    Ok(judged)
}

/// Returns the texts of the first passages that fit the context of a generator, at least one.
fn fitting(equipped: &Equipped, passages: &[Passage]) -> Vec<String> {
    let Equipped { generator, config, .. } = equipped;
    // A quarter is for the instruction, the question and the marks.
    let room = config.context_tokens.saturating_sub(config.max_tokens) * 3 / 4;
    let mut tokens = 0;
    let texts = passages.iter().map(Passage::indexed_text).enumerate();
    let fits = texts.take_while(|(at, text)| {
        tokens += generator.count_tokens(text);
        *at == 0 || tokens <= room
    });
    fits.map(|(_, text)| text).collect()
}
