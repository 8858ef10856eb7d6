//! Verification: whether a passage supports a claim that cites it.

mod check;

pub use check::{Support, Verdict, check};
