//! Measures of an answer.

use std::collections::{HashMap, HashSet};

use crate::text::{fold, is_stopword, words};

/// Returns the F1 of the words of an answer and those of the expected one: the harmonic mean of the shares of each that the other has.
/// Case, punctuation and articles do not count; a word counts as often as both have it. 0 if either is empty.
pub fn token_f1(answer: &str, expected: &str) -> f64 {
    let counted = |text: &str| {
        let mut counts: HashMap<String, usize> = HashMap::new();
        for word in words(text).map(|word| fold(word.text)).filter(|word| !["a", "an", "the"].contains(&word.as_str()))
        {
            *counts.entry(word).or_default() += 1;
        }
        counts
    };
    let (said, wanted) = (counted(answer), counted(expected));
    let common: usize = said.iter().map(|(word, count)| *count.min(wanted.get(word).unwrap_or(&0))).sum();
    let all: usize = said.values().chain(wanted.values()).sum();
    if common == 0 { 0.0 } else { 2.0 * common as f64 / all as f64 }
}

/// Returns `true` if an answer says nothing that its question does not say: every significant word is one of the question's.
pub fn only_repeats(answer: &str, question: &str) -> bool {
    let asked: HashSet<String> = words(question).map(|word| word.term).collect();
    words(answer).filter(|word| !is_stopword(&fold(word.text))).all(|word| asked.contains(&word.term))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("The draught is 7.9 metres.", "7.9 metres", 4.0 / 6.0)]
    #[case("A bell", "the bell!", 1.0)]
    #[case("no no no", "no", 0.5)]
    #[case("bell", "lamp", 0.0)]
    #[case("", "lamp", 0.0)]
    #[case("", "", 0.0)]
    fn f1(#[case] answer: &str, #[case] expected: &str, #[case] value: f64) {
        assert!((token_f1(answer, expected) - value).abs() < 1e-12, "{}", token_f1(answer, expected));
    }

    #[rstest]
    #[case("The draught at Berth 7 is great.", "What is the greatest draught at Berth 7?", false)]
    #[case("Greatest draught at Berth 7", "What is the greatest draught at Berth 7?", true)]
    #[case("7.9 metres", "What is the greatest draught at Berth 7?", false)]
    fn repeats(#[case] answer: &str, #[case] question: &str, #[case] expected: bool) {
        assert_eq!(only_repeats(answer, question), expected);
    }
}
