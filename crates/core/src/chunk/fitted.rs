//! Cuts chunks that an encoder would truncate.

use std::sync::Arc;

use super::context::Contexts;
use super::divided::cut_parts;
use super::{Chunker, Limit, TokenCounter, Unit, indexed_text};
use crate::document::{Document, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// A chunk is not cut into parts with fewer tokens than this.
const MIN_TOKENS: usize = 16;

/// Wraps a chunker, and cuts each of its chunks that has more tokens than an encoder reads, its context included.
///
/// A limit in words suits text; code and tables of figures have more tokens in as many words. Costs counting the tokens of each
/// chunk.
pub struct Fitted {
    chunker: Arc<dyn Chunker>,
    unit: Unit,
    counter: TokenCounter,
    max_tokens: usize,
}

impl std::fmt::Debug for Fitted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Fitted")
            .field("counter", &self.counter)
            .field("max_tokens", &self.max_tokens)
            .finish_non_exhaustive()
    }
}

impl Fitted {
    /// Wraps a chunker. `max_tokens` is the number of tokens that the encoder reads.
    pub fn new(chunker: Arc<dyn Chunker>, counter: TokenCounter, max_tokens: usize) -> Self {
        Self { chunker, unit: Unit::Tokens(counter.clone()), counter, max_tokens }
    }

    /// Cuts a span whose chunk is too long, with less and less room until the parts fit.
    fn fit(
        &self,
        document: &Document,
        contexts: &Contexts<'_>,
        span: Span,
        room: usize,
        cuts: &mut Vec<Span>,
    ) -> Result<()> {
        let text = document.slice(span);
        let context = contexts.above(span, self.limit()).context;
        if room < MIN_TOKENS || self.unit.measure(&indexed_text(&context, text)) <= self.max_tokens {
            cuts.push(span);
            return Ok(());
        }
        let limit = Limit::new(self.unit.clone(), room, 0)?;
        for part in cut_parts(document, [span], &limit) {
            self.fit(document, contexts, part, room * 3 / 4, cuts)?;
        }
        Ok(())
    }
}

impl Chunker for Fitted {
    fn fingerprint(&self) -> Fingerprint {
        let parts = [self.chunker.fingerprint(), self.counter.fingerprint().clone()].map(|part| part.to_string());
        Fingerprint::of(parts.into_iter().chain([format!("fitted 1 {}", self.max_tokens)]))
    }

    fn limit(&self) -> Option<&Limit> {
        self.chunker.limit()
    }

    fn applies_to(&self, document: &Document) -> bool {
        self.chunker.applies_to(document)
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let mut cuts = Vec::new();
        for span in self.chunker.cut(document)? {
            self.fit(document, &contexts, span, self.max_tokens, &mut cuts)?;
        }
        Ok(cuts)
    }
}
