//! Generators: what writes text from a prompt.

use logothete_core::cite::Tokens;
use logothete_core::prompt::Prompt;
use logothete_core::text::count_words;
use logothete_core::{Fingerprint, Result};
use serde::{Deserialize, Serialize};

use crate::source::BoxFuture;

/// Writes text from a prompt: a model, wherever it runs.
///
/// Implement it to bring your own. Replies are kept by the fingerprint and the prompt: the same is not asked twice.
pub trait Generator: Send + Sync {
    /// What a person would call it.
    fn name(&self) -> String;

    /// Changes whenever the same prompt would be answered by something else: model, version, settings.
    fn fingerprint(&self) -> Fingerprint;

    /// Writes.
    ///
    /// # Errors
    /// When nothing came back. [`is_retryable`](logothete_core::Error::is_retryable) says whether to try again.
    fn generate<'a>(&'a self, prompt: &'a Prompt) -> BoxFuture<'a, Result<Generated>>;

    /// How many tokens a text is to it, for estimates. Four for three words, unless it counts otherwise.
    fn count_tokens(&self, text: &str) -> u64 {
        usual_tokens(text)
    }
}

/// The tokens of a text where nothing is known of the generator.
pub(crate) fn usual_tokens(text: &str) -> u64 {
    (count_words(text) as u64 * 4).div_ceil(3)
}

/// What a generator wrote.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Generated {
    /// The text.
    pub text: String,
    /// What it read and wrote, in its own tokens.
    pub tokens: Tokens,
}
