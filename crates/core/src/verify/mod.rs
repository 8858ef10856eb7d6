//! Verification: whether a source supports a claim that cites it.
//!
//! A claim and the sentences of its source are taken apart (`statement`, `amounts`), the words of the one are laid beside those of the other (`align`), rules look
//! for differences (`rules`), a network reads the words of both together (`network`), and learned trees make a probability of these and of what the vectors tell
//! (`model`). `held` measures a claim by all of them, and `verifier` makes a verdict of it.

mod align;
mod amounts;
mod check;
mod claims;
mod foreign;
mod held;
mod judge;
mod lexicon;
mod meaning;
mod model;
mod network;
mod quotation;
mod rules;
mod statement;
mod told;
mod verifier;
mod vocabulary;

pub use check::{Support, Verdict, check};
pub use claims::{CitedClaim, cited_claims};
pub use held::{HeldClaim, SourceSentence};
pub use judge::{Judge, Judgement};
pub use meaning::Meaning;
pub use model::{SUPPORT_FACTS, SUPPORT_NAMES, SupportFacts, SupportModel, SupportTrees};
pub use rules::{Difference, DifferenceKind};
pub(crate) use told::Told;
pub use verifier::{Finding, MIN_SUPPORT, verify};
