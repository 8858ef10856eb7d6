//! `[privacy]`: what may leave the machine.

use serde::{Deserialize, Serialize};

/// `[privacy]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct PrivacyConfig {
    /// The hosts that may be connected to; none if empty.
    pub allow: Vec<String>,
}
