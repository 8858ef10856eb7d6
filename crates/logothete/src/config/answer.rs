//! `[answer]`: how answers are made and held against their sources.

use logothete_core::answer::UnsupportedPolicy;
use logothete_core::evidence::AnswerLength;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// Settings of answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct AnswerConfig {
    /// The least probability, from 0 to 1, that the evidence answers the question. An answer below it is called the closest, and not sure.
    pub min_confidence: f32,
    /// How long an answer without a model is.
    pub length: AnswerLength,
    /// What is done with claims of a model that their sources do not bear out.
    pub unsupported: UnsupportedPolicy,
}

impl Default for AnswerConfig {
    fn default() -> Self {
        Self { min_confidence: 0.3, length: AnswerLength::default(), unsupported: UnsupportedPolicy::default() }
    }
}

impl AnswerConfig {
    pub(super) fn validate(&self) -> Result<()> {
        if !(0.0..=1.0).contains(&self.min_confidence) {
            let message = "this is a probability; set a number from 0 to 1";
            return Err(Error::new(ErrorKind::Configuration, message).at("[answer] min_confidence"));
        }
        Ok(())
    }
}
