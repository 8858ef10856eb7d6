//! The functions between the two matrices of a feed-forward part.

use serde::{Deserialize, Serialize};

/// The function between the two matrices of a feed-forward part.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Activation {
    /// The Gaussian error linear unit.
    Gelu,
    /// The same by the hyperbolic tangent.
    GeluTanh,
    /// Zero for what is below zero.
    Relu,
}
