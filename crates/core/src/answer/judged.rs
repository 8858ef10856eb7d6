//! The claims of an answer, held against their sources.

use std::collections::HashSet;

use rayon::prelude::*;

use super::{Answer, Claim, Status};
use crate::error::Result;
use crate::prompt::OWN_KNOWLEDGE;
use crate::search::Passage;
use crate::text::{fold, is_stopword, stem, words};
use crate::verify::{Finding, Judge, Verdict};

/// From this probability on, a passage that is not cited counts as the source of a claim.
const MIN_OTHER: f32 = 0.6;

/// Of so many passages at most, those with most words of a claim, each is looked at for one that says it.
const MAX_OTHERS: usize = 20;

/// What is done with claims of a model that their sources do not bear out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum UnsupportedPolicy {
    /// They are shown, and marked.
    #[default]
    Flag,
    /// They are left out.
    Drop,
    /// The model is told what is wrong, and writes once more.
    Repair,
    /// The answer is not shown.
    Refuse,
}

impl Answer {
    /// Holds each claim against the passages that it cites, then against the others. `passages` are those of the prompt, in the order of their markers.
    ///
    /// A claim that only another passage supports is partly supported, and the reason names that passage. What was computed, and what a model says of its own
    /// knowledge, is not judged.
    ///
    /// # Errors
    /// If the encoder fails.
    pub fn judge(&mut self, passages: &[Passage], judge: &Judge<'_>) -> Result<()> {
        let claims: Vec<&mut Claim> = self.claims.iter_mut().filter(|claim| claim.is_judged()).collect();
        let cited = |claim: &Claim| {
            passages.iter().enumerate().filter(|(at, _)| claim.cites(*at)).map(|(_, own)| own).collect()
        };
        let cases: Vec<(&str, Vec<&Passage>)> =
            claims.iter().map(|claim| (claim.text.as_str(), cited(claim))).collect();
        let found = judge.hold_all(&cases)?;
        claims.into_par_iter().zip(found).try_for_each(|(claim, held)| claim.take(held.finding, passages, judge))
    }

    /// Leaves out the claims that their sources contradict or do not support. Returns how many they were. An answer of which nothing is left is a refusal.
    pub fn drop_unsupported(&mut self) -> usize {
        let before = self.claims.len();
        let (kept, dropped): (Vec<Claim>, Vec<Claim>) =
            std::mem::take(&mut self.claims).into_iter().partition(|claim| !claim.is_unsupported());
        for claim in &dropped {
            self.answer = without(&self.answer, claim);
        }
        self.claims = kept;
        let cited: Vec<usize> = self.claims.iter().flat_map(|claim| claim.citations.clone()).collect();
        self.sources.retain(|source| cited.contains(&source.marker));
        if self.claims.is_empty() && before > 0 {
            self.status = Status::Refused;
        }
        before - self.claims.len()
    }
}

/// Returns a text without a claim and its markers.
fn without(text: &str, claim: &Claim) -> String {
    let Some(start) = text.find(&claim.text) else { return text.to_owned() };
    let mut end = start + claim.text.len();
    let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
    let rest = text[end..].trim_start();
    if let Some(behind) = rest.strip_prefix(&markers) {
        end = text.len() - behind.len();
    }
    let (before, after) = (text[..start].trim_end_matches(' '), text[end..].trim_start_matches(' '));
    let gap = if before.is_empty() || before.ends_with('\n') || after.is_empty() || after.starts_with('\n') {
        ""
    } else {
        " "
    };
    format!("{before}{gap}{after}").trim().to_owned()
}

/// Returns the passages that share most words with a claim, best first.
fn likeliest(claim: &str, passages: &[Passage]) -> Vec<usize> {
    if passages.len() <= MAX_OTHERS {
        return (0..passages.len()).collect();
    }
    let terms = |text: &str| -> HashSet<String> {
        let told = words(text).map(|word| fold(word.text)).filter(|word| !is_stopword(word));
        told.map(|word| stem(&word)).collect()
    };
    let own = terms(claim);
    let shared = passages.iter().enumerate().map(|(at, passage)| (at, own.intersection(&terms(&passage.text)).count()));
    let mut shared: Vec<(usize, usize)> = shared.filter(|(_, count)| *count > 0).collect();
    shared.sort_by_key(|(at, count)| (std::cmp::Reverse(*count), *at));
    shared.into_iter().take(MAX_OTHERS).map(|(at, _)| at).collect()
}

impl Claim {
    /// Returns `true` unless it was computed, or a model says it of its own knowledge.
    pub fn is_judged(&self) -> bool {
        self.verdict != Verdict::Computed && !self.text.starts_with(OWN_KNOWLEDGE)
    }

    /// Returns `true` if its sources contradict it or do not support it.
    pub fn is_unsupported(&self) -> bool {
        self.is_judged() && matches!(self.verdict, Verdict::Contradicted | Verdict::Unsupported)
    }

    /// Returns `true` if it cites the passage at a place.
    fn cites(&self, at: usize) -> bool {
        self.citations.contains(&(at + 1))
    }

    /// Takes what was found of it in the passages that it cites. If they do not bear it out, looks for another that does.
    fn take(&mut self, own: Finding, passages: &[Passage], judge: &Judge<'_>) -> Result<()> {
        (self.verdict, self.support, self.reason) = (own.verdict, own.probability, own.reason);
        if self.verdict.is_borne_out() {
            return Ok(());
        }
        let cites_none = !(0..passages.len()).any(|at| self.cites(at));
        if cites_none {
            self.reason = None;
        }
        let mut best: Option<(usize, f32)> = None;
        for at in likeliest(&self.text, passages).into_iter().filter(|at| !self.cites(*at)) {
            let finding = judge.hold(&self.text, &[&passages[at]])?.finding;
            if finding.verdict == Verdict::Supported && best.is_none_or(|(_, other)| finding.probability > other) {
                best = Some((at, finding.probability));
            }
        }
        if let Some((at, probability)) = best.filter(|(_, probability)| *probability >= MIN_OTHER) {
            let place = &passages[at].location;
            self.verdict = Verdict::Partly;
            self.support = self.support.max(probability / 2.0);
            self.reason = Some(match cites_none {
                true => format!("no source is cited; {place} says it"),
                false => format!("{place} says it, and not the source that is cited"),
            });
        }
        Ok(())
    }
}
