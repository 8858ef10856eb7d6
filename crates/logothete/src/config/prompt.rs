//! `[prompt]`: how answers are asked for.

use std::path::PathBuf;

use logothete_core::prompt::{AnswerMode, AnswerSettings, Reading};
use serde::{Deserialize, Serialize};

use super::GeneratorConfig;

/// `[prompt]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct PromptConfig {
    /// What an answer may be made of.
    pub mode: AnswerMode,
    /// How the passages are given to a model.
    pub reading: Reading,
    /// The language of answers; empty means that of the question.
    pub language: String,
    /// The highest number of sentences of an answer; 0 means no limit.
    pub max_sentences: u32,
    /// A sentence for the instruction about the style of answers.
    pub style: String,
    /// The number of turns of a conversation that are sent word for word; older ones are summarised.
    pub history_turns: usize,
    /// The number of words of the summary.
    pub summary_words: usize,
    /// A folder of templates that replace the default ones of the same names; empty means none.
    pub templates: PathBuf,
}

impl Default for PromptConfig {
    fn default() -> Self {
        Self {
            mode: AnswerMode::default(),
            reading: Reading::default(),
            language: String::new(),
            max_sentences: 0,
            style: String::new(),
            history_turns: 3,
            summary_words: 150,
            templates: PathBuf::new(),
        }
    }
}

impl PromptConfig {
    /// Returns how answers are asked for from a generator.
    pub(crate) fn answers(&self, generator: &GeneratorConfig) -> AnswerSettings {
        let mut settings = AnswerSettings::default();
        settings.mode = self.mode;
        settings.language.clone_from(&self.language);
        settings.max_sentences = (self.max_sentences > 0).then_some(self.max_sentences);
        settings.style.clone_from(&self.style);
        (settings.context_tokens, settings.reply_tokens) = (generator.context_tokens, generator.max_tokens);
        settings
    }
}
