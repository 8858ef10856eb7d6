//! Words by the rules of Unicode, with their terms.

use std::cell::RefCell;
use std::collections::HashMap;

use rust_stemmers::{Algorithm, Stemmer};
use unicode_normalization::UnicodeNormalization;
use unicode_segmentation::UnicodeSegmentation;

use crate::document::Span;

/// A word of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Word<'a> {
    /// The word as written.
    pub text: &'a str,
    /// The place in the given text, in bytes.
    pub span: Span,
    /// The term in the index: folded and stemmed.
    pub term: String,
}

/// Returns the words of a text with their terms, by the word boundaries of Unicode Annex 29.
///
/// `8.4` and `don't` are one word; `B-17` is two. In scripts without spaces each character is a word.
pub fn words(text: &str) -> impl Iterator<Item = Word<'_>> {
    text.unicode_word_indices().map(|(start, word)| Word {
        text: word,
        span: Span::new(start, start + word.len()),
        term: stem(&fold(word)),
    })
}

/// Returns a word in lower case, without compatibility forms and the apostrophe of a possessive.
pub fn fold(word: &str) -> String {
    let lower: String = if word.is_ascii() {
        word.to_ascii_lowercase()
    } else {
        word.nfkc().flat_map(char::to_lowercase).map(|c| if c == '’' { '\'' } else { c }).collect()
    };
    match lower.strip_suffix("'s").or_else(|| lower.strip_suffix('\'')) {
        Some(bare) if !bare.is_empty() => bare.to_owned(),
        _ => lower,
    }
}

/// Returns the stem of a folded word, by Porter's second English algorithm (Snowball, 2001). Words with digits stay whole.
///
/// Each thread caches the stems of words; in running text nine words of ten occurred before.
pub fn stem(folded: &str) -> String {
    /// The highest number of cached words, which bounds the memory of a thread to a few megabytes.
    const REMEMBERED: usize = 50_000;
    thread_local! {
        static ENGLISH: Stemmer = Stemmer::create(Algorithm::English);
        static KNOWN: RefCell<HashMap<String, String>> = RefCell::new(HashMap::new());
    }
    if !folded.bytes().all(|b| b.is_ascii_lowercase() || b == b'\'') {
        return folded.to_owned();
    }
    KNOWN.with_borrow_mut(|known| {
        if let Some(stem) = known.get(folded) {
            return stem.clone();
        }
        let stem = ENGLISH.with(|stemmer| stemmer.stem(folded).into_owned());
        if known.len() < REMEMBERED && folded.len() < 40 {
            known.insert(folded.to_owned(), stem.clone());
        }
        stem
    })
}
