//! The words seen so far, with their terms.
//!
//! Indexing spends most of its time on looking words up, and most of that on waiting for memory. So all words of a row are
//! looked up together: first their places in the table, then the words there, so that the processor waits for many at once.
//! Words stay known from one segment to the next, so that each is stemmed once.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};

use super::terms::{Languages, term};
use crate::text::{Language, Token};

/// The highest number of words that are remembered from one segment to the next.
const MAX_REMEMBERED: usize = 400_000;
/// No term.
const NONE: u32 = u32::MAX;

/// A word as written. It takes half a cache line and is aligned to it, so that reading one waits once.
#[derive(Clone, Copy)]
#[repr(align(32))]
struct Known {
    key: Key,
    /// The place of the bytes that the key does not hold.
    start: u32,
    /// Its term; [`NONE`] for an empty place.
    term: u32,
}

/// An empty place of the table.
const EMPTY: Known = Known { key: Key { first: 0, second: 0, length: 0, sort: 0 }, start: 0, term: NONE };

/// The identity of a word: its language and kind, its length, and its first sixteen bytes.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Key {
    first: u64,
    second: u64,
    length: u32,
    sort: u32,
}

/// The number of bytes of a word in its key; most words have no more.
const IN_KEY: usize = 16;

impl Key {
    /// Returns the key of a word in a text.
    #[inline]
    fn of(text: &str, word: &str, sort: u32) -> Self {
        let start = word.as_ptr().addr().wrapping_sub(text.as_ptr().addr());
        let bytes = match text.as_bytes().get(start..).and_then(<[u8]>::first_chunk) {
            // Masks what follows the word, which is faster than testing its length.
            Some(sixteen) => u128::from_le_bytes(*sixteen) & mask(word.len()),
            None => {
                let (mut sixteen, length) = ([0; IN_KEY], word.len().min(IN_KEY));
                sixteen[..length].copy_from_slice(&word.as_bytes()[..length]);
                u128::from_le_bytes(sixteen)
            }
        };
        Self { first: bytes as u64, second: (bytes >> 64) as u64, length: word.len() as u32, sort }
    }
}

/// Returns the mask of the first `length` bytes, at most sixteen.
#[inline]
fn mask(length: usize) -> u128 {
    u128::MAX.checked_shr(8 * IN_KEY.saturating_sub(length) as u32).unwrap_or(0)
}

/// Returns the bytes of a word that its key does not hold.
fn rest(text: &str) -> &[u8] {
    text.as_bytes().get(IN_KEY..).unwrap_or_default()
}

/// A word to look up.
struct Sought {
    key: Key,
    /// Its place in the table, unless the table lacks it or another word came first.
    place: usize,
    /// The term at that place.
    term: u32,
}

/// A hash table of words with their terms.
pub(super) struct Vocabulary {
    /// Words at the places of their hashes, or at the next free ones. At most half of the places are taken.
    table: Vec<Known>,
    words: usize,
    rests: Vec<u8>,
    numbers: HashMap<String, u32>,
    terms: Vec<String>,
    /// The numbers of the terms in ascending order of the terms, each with its first bytes. Later terms are not in it yet.
    order: Vec<(u64, u32)>,
    seed: u64,
    /// A buffer for the words of a row.
    sought: Vec<Sought>,
}

impl Default for Vocabulary {
    fn default() -> Self {
        Self {
            table: vec![EMPTY; 1 << 12],
            words: 0,
            rests: Vec::new(),
            numbers: HashMap::new(),
            terms: Vec::new(),
            order: Vec::new(),
            // A random seed, so that nobody can choose words with equal hashes.
            seed: RandomState::new().hash_one(0),
            sought: Vec::new(),
        }
    }
}

impl Vocabulary {
    /// Returns the number of terms.
    pub(super) fn terms(&self) -> usize {
        self.terms.len()
    }

