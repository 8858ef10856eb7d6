//! Checks whether a passage supports a claim.

use std::collections::HashSet;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::text::{fold, is_stopword, without_markers, words};

/// The verdict of a claim against the passage that it cites.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Verdict {
    /// The passage supports it.
    Supported,
    /// The passage supports part of it.
    Partly,
    /// The passage says otherwise.
    Contradicted,
    /// The passage does not support it.
    Unsupported,
    /// It was computed from what it cites.
    Computed,
}

impl Verdict {
    /// Returns `true` if what is cited bears it out in full.
    pub fn is_borne_out(self) -> bool {
        matches!(self, Self::Supported | Self::Computed)
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Supported => "supported",
            Self::Partly => "partly supported",
            Self::Contradicted => "contradicted",
            Self::Unsupported => "not supported",
            Self::Computed => "computed",
        })
    }
}

/// The result of a check.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Support {
    /// The verdict.
    pub verdict: Verdict,
    /// The share of the claim that is supported, from 0 to 1.
    pub share: f32,
}

/// Compares a claim with the cited passage. `evidence` is the text of the passage, with its context if that names columns.
///
/// A claim that occurs in the evidence word for word has a share of 1. Otherwise the share is that of the claim's content words
/// that the evidence has; a number that the evidence lacks halves it. A share from 0.9 is supported, from 0.5 partly.
/// This checks words and not meaning: a denial of the evidence can pass. [`verify`](super::verify) does both.
pub fn check(claim: &str, evidence: &str) -> Support {
    let claim = without_markers(claim);
    let claimed: Vec<_> = words(&claim).collect();
    let evident: Vec<_> = words(evidence).collect();
    let verbatim = !claimed.is_empty()
        && evident
            .windows(claimed.len())
            .any(|window| window.iter().zip(&claimed).all(|(a, b)| fold(a.text) == fold(b.text)));
    let share = if verbatim {
        1.0
    } else {
        let known: HashSet<&str> = evident.iter().map(|word| word.term.as_str()).collect();
        let telling: Vec<_> = claimed.iter().filter(|word| !is_stopword(&fold(word.text))).collect();
        let found = telling.iter().filter(|word| known.contains(word.term.as_str())).count();
        let number_missing = telling
            .iter()
            .any(|word| word.text.contains(|c: char| c.is_numeric()) && !known.contains(word.term.as_str()));
        let share = if telling.is_empty() { 0.0 } else { found as f32 / telling.len() as f32 };
        if number_missing { share / 2.0 } else { share }
    };
    let verdict = match share {
        s if s >= 0.9 => Verdict::Supported,
        s if s >= 0.5 => Verdict::Partly,
        _ => Verdict::Unsupported,
    };
    Support { verdict, share }
}

#[cfg(test)]
mod tests {
    use super::{Verdict, check};
    use rstest::rstest;

    const EVIDENCE: &str =
        "A vessel drawing more than 5.4 metres shall not enter the North Channel.\nBerth | Length\nBerth 9 | 110";

    #[rstest]
    #[case("A vessel drawing more than 5.4 metres shall not enter the North Channel.", Verdict::Supported)]
    #[case("Berth 9 · Length: 110", Verdict::Supported)]
    #[case("A vessel drawing 6.4 metres shall not enter the North Channel.", Verdict::Unsupported)]
    #[case("Vessels in the North Channel pay a fee.", Verdict::Partly)]
    #[case("Cranes stop in strong winds.", Verdict::Unsupported)]
    #[case("A vessel drawing more than 5.4 metres shall not enter the North Channel. [2]", Verdict::Supported)]
    #[case("Vessels drawing more than 5.4 metres shall not enter the North Channel.[2][13]", Verdict::Supported)]
    #[case("", Verdict::Unsupported)]
    fn verdicts(#[case] claim: &str, #[case] expected: Verdict) {
        assert_eq!(check(claim, EVIDENCE).verdict, expected);
    }
}
