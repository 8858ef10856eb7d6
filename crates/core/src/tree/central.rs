//! A summary without a model: the sentences that stand for a group of texts.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::words::{WordCounts, telling};
use crate::digest::leans_back;
use crate::document::Span;
use crate::text::count_words;

/// Sentences of fewer words are fragments, and so are those that do not end; they count half.
const MIN_WORDS: usize = 6;
/// Sentences of more words count less.
const MAX_WORDS: usize = 40;
/// How much a sentence counts that is one of these, or begins with a word for something said before.
const FRAGMENT: f32 = 0.5;
/// How much the names of a table's columns count.
const NAMES: f32 = 0.2;
const LONG: f32 = 0.75;
const LEANING: f32 = 0.5;
/// From this likeness to a chosen sentence on, one only repeats it.
const MAX_ALIKE: f32 = 0.7;
/// A sentence that is less good than this share of the best one stays out.
const MIN_SHARE: f32 = 0.3;

/// A sentence with its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeSentence {
    /// The text, as it can be read alone.
    pub text: String,
    /// The position of the chunk among the leaves.
    pub leaf: u32,
    /// The place in its document's text, in bytes.
    pub span: Span,
}

/// A part of a group: a text, or a summary of texts.
#[derive(Clone, Debug, Default)]
pub struct SummaryPart {
    /// How near it is to the middle of the group, from 0 to 1.
    pub weight: f32,
    /// What it says.
    pub sentences: Vec<TreeSentence>,
}

/// Returns sentences of up to `max_words` words together that stand for all parts, and do not repeat each other, in the order of the leaves: those whose rare
/// words are the words of the group (Radev, Jing, Styś and Tam, 2004), each less by its likeness to those chosen before (Carbonell and Goldstein, 1998).
/// Questions are left out. At least one sentence is returned, if there is any.
///
/// Costs a few passes over the words.
pub fn central_sentences(parts: &[SummaryPart], counts: &WordCounts, max_words: usize) -> Vec<TreeSentence> {
    let mut seen: Vec<&TreeSentence> = Vec::new();
    let mut all: Vec<(&TreeSentence, BTreeMap<String, f32>, f32)> = Vec::new();
    let mut centre: BTreeMap<String, f32> = BTreeMap::new();
    for part in parts {
        for sentence in &part.sentences {
            let is_known = seen.iter().any(|known| known.leaf == sentence.leaf && known.span == sentence.span);
            if is_known || sentence.text.trim_end().ends_with('?') {
                continue;
            }
            seen.push(sentence);
            let terms = weighted(&sentence.text, counts);
            for (term, weight) in &terms {
                *centre.entry(term.clone()).or_default() += weight * part.weight.max(0.05);
            }
            all.push((sentence, terms, part.weight));
        }
    }
    let length = centre.values().map(|weight| weight * weight).sum::<f32>().sqrt().max(f32::MIN_POSITIVE);
    let mut scores: Vec<f32> = all
        .iter()
        .map(|(sentence, terms, weight)| {
            let near: f32 = terms.iter().map(|(term, own)| own * centre.get(term).copied().unwrap_or(0.0)).sum();
            near / length * prior(&sentence.text) * (0.5 + 0.5 * weight)
        })
        .collect();
    let best_of_all = scores.iter().copied().fold(0.0, f32::max);
    let (mut chosen, mut left) = (Vec::new(), max_words);
    loop {
        let fits = |at: &usize| chosen.is_empty() || count_words(&all[*at].0.text) <= left;
        let candidates = (0..all.len()).filter(|at| scores[*at] > MIN_SHARE * best_of_all).filter(fits);
        let Some(best) = candidates.max_by(|a, b| scores[*a].total_cmp(&scores[*b]).then(b.cmp(a))) else { break };
        left = left.saturating_sub(count_words(&all[best].0.text));
        chosen.push(best);
        for other in 0..all.len() {
            let alike = likeness(&all[best].1, &all[other].1);
            scores[other] *= if other == best || alike >= MAX_ALIKE { 0.0 } else { 1.0 - alike };
        }
    }
    if chosen.is_empty() && !all.is_empty() {
        chosen.push(0);
    }
    let mut told: Vec<TreeSentence> = chosen.into_iter().map(|at| all[at].0.clone()).collect();
    told.sort_by_key(|sentence| (sentence.leaf, sentence.span.start));
    told
}

