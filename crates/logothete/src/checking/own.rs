//! Checks of the user's own, beside the verification of the library.

use std::sync::Arc;

use logothete_core::answer::{Answer, Claim, Status};
use logothete_core::verify::Verdict;
use logothete_core::{Fingerprint, Result};

use super::report::CheckedClaim;
use crate::threads::caught_in;

/// Looks at each claim of an answer, or of a text that is checked. Give it to [`Pipeline::with_check`](crate::Pipeline::with_check).
///
/// It may know rules of the house that no document states: what must not be told, which unit must be used, or which number is out of date. A check
/// that fails leaves a claim partly supported at best, and the claim says so.
pub trait Check: Send + Sync {
    /// Returns the name of the check in reasons.
    fn name(&self) -> &str;

    /// Returns a fingerprint that changes whenever it may object to other claims.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([self.name()])
    }

    /// Returns what is wrong with a claim; `None` if nothing is.
    ///
    /// # Errors
    /// If it cannot tell.
    fn check(&self, claim: &ClaimToCheck<'_>) -> Result<Option<Objection>>;
}

/// A claim that a check looks at.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct ClaimToCheck<'a> {
    /// The claim, without its markers.
    pub text: &'a str,
    /// What its sources say, word for word.
    pub quotations: Vec<&'a str>,
    /// The verdict of the library.
    pub verdict: Verdict,
}

/// What is wrong with a claim.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Objection {
    /// The verdict that the claim gets, unless it has a worse one.
    pub verdict: Verdict,
    /// Why, in words.
    pub reason: String,
}

impl<'a> ClaimToCheck<'a> {
    /// Creates a claim with the text of its sources.
    pub fn new(text: &'a str, quotations: impl IntoIterator<Item = &'a str>, verdict: Verdict) -> Self {
        Self { text, quotations: quotations.into_iter().collect(), verdict }
    }
}

impl Objection {
    /// Objects that nothing supports the claim.
    pub fn unsupported(reason: impl Into<String>) -> Self {
        Self { verdict: Verdict::Unsupported, reason: reason.into() }
    }

    /// Objects that the claim is wrong.
    pub fn contradicted(reason: impl Into<String>) -> Self {
        Self { verdict: Verdict::Contradicted, reason: reason.into() }
    }

    /// Objects that the claim is true in part.
    pub fn partly(reason: impl Into<String>) -> Self {
        Self { verdict: Verdict::Partly, reason: reason.into() }
    }
}

/// Returns how bad a verdict is.
fn gravity(verdict: Verdict) -> u8 {
    match verdict {
        Verdict::Contradicted => 3,
        Verdict::Unsupported => 2,
        Verdict::Partly => 1,
        _ => 0,
    }
}

/// Returns the gravest objection to a claim that is worse than its verdict.
fn objection(checks: &[Arc<dyn Check>], claim: &ClaimToCheck<'_>) -> Option<Objection> {
    let objects = |check: &Arc<dyn Check>| {
        let name = check.name();
        match caught_in("the check", || check.check(claim)) {
            Ok(found) => found
                .map(|found| Objection {
                    reason: format!("the check “{name}” objects: {}", found.reason), ..found
                }),
            Err(error) => Some(Objection::partly(format!("the check “{name}” failed: {error}"))),
        }
    };
    let mut found: Option<Objection> = None;
    for one in checks.iter().filter_map(objects) {
        let worst = found.as_ref().map_or(claim.verdict, |other| other.verdict);
        if gravity(one.verdict) > gravity(worst) {
            found = Some(one);
        }
    }
    found
}

/// Lets the user's own checks look at the claims of an answer. Returns how many they object to.
pub(crate) fn object_to_answer(checks: &[Arc<dyn Check>], answer: &mut Answer) -> usize {
    if checks.is_empty() || answer.status == Status::Refused {
        return 0;
    }
    let mut count = 0;
    for claim in &mut answer.claims {
        let own = answer.sources.iter().filter(|source| claim.citations.contains(&source.marker));
        let quotations = own.map(|source| source.quotation.as_str());
        let found = objection(checks, &ClaimToCheck::new(&claim.text, quotations, claim.verdict));
        if let Some(found) = found {
            take(claim, found);
            count += 1;
        }
    }
    count
}

fn take(claim: &mut Claim, objection: Objection) {
    (claim.verdict, claim.reason) = (objection.verdict, Some(objection.reason));
}

/// Lets the user's own checks look at a claim of a text.
pub(super) fn object_to_claim(checks: &[Arc<dyn Check>], claim: &mut CheckedClaim) {
    let quotations = claim.quotation.iter().map(String::as_str);
    if let Some(found) = objection(checks, &ClaimToCheck::new(&claim.claim, quotations, claim.verdict)) {
        (claim.verdict, claim.reason) = (found.verdict, Some(found.reason));
    }
}
