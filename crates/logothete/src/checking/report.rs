//! What a check found.

use logothete_core::eval::{JudgedClaim, VerdictMeasures, verdict_measures};
use logothete_core::search::Passage;
use logothete_core::verify::{Judgement, Verdict};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize, Serializer};
use serde_json::Value;

use crate::answer::OtherSource;

/// The claims of a text, held against a corpus.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CheckReport {
    /// The name of the text.
    pub text: String,
    /// The claims, in the order of the text; `checks` in JSON.
    #[serde(rename = "checks")]
    pub claims: Vec<CheckedClaim>,
}

/// A claim that was held against a corpus.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct CheckedClaim {
    /// The claim, without what it cites.
    pub claim: String,
    /// Its line in the text, counted from 1.
    pub line: usize,
    /// The verdict.
    pub verdict: Verdict,
    /// The probability that the evidence supports it.
    #[serde(serialize_with = "serialize_probability")]
    pub probability: f32,
    /// Why it is not supported, in words; or what another source says.
    pub reason: Option<String>,
    /// The documents and pages that it cites, as the text names them.
    #[serde(rename = "citations")]
    pub cited: Vec<(String, Option<u32>)>,
    /// The text of the sentence that is nearest to it.
    pub quotation: Option<String>,
    /// That sentence, with its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub evidence: Option<OtherSource>,
    /// What another source says against it, if the evidence supports it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub against: Option<OtherSource>,
}

/// A claim with its source. Other fields of its line are left alone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClaimPair {
    /// An identifier, text or number.
    #[serde(default)]
    pub id: Value,
    /// The claim.
    pub claim: String,
    /// The text of its source.
    pub evidence: String,
    /// The verdict that is expected; `None` if the pair is only checked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verdict: Option<Verdict>,
    /// What kind of truth or error it is, to count by.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
}

/// A claim that was held against its source.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PairCheck {
    /// The identifier of the pair.
    pub id: Value,
    /// The verdict.
    pub verdict: Verdict,
    /// The probability that the source supports the claim.
    #[serde(serialize_with = "serialize_probability")]
    pub probability: f32,
    /// Why it is not supported, in words.
    pub reason: Option<String>,
    /// The sentence of the source that is nearest to the claim.
    pub quotation: Option<String>,
}

impl CheckReport {
    pub(super) fn new(text: &str, claims: Vec<CheckedClaim>) -> Self {
        Self { text: text.to_owned(), claims }
    }

    /// Returns the number of claims with a verdict.
    pub fn count(&self, verdict: Verdict) -> usize {
        self.claims.iter().filter(|claim| claim.verdict == verdict).count()
    }
}

impl CheckedClaim {
    pub(super) fn new(claim: &str, line: usize) -> Self {
        Self {
            claim: claim.to_owned(),
            line,
            verdict: Verdict::Unsupported,
            probability: 0.0,
            reason: Some("nothing in the corpus speaks of this".to_owned()),
            cited: Vec::new(),
            quotation: None,
            evidence: None,
            against: None,
        }
    }

    pub(super) fn set<'a>(&mut self, held: &Judgement, passage: impl Fn(usize) -> &'a Passage) {
        (self.verdict, self.probability) = (held.finding.verdict, held.finding.probability);
        self.reason.clone_from(&held.finding.reason);
        self.evidence = super::source(held, passage);
        self.quotation = self.evidence.as_ref().map(|source| source.quotation.clone());
    }
}

impl ClaimPair {
    /// Reads lines of JSON, each with `claim` and `evidence`, and perhaps `id`, `verdict` and `kind`.
    ///
    /// # Errors
    /// If a line is none of these; the message has its number.
    pub fn read(lines: &str) -> Result<Vec<Self>> {
        let lines = lines.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
        let pair = |(at, line): (usize, &str)| {
            serde_json::from_str(line).map_err(|error| {
                let message = format!("line {}: each line needs \"claim\" and \"evidence\" ({error})", at + 1);
                Error::new(ErrorKind::InvalidRequest, message)
            })
        };
        lines.map(pair).collect()
    }
}

/// Returns how often the verdicts on some pairs are those that were expected; `None` if none was expected.
pub fn pair_measures(pairs: &[ClaimPair], checks: &[PairCheck]) -> Option<VerdictMeasures> {
    let judged = pairs.iter().zip(checks).filter_map(|(pair, check)| {
        let kind = pair.kind.clone().unwrap_or_default();
        Some(JudgedClaim { expected: pair.verdict?, found: check.verdict, kind })
    });
    verdict_measures(&judged.collect::<Vec<_>>())
}

impl PairCheck {
    pub(super) fn new(pair: &ClaimPair, held: &Judgement, sentences: &[&str]) -> Self {
        let quotation = held.place.and_then(|(_, at)| sentences.get(at)).map(|text| (*text).to_owned());
        Self {
            id: pair.id.clone(),
            verdict: held.finding.verdict,
            probability: held.finding.probability,
            reason: held.finding.reason.clone(),
            quotation,
        }
    }
}

/// Writes a probability with four digits after the point.
#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
fn serialize_probability<S: Serializer>(probability: &f32, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.serialize_f64((f64::from(*probability) * 1e4).round() / 1e4)
}
