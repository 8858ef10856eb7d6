//! Token counts of a model.

use std::ops::AddAssign;

use serde::{Deserialize, Serialize};

/// The tokens that a generator received and produced, by its own count. Both are 0 if no model was called.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenUsage {
    /// The tokens of the prompts.
    #[serde(rename = "in")]
    pub sent: u64,
    /// The tokens of the replies.
    #[serde(rename = "out")]
    pub received: u64,
}

impl TokenUsage {
    /// Returns the sum of both.
    pub fn total(self) -> u64 {
        self.sent.saturating_add(self.received)
    }

    /// Returns `true` if no tokens were counted.
    pub fn is_zero(&self) -> bool {
        self.sent == 0 && self.received == 0
    }
}

impl AddAssign for TokenUsage {
    fn add_assign(&mut self, other: Self) {
        self.sent = self.sent.saturating_add(other.sent);
        self.received = self.received.saturating_add(other.received);
    }
}