/// Returns how good a sentence is by its form.
fn prior(text: &str) -> f32 {
    let words = count_words(text);
    let ends = text.trim_end().ends_with(['.', '!', '…', '。', ':', ';', ')', '”', '"']);
    let factors = [
        (words < MIN_WORDS || !ends, FRAGMENT),
        (words > MAX_WORDS, LONG),
        (leans_back(text), LEANING),
        (text.contains(" | "), NAMES),
    ];
    factors.iter().filter(|(holds, _)| *holds).map(|(_, factor)| factor).product()
}

/// Returns the terms of a sentence with their weights, of length 1 together.
fn weighted(text: &str, counts: &WordCounts) -> BTreeMap<String, f32> {
    let mut terms: BTreeMap<String, f32> = BTreeMap::new();
    for (term, _) in telling(text) {
        let rarity = counts.rarity(&term);
        *terms.entry(term).or_default() += rarity;
    }
    let length = terms.values().map(|weight| weight * weight).sum::<f32>().sqrt();
    if length > 0.0 {
        terms.values_mut().for_each(|weight| *weight /= length);
    }
    terms
}

fn likeness(one: &BTreeMap<String, f32>, other: &BTreeMap<String, f32>) -> f32 {
    let (few, many) = if one.len() < other.len() { (one, other) } else { (other, one) };
    few.iter().map(|(term, weight)| weight * many.get(term).copied().unwrap_or(0.0)).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(leaf: u32, sentences: &[&str]) -> SummaryPart {
        let mut at = 0;
        let sentences = sentences.iter().map(|text| {
            at += 100;
            TreeSentence { text: (*text).to_owned(), leaf, span: Span::new(at, at + text.len()) }
        });
        SummaryPart { weight: 1.0, sentences: sentences.collect() }
    }

    #[test]
    fn what_many_parts_speak_of_is_said_once() {
        let parts = [
            part(
                0,
                &[
                    "A pilot boards every vessel of more than 50 metres at the outer buoy.",
                    "Coffee is served in the hut.",
                ],
            ),
            part(
                1,
                &["Every vessel of more than 50 metres takes a pilot at the outer buoy.", "Is a pilot needed by day?"],
            ),
            part(2, &["The pilot leaves the vessel when it is moored at its berth."]),
        ];
        let mut counts = WordCounts::default();
        parts.iter().flat_map(|part| &part.sentences).for_each(|sentence| counts.add(&sentence.text));
        let told = central_sentences(&parts, &counts, 30);
        let texts: Vec<&str> = told.iter().map(|sentence| sentence.text.as_str()).collect();
        assert_eq!(texts.len(), 2, "{texts:?}");
        assert!(texts.iter().all(|text| text.contains("pilot") && !text.ends_with('?')), "{texts:?}");
        assert_eq!(texts.iter().filter(|text| text.contains("50 metres")).count(), 1, "{texts:?}");
        assert!(told.is_sorted_by_key(|sentence| sentence.leaf));
    }

    #[test]
    fn there_is_always_a_sentence_if_one_was_given() {
        let counts = WordCounts::default();
        let long = "word ".repeat(200);
        assert_eq!(central_sentences(&[part(3, &[&long])], &counts, 10).len(), 1);
        assert_eq!(central_sentences(&[part(3, &["…"])], &counts, 10).len(), 1);
        assert!(central_sentences(&[part(3, &[]), SummaryPart::default()], &counts, 10).is_empty());
    }
}
