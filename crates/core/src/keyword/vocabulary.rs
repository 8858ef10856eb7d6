//! The words that were met, and the term of each.
//!
//! Finding a word is what indexing does most, and most of it is waiting for memory. So the words of a whole row are looked for
//! together: first all their places in the table, then all the words that stand there; the processor then waits for many at a
//! time. What was met stays known from one segment to the next, so that a word is stemmed once.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};

use super::terms::{Languages, term};
use crate::text::{Language, Token};

/// More words than this are not remembered from one segment to the next.
const MOST_REMEMBERED: usize = 400_000;
/// No term.
const NONE: u32 = u32::MAX;

/// A word as it is written. Half a line of the processor's memory, so that a look at one is one wait.
#[derive(Clone, Copy)]
struct Known {
    key: Key,
    /// Where its bytes stand that the key does not hold.
    start: u32,
    /// Its term; no term where there is no word.
    term: u32,
}

/// A place of the table without a word.
const EMPTY: Known = Known { key: Key { first: 0, second: 0, length: 0, sort: 0 }, start: 0, term: NONE };

/// What tells a word from others: its language and kind, its length, and its first sixteen bytes.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Key {
    first: u64,
    second: u64,
    length: u32,
    sort: u32,
}

/// So many bytes of a word are in its key; most words have no more.
const IN_KEY: usize = 16;

impl Key {
    #[inline]
    fn of(text: &[u8], sort: u32) -> Self {
        let first = number(&text[..text.len().min(8)]);
        let second = text.get(8..).map_or(0, |rest| number(&rest[..rest.len().min(8)]));
        Self { first, second, length: text.len() as u32, sort }
    }
}

/// The bytes of a word that its key does not hold.
fn rest(text: &str) -> &[u8] {
    text.as_bytes().get(IN_KEY..).unwrap_or_default()
}

/// A word that is looked for.
struct Sought {
    key: Key,
    /// Where it stands in the table, if it is there and no other came before it.
    place: usize,
    /// What stands there.
    term: u32,
}

/// Words with their terms.
pub(super) struct Vocabulary {
    /// Words at the places that their hashes say, or behind them. At most half full.
    table: Vec<Known>,
    words: usize,
    rests: Vec<u8>,
    numbers: HashMap<String, u32>,
    terms: Vec<String>,
    seed: u64,
    /// Room for the words of a row.
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
            // Nobody can know which words come to the same place.
            seed: RandomState::new().hash_one(0),
            sought: Vec::new(),
        }
    }
}

impl Vocabulary {
    /// How many terms there are.
    pub(super) fn terms(&self) -> usize {
        self.terms.len()
    }

    /// The terms that stand somewhere, in ascending order, by their numbers.
    pub(super) fn sorted(&self, stands: impl Fn(u32) -> bool) -> Vec<u32> {
        // Most differ in their first eight bytes: those are compared as a number.
        let first = |term: &str| {
            let mut eight = [0; 8];
            let length = term.len().min(8);
            eight[..length].copy_from_slice(&term.as_bytes()[..length]);
            u64::from_be_bytes(eight)
        };
        let numbers = (0..self.terms.len() as u32).filter(|&number| stands(number));
        let mut sorted: Vec<(u64, u32)> = numbers.map(|number| (first(&self.terms[number as usize]), number)).collect();
        sorted.sort_unstable();
        for same in sorted.chunk_by_mut(|a, b| a.0 == b.0) {
            same.sort_unstable_by(|a, b| self.term(a.1).cmp(self.term(b.1)));
        }
        sorted.into_iter().map(|(_, number)| number).collect()
    }

    pub(super) fn term(&self, number: u32) -> &str {
        &self.terms[number as usize]
    }

    /// Forgets everything, if that is a lot.
    pub(super) fn bound(&mut self) {
        if self.words > MOST_REMEMBERED {
            *self = Self::default();
        }
    }

