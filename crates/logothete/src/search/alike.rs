//! Words of passages that mean something like a word of the question.

use std::collections::{BTreeMap, BTreeSet};

use logothete_core::Result;
use logothete_core::document::Span;
use logothete_core::rerank::normalised;
use logothete_core::text::{Word, fold, is_stopword, words};
use logothete_core::vector::{Encoder, Role};

use crate::threads::caught_in;

/// The least cosine of two words that mean something like each other. For the embedded encoder, pairs such as ship and vessel, or closed and shut, are above
/// it, and pairs such as ship and buoy are not.
const MIN_COSINE: f32 = 0.5;

/// Returns, for each text, the words that mean something like a word of the question, and are not words of it.
pub(crate) fn alike_words(encoder: &dyn Encoder, question: &str, texts: &[String]) -> Result<Vec<Vec<Span>>> {
    let telling = |word: &Word<'_>| {
        let folded = fold(word.text);
        !is_stopword(&folded) && folded.chars().count() > 2 && folded.chars().all(char::is_alphabetic)
    };
    let asked: BTreeMap<String, &str> =
        words(question).filter(telling).map(|word| (word.term.clone(), word.text)).collect();
    let there: BTreeMap<String, &str> = texts
        .iter()
        .flat_map(|text| words(text))
        .filter(|word| telling(word) && !asked.contains_key(&word.term))
        .map(|word| (word.term.clone(), word.text))
        .collect();
    if asked.is_empty() || there.is_empty() {
        return Ok(vec![Vec::new(); texts.len()]);
    }
    let both: Vec<&str> = asked.values().chain(there.values()).copied().collect();
    let vectors = caught_in("the encoder", || encoder.encode(&both, Role::Query))?;
    let vectors: Vec<Vec<f32>> = vectors.iter().map(|vector| normalised(vector.to_vec())).collect();
    let (asked, others) = vectors.split_at(asked.len().min(vectors.len()));
    let is_alike =
        |other: &[f32]| asked.iter().any(|one| one.iter().zip(other).map(|(a, b)| a * b).sum::<f32>() >= MIN_COSINE);
    let alike: BTreeSet<&String> =
        there.keys().zip(others).filter(|(_, vector)| is_alike(vector)).map(|(term, _)| term).collect();
    let in_text = |text: &String| words(text).filter(|word| alike.contains(&word.term)).map(|word| word.span).collect();
    Ok(texts.iter().map(in_text).collect())
}
