//! Writing contexts: a generator writes a sentence or two to each chunk.

use logothete_core::chunk::Chunk;
use logothete_core::document::Document;
use logothete_core::prompt::{context_prompt, tidy_context};
use logothete_core::{Fingerprint, Result, TokenUsage};

use crate::generate::{GenerationRequest, Job, Runner, usual_tokens};
use crate::opened::Opened;
use crate::pipeline::{Equipped, Writing};
use crate::spending::Spending;
use crate::storage::reply_key;
use crate::threads::{Driver, StopToken};

/// The number of contexts that were written, or would be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Written {
    /// By a generator.
    pub asked: usize,
    /// Found in the cache.
    pub cached: usize,
    /// The tokens that the generator read and wrote.
    pub tokens: TokenUsage,
}

impl Written {
    pub(super) fn add(&mut self, other: Self) {
        self.asked += other.asked;
        self.cached += other.cached;
        self.tokens += other.tokens;
    }

    /// Returns the number of chunks that have a context.
    pub(super) fn count(&self) -> usize {
        self.asked + self.cached
    }
}

/// A document whose chunks get contexts.
pub(super) struct Target<'a> {
    pub document: &'a Document,
    pub chunks: &'a mut [Chunk],
}

fn request(opened: &Opened, writing: &Writing, document: &Document, chunk: &Chunk) -> Result<GenerationRequest> {
    let prompt = context_prompt(document, chunk, writing.around, writing.max_words(), opened.pipeline.templates())?;
    let mut request = GenerationRequest::new(prompt);
    if let Ok(Equipped { config, .. }) = writing.generator() {
        request.parameters = config.parameters();
    }
    Ok(request.max_tokens(max_reply_tokens(writing) * 2))
}

/// Returns the number of tokens that a reply is expected to have at most.
fn max_reply_tokens(writing: &Writing) -> u64 {
    (writing.max_words() as u64 * 4).div_ceil(3)
}

/// Returns the tokens that a request takes: all that is sent, and at most what comes back.
fn expected(writing: &Writing, request: &GenerationRequest, count: impl Fn(&str) -> u64) -> TokenUsage {
    TokenUsage { sent: count(&request.prompt.text()), received: max_reply_tokens(writing) }
}

/// Writes the contexts of the chunks of some documents, several at a time. A document whose contexts are not all written, because
/// the work was stopped or the budget is spent, has a lower count than chunks.
///
/// # Errors
/// For each document the first error of its requests.
pub(super) fn write(
    opened: &Opened,
    driver: &Driver,
    targets: &mut [Target<'_>],
    stop: &StopToken,
    spending: &Spending,
) -> Result<Vec<Result<Written>>> {
    let Some(writing) = &opened.chunking.writing else {
        return Ok(targets.iter().map(|_| Ok(Written::default())).collect());
    };
    let Equipped { generator, config, mask } = writing.generator()?;
    let job = |document: &Document, chunk: &Chunk| {
        let request = request(opened, writing, document, chunk)?;
        let expected = expected(writing, &request, |text| generator.count_tokens(text));
        Ok(Job { request, owner: document.name.clone(), expected })
    };
    let wanted = targets.iter().flat_map(|target| target.chunks.iter().map(|chunk| (target.document, chunk)));
    let wanted: Vec<(&Document, &Chunk)> = wanted.collect();
    let cache = &*opened.storage.cache;
    let limits = &opened.config().limits;
    let mask = mask.as_ref();
    let runner = Runner { generator, cache, config, limits, mask, spending, stop };
    let replies = runner.run(driver, wanted.len(), |at| job(wanted[at].0, wanted[at].1))?;
    let mut replies = replies.into_iter();
    let limit = opened.chunking.chunker.limit();
    let outcomes = targets.iter_mut().map(|target| {
        let mut written = Written::default();
        let replies: Vec<_> = replies.by_ref().take(target.chunks.len()).collect();
        for (chunk, reply) in target.chunks.iter_mut().zip(replies) {
            let Some(reply) = reply? else { continue };
            match reply.cached {
                true => written.cached += 1,
                false => written.add(Written { asked: 1, cached: 0, tokens: reply.usage }),
            }
            chunk.add_context(&tidy_context(&reply.text, &writing.limit), limit);
        }
        Ok(written)
    });
    Ok(outcomes.collect())
}

/// Estimates the contexts of a document. Sends nothing.
pub(super) fn estimate(opened: &Opened, document: &Document, chunks: &[Chunk]) -> Result<Written> {
    let mut needed = Written::default();
    let Some(writing) = &opened.chunking.writing else { return Ok(needed) };
    let equipped = writing.generator().ok();
    let generator = equipped.map(|equipped| &equipped.generator);
    let mask = equipped.and_then(|equipped| equipped.mask.as_ref());
    let none = Fingerprint::of(["none"]);
    let key = |request: &GenerationRequest| match generator {
        Some(generator) => Runner::key(&**generator, request, mask),
        None => reply_key(&[none.as_str()]),
    };
    let requests: Vec<GenerationRequest> =
        chunks.iter().map(|chunk| request(opened, writing, document, chunk)).collect::<Result<_>>()?;
    let keys: Vec<String> = requests.iter().map(key).collect();
    let cached = opened.storage.cache.replies(&keys.iter().map(String::as_str).collect::<Vec<_>>())?;
    for (request, key) in requests.iter().zip(&keys) {
        if cached.contains_key(key) {
            needed.cached += 1;
            continue;
        }
        let count = |text: &str| generator.map_or_else(|| usual_tokens(text), |generator| generator.count_tokens(text));
        needed.add(Written { asked: 1, cached: 0, tokens: expected(writing, request, count) });
    }
    Ok(needed)
}
