//! Where several documents differ: statements on the same matter that cannot both hold.

use serde::{Deserialize, Serialize};

use super::Digest;
use super::candidates::{Candidates, weighted_terms};
use super::extract::source;
use crate::answer::OtherSource;
use crate::error::Result;
use crate::search::Passage;
use crate::verify::{Judge, Verdict};

/// From this probability on, two statements speak of the same matter.
const MIN_SPEAKS: f32 = 0.9;
/// A statement is held against so many sentences of another document, those with most of its words.
const MAX_SENTENCES: usize = 6;

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

/// Returns where documents differ: for each sentence that the digest of one quotes, one of another document that contradicts it. `documents` are all passages
/// of the document of each digest.
///
/// Costs comparing the words of each quotation with each sentence of the other documents, and holding it against some.
///
/// # Errors
/// If the encoder of the judge fails.
pub fn differences(digests: &[Digest], documents: &[&[Passage]], judge: &Judge<'_>) -> Result<Vec<DigestDifference>> {
    let all: Vec<Candidates<'_>> = documents.iter().map(|passages| Candidates::of(passages)).collect();
    let mut found: Vec<DigestDifference> = Vec::new();
    for (at, digest) in digests.iter().enumerate() {
        for other in all.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, other)| other) {
            let quoted = digest.sources.iter().map(|source| source.quotation.as_str());
            let texts: Vec<&str> = quoted.chain(other.all.iter().map(|one| one.text.as_str())).collect();
            let terms = weighted_terms(&texts);
            let (own, theirs) = terms.split_at(digest.sources.len());
            for (source_of, own) in digest.sources.iter().zip(own) {
                let shared = |terms: &std::collections::HashMap<String, f32>| -> f32 {
                    own.iter().filter_map(|(term, weight)| Some(weight * terms.get(term)?)).sum()
                };
                let mut likely: Vec<(usize, f32)> = theirs.iter().map(shared).enumerate().collect();
                likely.retain(|(_, likeness)| *likeness > 0.0);
                likely.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
                likely.truncate(MAX_SENTENCES);
                for (place, _) in likely {
                    let theirs = &other.all[place];
                    let held = judge.hold_against(&source_of.quotation, &[&theirs.text])?.finding;
                    if held.verdict != Verdict::Contradicted || held.speaks < MIN_SPEAKS {
                        continue;
                    }
                    let one = OtherSource::new(source_of.location.clone(), &source_of.quotation);
                    let theirs = source(&other.passages[theirs.passage], theirs.sentence, 0);
                    let theirs = OtherSource::new(theirs.location, theirs.quotation);
                    let is_known = found.iter().any(|known| {
                        (known.one == one && known.other == theirs) || (known.one == theirs && known.other == one)
                    });
                    if !is_known {
                        let reason = held.reason.unwrap_or_else(|| "they say different things".to_owned());
                        found.push(DigestDifference { reason, one, other: theirs });
                    }
                    break;
                }
            }
        }
    }
    Ok(found)
}
