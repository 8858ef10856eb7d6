//! `[tree]`: summaries of chunks that are alike, and of these summaries.

use logothete_core::tree::TreeSettings;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// `[tree]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct TreeConfig {
    /// Whether a build grows a tree, and of what.
    pub kind: TreeKind,
    /// The most chunks, or summaries, that are summed up together.
    pub max_parts: usize,
    /// The most words of a summary.
    pub max_words: usize,
    /// The most levels above the chunks.
    pub max_levels: u32,
    /// How much the leg `tree` counts for questions about the whole; 0 means that they are searched as others are.
    pub weight: f32,
    /// So many parts of the best summaries of each level are gone down to from the top; 0 looks at the summaries of all levels at once.
    pub width: usize,
}

/// What the summaries of a tree are made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum TreeKind {
    /// There is no tree.
    #[default]
    Off,
    /// Sentences of the chunks that stand for the others.
    Sentences,
    /// Summaries that the generator writes.
    Generator,
}

impl Default for TreeConfig {
    fn default() -> Self {
        let TreeSettings { groups, max_levels, max_words, .. } = TreeSettings::default();
        Self { kind: TreeKind::Off, max_parts: groups.max_parts, max_words, max_levels, weight: 1.0, width: 0 }
    }
}

impl TreeConfig {
    /// Returns how a tree grows.
    pub(crate) fn settings(&self) -> TreeSettings {
        let mut settings = TreeSettings::default();
        settings.groups.max_parts = self.max_parts;
        (settings.max_levels, settings.max_words) = (self.max_levels, self.max_words);
        settings
    }

    pub(super) fn validate(&self) -> Result<()> {
        let invalid = |place: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(place));
        if !(2..=1_000).contains(&self.max_parts) {
            return invalid("[tree] max_parts", "a group has from 2 to 1,000 parts");
        }
        if self.max_words == 0 || self.max_words > 2_000 {
            return invalid("[tree] max_words", "a summary has from 1 to 2,000 words");
        }
        if self.max_levels == 0 {
            return invalid("[tree] max_levels", "a tree has at least one level");
        }
        if !self.weight.is_finite() || self.weight < 0.0 {
            return invalid("[tree] weight", "a weight is 0 or more");
        }
        Ok(())
    }
}
