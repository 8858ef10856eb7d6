//! Vectors of a text and of its words, by which the verifier compares meanings.

use std::sync::OnceLock;

use super::network::{self, Seen};
use crate::document::Span;
use crate::error::Result;
use crate::text::words;
use crate::vector::{Encoder, Role};

/// The vectors of a text. All have length 1, so that a product is a cosine.
#[derive(Clone, Debug, Default)]
pub struct Meaning {
    /// That of the whole text; empty if it is not known.
    pub whole: Vec<f32>,
    /// Those of its words in the text, with their places; none if the encoder has no vectors of tokens.
    pub words: Vec<(Span, Vec<f32>)>,
    /// Whether they are those of the embedded English encoder, which the network of the verifier was trained with.
    pub is_readable: bool,
    /// What the network makes of its words, once a claim was held against it or it against a source.
    pub(super) seen: OnceLock<Seen>,
}

impl Meaning {
    /// Encodes texts, in order. An encoder of tokens reads each text once: the vector of a word is the mean of those of its tokens, and that of the text
    /// the mean of all.
    ///
    /// # Errors
    /// If a text cannot be encoded.
    pub fn of(encoder: &dyn Encoder, texts: &[&str]) -> Result<Vec<Self>> {
        let Some(by_token) = encoder.by_token() else {
            let vectors = encoder.encode(texts, Role::Passage)?;
            return Ok(vectors.iter().map(|whole| Self { whole: unit(whole.to_vec()), ..Self::default() }).collect());
        };
        let tokens = by_token.encode_tokens(texts, Role::Passage)?;
        let is_readable = network::knows(&encoder.fingerprint());
        let meanings = texts.iter().zip(tokens).map(|(text, tokens)| {
            let tokens: Vec<&[f32]> = tokens.iter().collect();
            let whole = mean(&tokens);
            Self { whole, words: of_words(encoder, text, &tokens), is_readable, seen: OnceLock::new() }
        });
        Ok(meanings.collect())
    }

    /// Returns the cosine with another text, from -1 to 1; 0 if one is not known.
    pub fn similarity(&self, other: &Self) -> f32 {
        cosine(&self.whole, &other.whole)
    }

    /// Returns the vector of the word at a place.
    pub(super) fn word(&self, span: Span) -> Option<&[f32]> {
        let at = self.words.binary_search_by_key(&span.start, |(place, _)| place.start).ok()?;
        Some(&self.words[at].1)
    }
}

/// Returns the vectors of words from those of tokens; nothing if the tokens of the pieces are not those of the text.
fn of_words(encoder: &dyn Encoder, text: &str, tokens: &[&[f32]]) -> Vec<(Span, Vec<f32>)> {
    let (mut found, mut at, mut end) = (Vec::new(), 0, 0);
    for word in words(text) {
        at += count(encoder, &text[end..word.span.start]);
        let own = count(encoder, word.text);
        end = word.span.end;
        // What lies behind the limit of the encoder has no vectors.
        let Some(parts) = tokens.get(at..at + own).filter(|parts| !parts.is_empty()) else { continue };
        found.push((word.span, mean(parts)));
        at += own;
    }
    let all = at + count(encoder, &text[end..]);
    let is_cut = encoder.max_tokens().is_some_and(|most| all + 2 >= most);
    if all == tokens.len() || is_cut { found } else { Vec::new() }
}

fn count(encoder: &dyn Encoder, piece: &str) -> usize {
    if piece.trim().is_empty() { 0 } else { encoder.count_tokens(piece) }
}

fn mean(vectors: &[&[f32]]) -> Vec<f32> {
    let mut sum = vec![0.0; vectors.first().map_or(0, |vector| vector.len())];
    vectors.iter().for_each(|vector| sum.iter_mut().zip(*vector).for_each(|(sum, value)| *sum += value));
    unit(sum)
}

fn unit(mut vector: Vec<f32>) -> Vec<f32> {
    let length = vector.iter().map(|value| value * value).sum::<f32>().sqrt();
    if length > 0.0 {
        vector.iter_mut().for_each(|value| *value /= length);
    }
    vector
}

/// Returns the cosine of two vectors of length 1; 0 if they have other dimensions.
pub(super) fn cosine(a: &[f32], b: &[f32]) -> f32 {
    if a.len() == b.len() { a.iter().zip(b).map(|(a, b)| a * b).sum() } else { 0.0 }
}
