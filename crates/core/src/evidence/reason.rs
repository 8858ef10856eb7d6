//! Why an answer is sure or not, in few words.

use std::collections::HashSet;

use super::candidate::Candidate;
use super::extract::{Certainty, Extraction};
use super::model::EvidenceModel;
use crate::document::Span;
use crate::query::{Expectation, Question, Term};
use crate::search::Passage;
use crate::text::words;

/// So many words that are missing are named.
const MAX_NAMED: usize = 3;

impl Extraction {
    /// Returns why the answer to a question is sure or not, in few words; `None` if nothing was found.
    ///
    /// Names what the evidence lacks, in the words of the question, and what it is about instead.
    pub fn reason(
        &self,
        asked: &str,
        question: &Question,
        passages: &[Passage],
        certainty: Certainty,
    ) -> Option<String> {
        let chosen = self.picked.first()?;
        let passage = &passages[chosen.passage];
        let title = passage.location.section.last().or(passage.location.title.as_ref());
        let about = title.map(|title| format!("“{title}”")).unwrap_or_else(|| passage.location.document.clone());
        let missing = self.missing_words(asked, question);
        let lacks_kind = self.facts.expected < 0.5;
        let kind = match question.expects {
            Expectation::Quantity(_) => "a number",
            Expectation::Time => "a time",
            Expectation::Person => "a name",
            Expectation::Place => "a place",
            _ => "what is asked for",
        };
        Some(match (certainty, missing.is_empty()) {
            (Certainty::Sure, true) if lacks_kind => format!("every word is found, but not {kind}"),
            (Certainty::Sure, true) => "every word of the question is found there".to_owned(),
            (Certainty::Sure, false) => format!("it says nothing of {}", joined(&missing)),
            (Certainty::Closest, false) => {
                format!("no passage says this of {}; {about} comes closest", joined(&missing))
            }
            (Certainty::Closest, true) if lacks_kind => format!("{about} has the words, but not {kind}"),
            (Certainty::Closest, true) => format!("{about} has the words, but they may not answer this"),
            (Certainty::Nothing, false) => format!("nothing is said of {}", joined(&missing)),
            (Certainty::Nothing, true) => "nothing is said of this".to_owned(),
        })
    }

    /// Returns the words of the question that the evidence lacks, as they were written, the rarest first.
    fn missing_words(&self, asked: &str, question: &Question) -> Vec<String> {
        let missing: HashSet<&str> = self.missing.iter().map(String::as_str).collect();
        let places = question.first_places(asked);
        let lacking = question.terms.iter().filter(|term| missing.contains(term.term.as_str()));
        let mut lacking: Vec<(&Term, Span)> =
            lacking.filter_map(|term| Some((term, *places.get(&term.term)?))).collect();
        lacking.sort_by(|(a, _), (b, _)| b.weight.total_cmp(&a.weight));
        lacking.truncate(MAX_NAMED);
        let written = |(term, span): (&Term, Span)| {
            // A figure is named with the word before it: Berth 7.
            let before = term.behind.as_ref().and_then(|_| words(&asked[..span.start]).last());
            asked[before.map_or(span.start, |word| word.span.start)..span.end].to_owned()
        };
        lacking.into_iter().map(written).collect()
    }

    /// Returns why a candidate is not in the answer; `None` if it is.
    pub fn why_lost(&self, candidate: &Candidate, score: f32, model: &EvidenceModel) -> Option<String> {
        if self.picked.iter().any(|picked| picked.text == candidate.text) {
            return None;
        }
        let best = self.considered.iter().find(|(other, _)| self.picked.iter().any(|picked| picked.text == other.text));
        let Some((best, best_score)) = best else { return Some("its score is lower".to_owned()) };
        let (own, other) = (model.shares(&candidate.features), model.shares(&best.features));
        let share = |shares: &[(&'static str, f32)], name: &str| {
            shares.iter().find(|(known, _)| *known == name).map_or(0.0, |(_, share)| *share)
        };
        let names = own.iter().chain(&other).map(|(name, _)| *name);
        let cost = |name: &str| share(&other, name) - share(&own, name);
        let most = names.max_by(|a, b| cost(a).total_cmp(&cost(b)))?;
        Some(match score > *best_score {
            true => "a later document says it otherwise".to_owned(),
            false => format!("{:.2} lower, most by {}", best_score - score, most.replace('_', " ")),
        })
    }
}

/// Returns words in quotation marks as a list.
fn joined(words: &[String]) -> String {
    let quoted: Vec<String> = words.iter().map(|word| format!("“{word}”")).collect();
    match quoted.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, rest)) => format!("{} and {last}", rest.join(", ")),
        None => String::new(),
    }
}