    /// Calls back with the number of the term of each of some tokens, in order.
    pub(super) fn find(&mut self, tokens: &[Token<'_>], language: Option<Language>, mut each: impl FnMut(usize, u32)) {
        let sort = |token: &Token<'_>| Languages::number(language) << 2 | token.kind as u32;
        let mut sought = std::mem::take(&mut self.sought);
        sought.clear();
        let last = self.table.len() - 1;
        for token in tokens {
            let key = Key::of(token.text.as_bytes(), sort(token));
            let place = self.hash(&key, rest(token.text)) as usize & last;
            sought.push(Sought { key, place, term: NONE });
        }
        for one in &mut sought {
            one.term = self.table[one.place].term;
        }
        for (at, (Sought { key, place, term }, token)) in sought.iter().zip(tokens).enumerate() {
            let rest = rest(token.text);
            // The table may have grown since: then another word stands there, or none.
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

    /// The term of a word, which is new if it is not at its place or behind it.
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
        rest.chunks(8).fold(fold(hash ^ key.second, FACTOR), |hash, some| fold(hash ^ number(some), FACTOR))
    }
}

/// Up to eight bytes as a number, no two of the same length the same.
#[inline]
fn number(bytes: &[u8]) -> u64 {
    let four = |bytes: &[u8; 4]| u64::from(u32::from_le_bytes(*bytes));
    match (bytes.first_chunk::<4>(), bytes.last_chunk::<4>(), bytes) {
        // Where there are fewer than eight, the two overlap.
        (Some(first), Some(last), _) => four(first) | four(last) << 32,
        (_, _, []) => 0,
        (_, _, [first, .., last]) => {
            u64::from(*first) | u64::from(bytes[bytes.len() / 2]) << 8 | u64::from(*last) << 16
        }
        (_, _, [one]) => u64::from(*one),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::text::TokenKind;

    proptest! {
        #[test]
        fn the_same_word_has_the_same_term(words in prop::collection::vec("[a-z]{1,3}|[a-z]{9,12}", 1..300), rows in 1_usize..9) {
            let mut vocabulary = Vocabulary::default();
            let mut found: Vec<u32> = Vec::new();
            for some in words.chunks(words.len().div_ceil(rows)) {
                let tokens: Vec<Token<'_>> =
                    some.iter().map(|word| Token { text: word, position: 0, kind: TokenKind::Word }).collect();
                vocabulary.find(&tokens, None, |_, term| found.push(term));
            }
            for (word, number) in words.iter().zip(&found) {
                prop_assert_eq!(vocabulary.term(*number), word);
            }
            let mut expected = words.clone();
            expected.sort();
            expected.dedup();
            let sorted: Vec<&str> = vocabulary.sorted(|_| true).into_iter().map(|number| vocabulary.term(number)).collect();
            prop_assert_eq!(sorted, expected);
        }
    }

    #[test]
    fn a_table_that_grows_while_words_are_looked_for_mixes_none_up() {
        let words: Vec<String> = (0..60_000).map(|number| format!("w{}", number * 7 % 40_009)).collect();
        let tokens: Vec<Token<'_>> =
            words.iter().map(|word| Token { text: word, position: 0, kind: TokenKind::Word }).collect();
        let (mut vocabulary, mut found) = (Vocabulary::default(), Vec::new());
        vocabulary.find(&tokens, None, |_, term| found.push(term));
        assert!(words.iter().zip(&found).all(|(word, term)| vocabulary.term(*term) == word));
        assert_eq!(vocabulary.terms(), 40_009);
    }

    #[test]
    fn a_word_has_a_term_for_each_language() {
        let mut vocabulary = Vocabulary::default();
        let tokens = [Token { text: "Häfen", position: 0, kind: TokenKind::Word }];
        let mut found = Vec::new();
        for language in [Some(Language::German), None, Some(Language::German)] {
            vocabulary.find(&tokens, language, |_, term| found.push(term));
        }
        assert_eq!(found, [0, 1, 0]);
        assert_eq!([vocabulary.term(0), vocabulary.term(1)], ["haf", "häfen"]);
    }
}
