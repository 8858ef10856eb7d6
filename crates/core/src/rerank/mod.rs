//! Reranking: the best candidates of a fused ranking are looked at more closely and put in a new order.
//!
//! [`Facts`] are measured of each candidate; [`features`] compares them with the other candidates of the list; a [`Linear`] model
//! makes a probability of them.

mod facts;
mod features;
mod learned;
mod linear;

pub use facts::{Facts, Measured, Question, densities, normalised};
pub use features::{FEATURES, FeatureRow, features};
pub use learned::learned;
pub use linear::{Linear, RankedList};
