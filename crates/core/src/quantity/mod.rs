//! Quantities in texts: numbers in several notations, with their units.

mod number;
mod unit;

pub use number::{Notation, Number, numbers, parse_number};
pub use unit::{Dimension, Unit};
