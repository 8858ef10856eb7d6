//! `[answer]`: how answers without a model are made.

use logothete_core::evidence::AnswerLength;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// Settings of answers without a model.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct AnswerConfig {
    /// The least probability, from 0 to 1, that the evidence answers the question. An answer below it is called the closest, and not sure.
    pub min_confidence: f32,
    /// How long an answer is.
    pub length: AnswerLength,
}

impl Default for AnswerConfig {
    fn default() -> Self {
        Self { min_confidence: 0.3, length: AnswerLength::default() }
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
