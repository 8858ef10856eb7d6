//! Measures of verdicts: how well a check finds the claims that their sources do not support.

use serde::{Deserialize, Serialize};

use crate::round::serialize_score;
use crate::verify::Verdict;

/// A verdict, and the one that was expected.
#[derive(Clone, Debug, PartialEq)]
pub struct JudgedClaim {
    /// What was expected.
    pub expected: Verdict,
    /// What was found.
    pub found: Verdict,
    /// The kind of truth or error, to count by; if empty, claims are counted by the verdict that was expected.
    pub kind: String,
}

/// How often a check was right. A claim is flagged if its verdict is not `supported`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct VerdictMeasures {
    /// The number of claims.
    pub claims: usize,
    /// The share of the flagged claims that are not supported.
    #[serde(serialize_with = "serialize_score")]
    pub precision: f32,
    /// The share of the claims that are not supported that were flagged.
    #[serde(serialize_with = "serialize_score")]
    pub recall: f32,
    /// The harmonic mean of precision and recall.
    #[serde(serialize_with = "serialize_score")]
    pub f1: f32,
    /// The share of the supported claims that were flagged.
    #[serde(serialize_with = "serialize_score")]
    pub false_alarms: f32,
    /// The same by kind, in the order in which the kinds came first.
    pub kinds: Vec<KindMeasure>,
}

/// How often a check was right on claims of one kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct KindMeasure {
    /// The kind.
    pub kind: String,
    /// The number of its claims.
    pub claims: usize,
    /// Those that were flagged, or not, as expected.
    pub right: usize,
}

/// Measures some verdicts; `None` without claims.
pub fn verdict_measures(judged: &[JudgedClaim]) -> Option<VerdictMeasures> {
    let count = |is_counted: &dyn Fn(&JudgedClaim) -> bool| judged.iter().filter(|one| is_counted(one)).count();
    let wrong = |one: &JudgedClaim| !one.expected.is_borne_out();
    let flagged = |one: &JudgedClaim| !one.found.is_borne_out();
    let share = |part: usize, whole: usize| if whole == 0 { 0.0 } else { part as f32 / whole as f32 };
    let found = count(&|one| wrong(one) && flagged(one));
    let (all_wrong, all_flagged) = (count(&wrong), count(&flagged));
    let mut kinds: Vec<KindMeasure> = Vec::new();
    for one in judged {
        let kind = if one.kind.is_empty() { one.expected.to_string() } else { one.kind.clone() };
        let right = usize::from(wrong(one) == flagged(one));
        match kinds.iter_mut().find(|known| known.kind == kind) {
            Some(known) => (known.claims, known.right) = (known.claims + 1, known.right + right),
            None => kinds.push(KindMeasure { kind, claims: 1, right }),
        }
    }
    (!judged.is_empty()).then(|| VerdictMeasures {
        claims: judged.len(),
        precision: share(found, all_flagged),
        recall: share(found, all_wrong),
        f1: share(2 * found, all_wrong + all_flagged),
        false_alarms: share(all_flagged - found, judged.len() - all_wrong),
        kinds,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn measures_by_hand() {
        use Verdict::{Contradicted, Partly, Supported, Unsupported};
        let one = |expected, found, kind: &str| JudgedClaim { expected, found, kind: kind.to_owned() };
        let judged = [
            one(Supported, Supported, ""),
            one(Supported, Partly, ""),
            one(Contradicted, Unsupported, "number"),
            one(Unsupported, Supported, "invented"),
        ];
        let measures = verdict_measures(&judged).expect("measures");
        assert_eq!((measures.precision, measures.recall, measures.f1, measures.false_alarms), (0.5, 0.5, 0.5, 0.5));
        let kinds: Vec<(&str, usize, usize)> =
            measures.kinds.iter().map(|kind| (kind.kind.as_str(), kind.claims, kind.right)).collect();
        assert_eq!(kinds, [("supported", 2, 1), ("number", 1, 1), ("invented", 1, 0)]);
        assert_eq!(verdict_measures(&[]), None);
    }
}
