//! What a tree would cost, before a model is asked.

use logothete_core::prompt::group_prompt;
use logothete_core::{Result, TokenUsage};
use serde::Serialize;

use super::tell::reply_tokens;
use crate::config::{GeneratorRole, TreeKind};
use crate::opened::Opened;
use crate::pipeline::Equipped;

/// So many chunks have a summary, counted over all levels: 5.3 in a tree over 100,000 chunks, and 3.3 in one over the 40 chunks of a document.
const CHUNKS_OF_SUMMARY: u64 = 3;

/// What a model would be asked for a tree of the chunks that a build reads. A tree that is there follows them for less.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct TreeEstimate {
    /// The number of summaries, roughly: how chunks are grouped is known when they are.
    pub summaries: u64,
    /// The tokens that the generator would read, and at most write.
    pub tokens: TokenUsage,
}

/// Counts the chunks of a tree.
pub(crate) struct TreeCounter {
    equipped: Equipped,
    chunks: u64,
    tokens: u64,
}

impl TreeCounter {
    /// Returns a counter if a model is to write summaries.
    pub(crate) fn new(opened: &Opened) -> Result<Option<Self>> {
        if opened.config().tree.kind != TreeKind::Generator {
            return Ok(None);
        }
        let equipped = opened.pipeline.generator(GeneratorRole::Tree)?;
        Ok(equipped.map(|equipped| Self { equipped, chunks: 0, tokens: 0 }))
    }

    pub(crate) fn add(&mut self, text: &str) {
        self.chunks += 1;
        self.tokens += self.equipped.generator.count_tokens(text);
    }

    /// Returns the estimate, and its price.
    ///
    /// # Errors
    /// If a template fails.
    pub(crate) fn finish(self, opened: &Opened) -> Result<(TreeEstimate, f64)> {
        let max_words = opened.config().tree.max_words;
        let summaries = self.chunks.div_ceil(CHUNKS_OF_SUMMARY);
        let instruction = group_prompt(&[], max_words, opened.pipeline.templates())?;
        let instruction = self.equipped.generator.count_tokens(&instruction.text());
        let received = summaries * reply_tokens(max_words, self.equipped.config.max_tokens);
        // Each chunk is read once, and each summary by the one above it.
        let sent = self.tokens + summaries * instruction + received;
        let tokens = TokenUsage { sent, received };
        Ok((TreeEstimate { summaries, tokens }, self.equipped.config.price(tokens)))
    }
}
