//! Writing contexts: asking the generator for what the cache does not hold.

use logothete_core::chunk::Chunk;
use logothete_core::cite::Tokens;
use logothete_core::document::Document;
use logothete_core::prompt::{Prompt, context_prompt, tidy_context};
use logothete_core::{Fingerprint, Result};

use super::StopToken;
use super::spending::Spending;
use crate::chunking::Writing;
use crate::corpus::{Cache, Inner};
use crate::generate::{Generator, usual_tokens};
use crate::pool::Waiter;

/// What contexts were written, or would have to be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Written {
    /// By a generator.
    pub asked: usize,
    /// Found in the cache.
    pub cached: usize,
    /// What the generator read and wrote.
    pub tokens: Tokens,
}

impl Written {
    pub(super) fn add(&mut self, other: Self) {
        self.asked += other.asked;
        self.cached += other.cached;
        self.tokens.sent += other.tokens.sent;
        self.tokens.received += other.tokens.received;
    }
}

fn prompt(writing: &Writing, document: &Document, chunk: &Chunk) -> Prompt {
    context_prompt(document, chunk, writing.around, writing.most_words())
}

/// Writes the contexts of a document's chunks. Each reply is kept before the next is asked for.
pub(super) fn write(
    inner: &Inner,
    document: &Document,
    chunks: &mut [Chunk],
    waiter: &Waiter,
    stop: &StopToken,
    spending: &Spending,
) -> Result<Written> {
    let mut written = Written::default();
    let Some(writing) = &inner.chunking.writing else { return Ok(written) };
    let generator = writing.generator()?;
    let limit = inner.chunking.chunker.limit();
    for chunk in chunks {
        let prompt = prompt(writing, document, chunk);
        let key = Cache::key(&generator.fingerprint(), &prompt);
        let generated = match inner.cache.get(&key)? {
            Some(generated) => {
                written.cached += 1;
                generated
            }
            // A document whose contexts are not all written is not taken in.
            None if stop.is_stopped() => break,
            None => {
                let expected = expected(writing, &prompt, |text| generator.count_tokens(text));
                let price = |tokens: Tokens| inner.pipeline.settings.price(tokens);
                if !spending.spend(expected.sent + expected.received, price(expected)) {
                    break;
                }
                let generated = waiter.wait(generator.generate(&prompt))?;
                inner.cache.put(&key, &generated, &document.name)?;
                // What it really took goes into the sums, now that it is known.
                spending.give_back(expected.sent + expected.received, price(expected));
                spending.count(generated.tokens.sent + generated.tokens.received, price(generated.tokens));
                written.add(Written { asked: 1, cached: 0, tokens: generated.tokens });
                generated
            }
        };
        chunk.add_context(&tidy_context(&generated.text, &writing.limit), limit);
    }
    Ok(written)
}

/// What a prompt takes: what is sent, and at most what comes back.
fn expected(writing: &Writing, prompt: &Prompt, count: impl Fn(&str) -> u64) -> Tokens {
    Tokens { sent: count(&prompt.text()), received: (writing.most_words() as u64 * 4).div_ceil(3) }
}

/// What writing them would take. Nothing is asked.
pub(super) fn estimate(inner: &Inner, document: &Document, chunks: &[Chunk]) -> Result<Written> {
    let mut needed = Written::default();
    let Some(writing) = &inner.chunking.writing else { return Ok(needed) };
    let generator = writing.generator().ok();
    let fingerprint = generator.map_or_else(|| Fingerprint::of(["none"]), Generator::fingerprint);
    for chunk in chunks {
        let prompt = prompt(writing, document, chunk);
        if inner.cache.get(&Cache::key(&fingerprint, &prompt))?.is_some() {
            needed.cached += 1;
            continue;
        }
        let count = |text: &str| generator.map_or_else(|| usual_tokens(text), |generator| generator.count_tokens(text));
        needed.add(Written { asked: 1, cached: 0, tokens: expected(writing, &prompt, count) });
    }
    Ok(needed)
}
