//! Which English words say the same, the opposite, or something more general.
//!
//! `english.bin` is made by `bench --bin lexicon` from the lexical database WordNet 3.0 (see `LICENSE` beside it): stems of ordinary words, the sets of synonyms
//! that each is in, the set above each, and pairs of opposite and of derived words. All numbers are little-endian: five counts
//! of 32 bits (bytes of the text, terms, sets, opposites, derived), the terms in their order with a line break between two, for each term the count of
//! its common sets (8 bits) and their numbers (16 bits each), the same of its rare ones, for each set the number of the one above it (65535 means none), then the pairs of numbers of terms.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

static ENGLISH: &[u8] = include_bytes!("english.bin");
const NONE: u16 = u16::MAX;
/// So many steps up, one word is only remotely a kind of another.
const MAX_STEPS: usize = 2;

/// How the word of a source stands to that of a claim.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Relation {
    /// They have a common sense together, or one is derived from the other.
    Same,
    /// They have a rare sense together.
    Near,
    /// The source's is a kind of the claim's, so many steps below it.
    Kind(usize),
    /// They mean opposite things.
    Opposite,
    /// Nothing is known.
    None,
}

/// The words, with what is known of them.
struct Lexicon {
    terms: HashMap<&'static str, u16>,
    /// The sets of common senses, and those of rare ones, of each term.
    sets: Vec<[Vec<u16>; 2]>,
    above: Vec<u16>,
    opposite: HashSet<(u16, u16)>,
    derived: HashSet<(u16, u16)>,
}

static LEXICON: LazyLock<Lexicon> = LazyLock::new(|| Lexicon::read(ENGLISH).unwrap_or_default());

/// Returns how the word of a source stands to that of a claim; both are stems.
pub(super) fn relation(claim: &str, source: &str) -> Relation {
    LEXICON.relation(claim, source)
}

/// Returns `true` if a stem is that of an English word.
pub(super) fn knows(term: &str) -> bool {
    LEXICON.terms.contains_key(term)
}

impl Default for Lexicon {
    fn default() -> Self {
        let (opposite, derived) = (HashSet::new(), HashSet::new());
        Self { terms: HashMap::new(), sets: Vec::new(), above: Vec::new(), opposite, derived }
    }
}

/// Takes a number of bytes from the front.
fn take<'a>(bytes: &mut &'a [u8], count: usize) -> Option<&'a [u8]> {
    let (taken, rest) = bytes.split_at_checked(count)?;
    *bytes = rest;
    Some(taken)
}

fn number(bytes: &mut &[u8]) -> Option<u16> {
    Some(u16::from_le_bytes(take(bytes, 2)?.try_into().ok()?))
}

impl Lexicon {
    fn read(mut bytes: &'static [u8]) -> Option<Self> {
        let mut counts = [0; 5];
        for count in &mut counts {
            *count = usize::try_from(u32::from_le_bytes(take(&mut bytes, 4)?.try_into().ok()?)).ok()?;
        }
        let [length, terms, sets, opposite, derived] = counts;
        let text = std::str::from_utf8(take(&mut bytes, length)?).ok()?;
        let terms_of = text.split('\n').enumerate().take(terms);
        let terms_of: HashMap<&str, u16> = terms_of.map(|(at, term)| (term, at as u16)).collect();
        let mut lexicon = Self { terms: terms_of, ..Self::default() };
        for _ in 0..terms {
            let mut sets = || -> Option<Vec<u16>> {
                let count = usize::from(*take(&mut bytes, 1)?.first()?);
                (0..count).map(|_| number(&mut bytes)).collect()
            };
            lexicon.sets.push([sets()?, sets()?]);
        }
        lexicon.above = (0..sets).map(|_| number(&mut bytes)).collect::<Option<_>>()?;
        let pairs = |count: usize, bytes: &mut &'static [u8]| -> Option<HashSet<(u16, u16)>> {
            (0..count).map(|_| Some((number(bytes)?, number(bytes)?))).collect()
        };
        lexicon.opposite = pairs(opposite, &mut bytes)?;
        lexicon.derived = pairs(derived, &mut bytes)?;
        Some(lexicon)
    }

    fn relation(&self, claim: &str, source: &str) -> Relation {
        let (Some(&own), Some(&other)) = (self.terms.get(claim), self.terms.get(source)) else { return Relation::None };
        let pair = (own.min(other), own.max(other));
        if self.opposite.contains(&pair) {
            return Relation::Opposite;
        }
        if own == other || self.derived.contains(&pair) {
            return Relation::Same;
        }
        let ([mine, rare], [theirs, their_rare]) = (&self.sets[usize::from(own)], &self.sets[usize::from(other)]);
        let share = |one: &[u16], other: &[u16]| one.iter().any(|set| other.contains(set));
        if share(mine, theirs) {
            return Relation::Same;
        }
        if share(mine, their_rare) || share(rare, theirs) || share(rare, their_rare) {
            return Relation::Near;
        }
        let steps = |from: &[u16], to: &[u16]| {
            let found = from.iter().filter_map(|set| self.chain(*set).position(|above| to.contains(&above)));
            found.min().map(|step| step + 1)
        };
        if let Some(steps) = steps(theirs, mine) {
            return Relation::Kind(steps);
        }
        Relation::None
    }

    /// Returns the sets above one, the nearest first.
    fn chain(&self, set: u16) -> impl Iterator<Item = u16> + '_ {
        let up = |set: &u16| self.above.get(usize::from(*set)).copied().filter(|above| *above != NONE);
        std::iter::successors(up(&set), move |set| up(set)).take(MAX_STEPS)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::text::stem;

    #[rstest]
    #[case("ship", "vessel", Relation::None)]
    #[case("vessel", "ship", Relation::Kind(1))]
    #[case("buy", "purchase", Relation::Same)]
    #[case("hot", "cold", Relation::Opposite)]
    #[case("harbour", "cheese", Relation::None)]
    #[case("qwertz", "cheese", Relation::None)]
    fn words_stand_to_each_other(#[case] claim: &str, #[case] source: &str, #[case] expected: Relation) {
        assert_eq!(relation(&stem(claim), &stem(source)), expected);
    }
}
