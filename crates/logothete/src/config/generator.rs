//! `[generator]`: how answers and contexts are written, and what a model costs.

use logothete_core::evidence::MIN_COVERAGE;
use logothete_core::{Error, ErrorKind, Result, TokenUsage};
use serde::{Deserialize, Serialize};

/// `[generator]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct GeneratorConfig {
    /// The share of a question, from 0 to 1, that an answer must cover. A question below it is refused.
    pub min_coverage: f32,
    /// The number of requests to a generator that are under way at a time.
    pub max_concurrent: usize,
    /// The number of times that a request is sent again when the generator is busy or fails.
    pub max_retries: u32,
    /// The price of a million tokens sent to a generator, in any currency.
    pub price_sent: f64,
    /// The price of a million tokens received.
    pub price_received: f64,
}

impl Default for GeneratorConfig {
    fn default() -> Self {
        Self { min_coverage: MIN_COVERAGE, max_concurrent: 8, max_retries: 3, price_sent: 0.0, price_received: 0.0 }
    }
}

impl GeneratorConfig {
    /// Returns the price of tokens.
    pub(crate) fn price(&self, tokens: TokenUsage) -> f64 {
        (tokens.sent as f64 * self.price_sent + tokens.received as f64 * self.price_received) / 1e6
    }

    pub(super) fn validate(&self) -> Result<()> {
        let invalid = |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(key));
        if !(0.0..=1.0).contains(&self.min_coverage) {
            return invalid("[generator] min_coverage", "this is a share; set a number from 0 to 1");
        }
        if self.max_concurrent == 0 {
            return invalid("[generator] max_concurrent", "no request could be sent; set 1 or more");
        }
        if [self.price_sent, self.price_received].iter().any(|price| !price.is_finite() || *price < 0.0) {
            return invalid("[generator] price_sent, price_received", "a price is 0 or more, for a million tokens");
        }
        Ok(())
    }
}
