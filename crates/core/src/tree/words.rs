//! The words of texts: how rare each is, and which tell a node from others.

use std::collections::{BTreeMap, HashMap, HashSet};

use serde::{Deserialize, Serialize};

use crate::text::{is_stopword, words};

/// The most words of a node that are kept: those that count most.
const MAX_KEPT: usize = 40;
/// The number of words of a label.
const LABEL: usize = 3;

/// In how many texts each word occurs.
#[derive(Clone, Debug, Default)]
pub struct WordCounts {
    texts: u32,
    counts: HashMap<String, u32>,
}

impl WordCounts {
    /// Counts the words of a text. Costs one pass over it.
    pub fn add(&mut self, text: &str) {
        self.texts += 1;
        let own: HashSet<String> = telling(text).map(|(term, _)| term).collect();
        for term in own {
            *self.counts.entry(term).or_default() += 1;
        }
    }

    /// Adds the counts of other texts.
    pub fn merge(&mut self, other: Self) {
        self.texts += other.texts;
        for (term, count) in other.counts {
            *self.counts.entry(term).or_default() += count;
        }
    }

    /// Returns how rare a term is: the logarithm of one in so many texts (Spärck Jones, 1972).
    pub(super) fn rarity(&self, term: &str) -> f32 {
        let count = self.counts.get(term).copied().unwrap_or(0);
        (1.0 + self.texts as f32 / (count as f32 + 0.5)).ln()
    }
}

/// A word of a node.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct NodeWord {
    /// Its term, which is the same for its forms.
    pub term: String,
    /// A form of it.
    pub word: String,
    /// How often it occurs, times how rare it is.
    pub weight: f32,
}

/// Returns the words of a text that say something, with their terms, in lower case.
pub(super) fn telling(text: &str) -> impl Iterator<Item = (String, &str)> {
    let says = |word: &str| word.chars().count() > 2 && word.chars().any(char::is_alphabetic);
    words(text)
        .filter(move |word| says(word.text) && !is_stopword(&word.text.to_lowercase()))
        .map(|word| (word.term, word.text))
}

/// Returns the words that count most in some texts, the heaviest first.
pub fn node_words<'t>(texts: impl IntoIterator<Item = &'t str>, counts: &WordCounts) -> Vec<NodeWord> {
    // For each term, how often it occurs, and how often each form of it.
    let mut found: HashMap<String, (f32, BTreeMap<String, u32>)> = HashMap::new();
    for text in texts {
        for (term, word) in telling(text) {
            let (count, forms) = found.entry(term).or_default();
            *count += 1.0;
            *forms.entry(word.to_lowercase()).or_default() += 1;
        }
    }
    let word = |(term, (count, forms)): (String, (f32, BTreeMap<String, u32>))| {
        let form = forms.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(&a.0))).map(|(form, _)| form);
        let weight = count * counts.rarity(&term);
        NodeWord { word: form.unwrap_or_default(), weight, term }
    };
    heaviest(found.into_iter().map(word).collect())
}

/// Returns the words of a node by those of its parts.
pub(super) fn words_of_parts<'w>(parts: impl IntoIterator<Item = &'w [NodeWord]>) -> Vec<NodeWord> {
    let mut found: HashMap<&str, NodeWord> = HashMap::new();
    for word in parts.into_iter().flatten() {
        match found.get_mut(word.term.as_str()) {
            Some(known) => known.weight += word.weight,
            None => {
                found.insert(&word.term, word.clone());
            }
        }
    }
    heaviest(found.into_values().collect())
}

fn heaviest(mut all: Vec<NodeWord>) -> Vec<NodeWord> {
    all.sort_by(|a, b| b.weight.total_cmp(&a.weight).then_with(|| a.term.cmp(&b.term)));
    all.truncate(MAX_KEPT);
    all
}

/// Returns for each of some nodes beside each other the words that tell it from the others: those that weigh much in it and are among the words of few others.
pub(super) fn labels(siblings: &[&[NodeWord]]) -> Vec<Vec<String>> {
    let mut having: HashMap<&str, u32> = HashMap::new();
    for word in siblings.iter().copied().flatten() {
        *having.entry(&word.term).or_default() += 1;
    }
    let all = siblings.len() as f32;
    let label = |own: &&[NodeWord]| -> Vec<String> {
        let mut scored: Vec<(f32, &NodeWord)> = own
            .iter()
            .map(|word| {
                let others = having.get(word.term.as_str()).copied().unwrap_or(1).saturating_sub(1) as f32;
                (word.weight * (1.0 + (all / (1.0 + others)).ln()), word)
            })
            .collect();
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.term.cmp(&b.1.term)));
        scored.into_iter().take(LABEL).map(|(_, word)| word.word.clone()).collect()
    };
    siblings.iter().map(label).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_label_has_the_words_that_the_others_lack() {
        let texts = [
            "The pilot boards the vessel. Pilots wait for the vessel.",
            "The crane lifts the vessel. Cranes and a crane.",
        ];
        let mut counts = WordCounts::default();
        texts.iter().for_each(|text| counts.add(text));
        let own: Vec<Vec<NodeWord>> = texts.iter().map(|text| node_words([*text], &counts)).collect();
        let labels = labels(&[&own[0], &own[1]]);
        assert_eq!((labels[0][0].as_str(), labels[1][0].as_str()), ("pilot", "crane"));
        assert!(labels[0].len() == 3 && labels[0][1..].contains(&"boards".to_owned()), "{labels:?}");
        let both = words_of_parts([own[0].as_slice(), own[1].as_slice()]);
        assert_eq!(both.iter().filter(|word| word.term == "vessel").count(), 1);
    }

    #[test]
    fn counts_of_parts_are_those_of_the_whole() {
        let (mut whole, mut one, mut other) = (WordCounts::default(), WordCounts::default(), WordCounts::default());
        for (at, text) in ["Ropes and bells", "The bell rings", "Nothing of it"].iter().enumerate() {
            whole.add(text);
            if at == 0 { one.add(text) } else { other.add(text) }
        }
        one.merge(other);
        assert_eq!((one.rarity("bell"), one.rarity("rope")), (whole.rarity("bell"), whole.rarity("rope")));
        assert!(one.rarity("bell") < one.rarity("rope") && one.rarity("rope") < one.rarity("unheard"));
    }
}
