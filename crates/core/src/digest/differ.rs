//! Where several documents differ: statements on the same matter that cannot both hold.

use serde::{Deserialize, Serialize};

use super::Digest;
use crate::answer::OtherSource;
use crate::error::Result;
use crate::verify::{Judge, Verdict};

/// From this probability on, two statements speak of the same matter.
const MIN_SPEAKS: f32 = 0.9;

/// Two statements of different documents that cannot both hold.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct DigestDifference {
    /// What differs, in words.
    pub reason: String,
    /// What the one document says.
    pub one: OtherSource,
    /// What the other one says.
    pub other: OtherSource,
}

/// Returns where digests differ: for each statement of one, the sentence of another that contradicts it. Only what the digests quote is compared.
///
/// Costs holding each statement against the sources of each other digest.
///
/// # Errors
/// If the encoder of the judge fails.
pub fn differences(digests: &[Digest], judge: &mut Judge<'_>) -> Result<Vec<DigestDifference>> {
    let mut found: Vec<DigestDifference> = Vec::new();
    for (at, digest) in digests.iter().enumerate() {
        for other in &digests[at + 1..] {
            let quotations: Vec<&str> = other.sources.iter().map(|source| source.quotation.as_str()).collect();
            if quotations.is_empty() {
                continue;
            }
            for source in &digest.sources {
                let held = judge.hold_against(&source.quotation, &quotations)?;
                let finding = &held.finding;
                let Some((_, place)) = held.place else { continue };
                if finding.verdict != Verdict::Contradicted || finding.speaks < MIN_SPEAKS {
                    continue;
                }
                let quoted = |source: &crate::answer::CitedSource| {
                    OtherSource::new(source.location.clone(), source.quotation.clone())
                };
                let difference = DigestDifference {
                    reason: finding.reason.clone().unwrap_or_else(|| "they say different things".to_owned()),
                    one: quoted(source),
                    other: quoted(&other.sources[place]),
                };
                if !found.iter().any(|known| known.one == difference.one && known.other == difference.other) {
                    found.push(difference);
                }
            }
        }
    }
    Ok(found)
}
