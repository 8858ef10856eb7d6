//! Cuts chunks that an encoder would truncate.

use std::sync::Arc;

use super::context::Contexts;
use super::divided::cut_parts;
use super::piece::parts;
use super::{Chunker, Limit, TokenCounter, Unit, indexed_text, shortened_runs};
use crate::document::{BlockKind, Document, Span};
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

    /// Returns `true` if the encoder reads all of the chunk at a span.
    fn fits(&self, document: &Document, contexts: &Contexts<'_>, span: Span) -> bool {
        let context = contexts.above(span, self.limit()).context;
        self.unit.measure(&indexed_text(&context, document.slice(span))) <= self.max_tokens
    }

    /// Adds a span, or the halves of a chunk that is too long, and so on until the parts fit.
    fn fit(&self, document: &Document, contexts: &Contexts<'_>, span: Span, cuts: &mut Vec<Span>) -> Result<()> {
        if self.fits(document, contexts, span) {
            cuts.push(span);
            return Ok(());
        }
        match self.middle(document, span) {
            Some(middle) => {
                let text = document.slice(span);
                let at = middle - span.start;
                let first = Span::new(span.start, span.start + text[..at].trim_end().len());
                self.fit(document, contexts, first, cuts)?;
                self.fit(document, contexts, Span::new(middle, span.end), cuts)
            }
            None => self.fit_words(document, contexts, span, self.max_tokens, cuts),
        }
    }

    /// Returns the beginning of the sentence, row or line that is nearest to the middle of a span by tokens. Headings stay with what
    /// follows them, and a table's header with its first row. `None` means that the span has one part.
    fn middle(&self, document: &Document, span: Span) -> Option<usize> {
        let mut tokens = 0;
        // The beginning of each part that may begin a chunk, and the tokens before it.
        let mut starts: Vec<(usize, usize)> = Vec::new();
        let mut may_begin = false;
        let first = document.blocks.partition_point(|block| block.span.end <= span.start);
        for block in document.blocks[first..].iter().take_while(|block| block.span.start < span.end) {
            let inside = Span::new(block.span.start.max(span.start), block.span.end.min(span.end));
            let header_end =
                block.table.as_ref().and_then(|table| table.rows.get(table.header_rows)).map(|row| row.span.start);
            // The indent of a line belongs to it.
            let clipped = |part: Span| Span::new(part.start.max(inside.start), part.end.min(inside.end));
            for part in parts(document, block).into_iter().map(clipped).filter(|part| !part.is_empty()) {
                let is_first_row = header_end == Some(part.start);
                if may_begin && !is_first_row {
                    starts.push((part.start, tokens));
                }
                tokens += self.unit.measure(&shortened_runs(document.slice(part)));
                may_begin = !matches!(block.kind, BlockKind::Heading | BlockKind::Caption);
            }
        }
        starts.into_iter().min_by_key(|(_, before)| before.abs_diff(tokens - before)).map(|(start, _)| start)
    }

    /// Cuts a sentence, a row or a line between words, with less and less room until the parts fit.
    fn fit_words(
        &self,
        document: &Document,
        contexts: &Contexts<'_>,
        span: Span,
        room: usize,
        cuts: &mut Vec<Span>,
    ) -> Result<()> {
        if room < MIN_TOKENS || self.fits(document, contexts, span) {
            cuts.push(span);
            return Ok(());
        }
        let limit = Limit::new(self.unit.clone(), room, 0)?;
        for part in cut_parts(document, [span], &limit) {
            self.fit_words(document, contexts, part, room * 3 / 4, cuts)?;
        }
        Ok(())
    }
}

impl Chunker for Fitted {
    fn fingerprint(&self) -> Fingerprint {
        let parts = [self.chunker.fingerprint(), self.counter.fingerprint().clone()].map(|part| part.to_string());
        Fingerprint::of(parts.into_iter().chain([format!("fitted 2 {}", self.max_tokens)]))
    }

    fn limit(&self) -> Option<&Limit> {
        self.chunker.limit()
    }

    fn keeps_sentences(&self) -> bool {
        self.chunker.keeps_sentences()
    }

    fn applies_to(&self, document: &Document) -> bool {
        self.chunker.applies_to(document)
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let mut cuts = Vec::new();
        for span in self.chunker.cut(document)? {
            self.fit(document, &contexts, span, &mut cuts)?;
        }
        Ok(cuts)
    }
}