    /// Returns the numbers of all terms in ascending order of the terms.
    pub(super) fn sorted(&mut self) -> impl Iterator<Item = u32> + '_ {
        // Most terms differ in their first eight bytes, which are compared as one number.
        let first = |term: &str| {
            let mut eight = [0; 8];
            let length = term.len().min(8);
            eight[..length].copy_from_slice(&term.as_bytes()[..length]);
            u64::from_be_bytes(eight)
        };
        let terms = &self.terms;
        let new = self.order.len() as u32..terms.len() as u32;
        self.order.extend(new.map(|number| (first(&terms[number as usize]), number)));
        // The part that was sorted before stays; the new terms are merged in.
        self.order.sort_by(|a, b| a.0.cmp(&b.0).then_with(|| terms[a.1 as usize].cmp(&terms[b.1 as usize])));
        self.order.iter().map(|&(_, number)| number)
    }

    pub(super) fn term(&self, number: u32) -> &str {
        &self.terms[number as usize]
    }

    /// Forgets all words, if there are too many.
    pub(super) fn bound(&mut self) {
        if self.words > MAX_REMEMBERED {
            *self = Self::default();
        }
    }

    /// Calls `each` with the number of the term of each token of a text, in order.
    pub(super) fn find(
        &mut self,
        text: &str,
        tokens: &[Token<'_>],
        language: Option<Language>,
        mut each: impl FnMut(usize, u32),
    ) {
        let sort = |token: &Token<'_>| Languages::number(language) << 2 | token.kind as u32;
        let mut sought = std::mem::take(&mut self.sought);
        sought.clear();
        let last = self.table.len() - 1;
        for token in tokens {
            let key = Key::of(text, token.text, sort(token));
            let place = self.hash(&key, rest(token.text)) as usize & last;
            sought.push(Sought { key, place, term: NONE });
        }
        for one in &mut sought {
            one.term = self.table[one.place].term;
        }
        for (at, (Sought { key, place, term }, token)) in sought.iter().zip(tokens).enumerate() {
            let rest = rest(token.text);
            // The table may have grown since. Then this place has another word, or none.
            let known = &self.table[*place];
            let there = known.term == *term && *term != NONE && self.is(known, key, rest);
            each(at, if there { *term } else { self.look_or_add(token, key, language) });
        }
        self.sought = sought;
    }

    #[inline]
    fn is(&self, known: &Known, key: &Key, rest: &[u8]) -> bool {
        let start = known.start as usize;
        known.key == *key && (rest.is_empty() || self.rests[start..start + rest.len()] == *rest)
    }

    /// Returns the term of a word. The word is new if it is not at its place or after it.
    fn look_or_add(&mut self, token: &Token<'_>, key: &Key, language: Option<Language>) -> u32 {
        let rest = rest(token.text);
        let last = self.table.len() - 1;
        let mut place = self.hash(key, rest) as usize & last;
        while self.table[place].term != NONE {
            if self.is(&self.table[place], key, rest) {
                return self.table[place].term;
            }
            place = (place + 1) & last;
        }
        let next = self.terms.len() as u32;
        let term = *self.numbers.entry(term(token, language)).or_insert_with_key(|term| {
            self.terms.push(term.clone());
            next
        });
        self.table[place] = Known { key: *key, start: self.rests.len() as u32, term };
        self.rests.extend_from_slice(rest);
        self.words += 1;
        if self.words * 2 > self.table.len() {
            self.grow();
        }
        term
    }

    fn grow(&mut self) {
        let room = self.table.len() * 2;
        let before = std::mem::replace(&mut self.table, vec![EMPTY; room]);
        for known in before.into_iter().filter(|known| known.term != NONE) {
            let rest = (known.key.length as usize).saturating_sub(IN_KEY);
            let rest = &self.rests[known.start as usize..][..rest];
            let mut place = self.hash(&known.key, rest) as usize & (room - 1);
            while self.table[place].term != NONE {
                place = (place + 1) & (room - 1);
            }
            self.table[place] = known;
        }
    }

    /// Multiplies eight bytes at a time, and folds the products.
    #[inline]
    fn hash(&self, key: &Key, rest: &[u8]) -> u64 {
        const FACTOR: u64 = 0x9E37_79B9_7F4A_7C15;
        let fold = |a: u64, b: u64| {
            let product = u128::from(a) * u128::from(b);
            product as u64 ^ (product >> 64) as u64
        };
        let sort = u64::from(key.sort) << 32 | u64::from(key.length);
        let hash = fold(self.seed ^ key.first, FACTOR ^ sort);
        let eight = |some: &[u8]| {
            let mut eight = [0; 8];
            eight[..some.len()].copy_from_slice(some);
            u64::from_le_bytes(eight)
        };
        rest.chunks(8).fold(fold(hash ^ key.second, FACTOR), |hash, some| fold(hash ^ eight(some), FACTOR))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::text::tokens;

    /// Returns the numbers of the terms of a text.
    fn found(vocabulary: &mut Vocabulary, text: &str, language: Option<Language>) -> Vec<u32> {
        let (mut all, mut found) = (Vec::new(), Vec::new());
        tokens(text, |token| all.push(token));
        vocabulary.find(text, &all, language, |_, term| found.push(term));
        found
    }

    proptest! {
        #[test]
        fn the_same_word_has_the_same_term(words in prop::collection::vec("[a-z]{1,3}|[a-z]{7,9}|[a-z]{15,26}", 1..300), rows in 1_usize..9) {
            let mut vocabulary = Vocabulary::default();
            for some in words.chunks(words.len().div_ceil(rows)) {
                let found = found(&mut vocabulary, &some.join(" "), None);
                for (word, number) in some.iter().zip(&found) {
                    prop_assert_eq!(vocabulary.term(*number), word);
                }
                // The order is kept while words are added.
                let order: Vec<u32> = vocabulary.sorted().collect();
                let terms: Vec<&str> = order.into_iter().map(|number| vocabulary.term(number)).collect();
                prop_assert!(terms.is_sorted() && terms.len() == vocabulary.terms());
            }
            let mut expected = words;
            expected.sort();
            expected.dedup();
            prop_assert_eq!(vocabulary.terms(), expected.len());
        }
    }

    #[test]
    fn a_table_that_grows_while_words_are_looked_for_mixes_none_up() {
        let words: Vec<String> = (0..60_000).map(|number| format!("w{}", number * 7 % 40_009)).collect();
        let mut vocabulary = Vocabulary::default();
        let found = found(&mut vocabulary, &words.join(" "), None);
        assert!(words.iter().zip(&found).all(|(word, term)| vocabulary.term(*term) == word));
        assert_eq!(vocabulary.terms(), 40_009);
    }

    #[test]
    fn a_word_has_a_term_for_each_language() {
        let mut vocabulary = Vocabulary::default();
        let languages = [Some(Language::German), None, Some(Language::German)];
        let found: Vec<u32> =
            languages.into_iter().flat_map(|language| found(&mut vocabulary, "Häfen", language)).collect();
        assert_eq!(found, [0, 1, 0]);
        assert_eq!([vocabulary.term(0), vocabulary.term(1)], ["haf", "häfen"]);
    }
}
