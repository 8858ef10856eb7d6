//! Claims in other languages than English: their numbers, dates and names are held, and what else they say is unsure.

use super::rules::DifferenceKind;
use super::verifier::{Finding, MIN_CONTRADICTION};
use super::{Told, Verdict};
use crate::text::{Language, fold, words};

/// A claim of such a language is at most this sure.
const MAX_PROBABILITY: f32 = 0.5;
/// A shorter word with a capital is no name that could be recognised.
const MIN_NAME: usize = 4;

/// Returns the language of a claim, if it is another than English; `None` if that cannot be told.
pub(super) fn language(claim: &str) -> Option<Language> {
    Language::of_question(claim).filter(|language| *language != Language::English)
}

/// Changes what was found of a claim, since the rules for words and the vectors know English: the numbers and dates of it decide, and its names.
pub(super) fn settle(finding: &mut Finding, claim: &str, language: Language, sources: &[&str]) {
    let number = finding.differences.iter().find(|difference| {
        matches!(difference.kind, DifferenceKind::Number | DifferenceKind::NumberMissing)
            && difference.degree >= MIN_CONTRADICTION
    });
    if let Some(number) = number {
        // Whether both numbers are of the same thing is unsure too.
        finding.verdict = Verdict::Unsupported;
        finding.reason = Some(format!("the claim is in {language:?}, and {}", number.said));
        return;
    }
    let has_number = !Told::of(claim).amounts.is_empty() || claim.contains(|c: char| c.is_ascii_digit());
    finding.probability = finding.probability.min(MAX_PROBABILITY);
    if has_number || shares_a_name(claim, sources) {
        let held = if has_number { "numbers" } else { "names" };
        finding.verdict = Verdict::Partly;
        finding.reason = Some(format!(
            "the claim is in {language:?}: the source has its {held}, and whether it says the same is unsure"
        ));
    } else {
        finding.verdict = Verdict::Unsupported;
        finding.reason = Some(format!("the claim is in {language:?}, and whether the source says this is unsure"));
    }
}

/// Returns `true` if a source has a word of the claim that both write with a capital.
fn shares_a_name(claim: &str, sources: &[&str]) -> bool {
    let names = |text: &str| -> Vec<String> {
        let capital = words(text).filter(|word| word.text.starts_with(char::is_uppercase));
        capital.filter(|word| word.text.chars().count() >= MIN_NAME).map(|word| fold(word.text)).collect()
    };
    let own = names(claim);
    sources.iter().any(|source| names(source).iter().any(|name| own.contains(name)))
}
