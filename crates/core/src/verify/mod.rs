//! Verification: whether a passage supports a claim that cites it.

mod check;
mod claims;

pub use check::{Support, Verdict, check};
pub use claims::{CitedClaim, cited_claims};
