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
const MAX_REMEMBERED: usize = 400_000;
/// No term.
const NONE: u32 = u32::MAX;

/// A word as it is written. Half a line of the processor's memory and aligned to it, so that a look at one is one wait.
#[derive(Clone, Copy)]
#[repr(align(32))]
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
    /// The key of a word that stands in a text.
    #[inline]
    fn of(text: &str, word: &str, sort: u32) -> Self {
        let start = word.as_ptr().addr().wrapping_sub(text.as_ptr().addr());
        let bytes = match text.as_bytes().get(start..).and_then(<[u8]>::first_chunk) {
            // What stands behind the word is masked away: that is faster than to look how long it is.
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

/// The bits of the first so many bytes; of no more than sixteen.
#[inline]
fn mask(length: usize) -> u128 {
    u128::MAX.checked_shr(8 * IN_KEY.saturating_sub(length) as u32).unwrap_or(0)
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
    /// Terms in ascending order by their numbers, each with what it begins with; those that came since are not in it yet.
    order: Vec<(u64, u32)>,
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
            order: Vec::new(),
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

    /// All terms in ascending order, by their numbers.
    pub(super) fn sorted(&mut self) -> impl Iterator<Item = u32> + '_ {
        // Most differ in their first eight bytes: those are compared as a number.
        let first = |term: &str| {
            let mut eight = [0; 8];
            let length = term.len().min(8);
            eight[..length].copy_from_slice(&term.as_bytes()[..length]);
            u64::from_be_bytes(eight)
        };
        let terms = &self.terms;
        let new = self.order.len() as u32..terms.len() as u32;
        self.order.extend(new.map(|number| (first(&terms[number as usize]), number)));
        // What was in order before is taken as it is, and what is new is merged in.
        self.order.sort_by(|a, b| a.0.cmp(&b.0).then_with(|| terms[a.1 as usize].cmp(&terms[b.1 as usize])));
        self.order.iter().map(|&(_, number)| number)
    }

    pub(super) fn term(&self, number: u32) -> &str {
        &self.terms[number as usize]
    }

    /// Forgets everything, if that is a lot.
    pub(super) fn bound(&mut self) {
        if self.words > MAX_REMEMBERED {
            *self = Self::default();
        }
    }

    /// Calls back with the number of the term of each token of a text, in order.
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

    /// The number of the term of each word of a text.
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
                // Order is kept while words come.
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
