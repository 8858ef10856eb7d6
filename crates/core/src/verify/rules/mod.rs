//! In what a claim differs from its source: each rule looks for one kind of difference, says how grave it is and names it.

mod clauses;
mod names;
mod numbers;
mod order;
mod words;

pub(super) use numbers::UNACCOUNTED;

use std::cell::RefCell;
use std::collections::HashMap;

use super::align::Alignment;
use super::statement::Token;
use super::vocabulary::{REFUSALS, are_opposites};
use crate::text::is_listed;
use serde::{Deserialize, Serialize};

/// A kind of difference between a claim and its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DifferenceKind {
    /// The source has another number, or another date.
    Number,
    /// The source has no such number.
    NumberMissing,
    /// The source says it of another name.
    Name,
    /// The source does not have the name.
    NameMissing,
    /// One says the opposite of the other by a word: opens and closes, before and after.
    Opposite,
    /// One has a word that excludes the other's: east and west, Monday and Tuesday.
    Exclusive,
    /// One denies what the other says.
    Denial,
    /// One obliges, where the other allows or forbids.
    Duty,
    /// One says it of all, the other of most, of some or of none.
    Degree,
    /// The source has a condition or an exception that the claim leaves out.
    Condition,
    /// The source is in doubt, and the claim is not.
    Hedge,
    /// Who does what to whom, or what comes first, is the other way round.
    Order,
    /// One word of a sentence that is otherwise the same stands for another.
    Word,
    /// The source says nothing of some words.
    Missing,
}

/// The kinds that contradict the source; the others leave something out or add something.
pub(in crate::verify) const CONTRADICTING: [DifferenceKind; 8] = [
    DifferenceKind::Number,
    DifferenceKind::Name,
    DifferenceKind::Opposite,
    DifferenceKind::Exclusive,
    DifferenceKind::Denial,
    DifferenceKind::Duty,
    DifferenceKind::Order,
    DifferenceKind::Word,
];

/// A difference between a claim and its source.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Difference {
    /// Its kind.
    pub kind: DifferenceKind,
    /// How grave it is, from 0 to 1.
    pub degree: f32,
    /// What it is, in words.
    pub said: String,
}

/// Finds the differences of a claim, whose text and whose source's text are given.
pub(in crate::verify) fn differences(alignment: &Alignment<'_>, claim: &str, source: &str) -> Vec<Difference> {
    let reader = Reader { alignment, claim, source, opposites: RefCell::default() };
    let mut found = reader.numbers();
    found.extend(reader.names());
    found.extend(reader.words_against_each_other());
    found.extend(reader.without());
    found.extend(reader.clauses());
    found.extend(reader.order());
    found.extend(reader.replaced());
    found.extend(reader.missing());
    found
}

/// What the rules read.
struct Reader<'a> {
    alignment: &'a Alignment<'a>,
    claim: &'a str,
    source: &'a str,
    /// Whether a clause of the claim and one of the source have opposite words, as far as it was asked.
    opposites: RefCell<HashMap<(usize, usize), bool>>,
}

impl Reader<'_> {
    fn claimed(&self, token: &Token) -> &str {
        &self.claim[token.span.range()]
    }

    fn sourced(&self, token: &Token) -> &str {
        &self.source[token.span.range()]
    }

    fn difference(&self, kind: DifferenceKind, degree: f32, said: impl Into<String>) -> Difference {
        Difference { kind, degree: degree.clamp(0.0, 1.0), said: said.into() }
    }

    /// Returns `true` if the claim has a word of the source.
    fn claims(&self, token: &Token) -> bool {
        self.alignment.claim.tokens.iter().any(|other| other.terms.iter().any(|term| token.terms.contains(term)))
    }

    fn source_has(&self, token: &Token, among: impl Fn(&Token) -> bool) -> bool {
        let mut tokens = self.alignment.source.tokens.iter();
        tokens.any(|other| among(other) && other.terms.iter().any(|term| token.terms.contains(term)))
    }

    /// Returns `true` if the source says a word of the claim, or another that is listed as the same.
    fn source_says(&self, at: usize, among: impl Fn(&Token) -> bool) -> bool {
        let own = &self.alignment.claim.tokens[at];
        self.source_has(own, &among) || (own.tells && self.alignment.level(at, among) >= 0.9)
    }

    /// Returns `true` if some word of the claim, or of one of its clauses, fits a word of the source.
    fn met(&self, token: &Token, clause: Option<usize>, min_level: f32) -> bool {
        let fits = |own: usize| self.alignment.level(own, |other| other.span == token.span) >= min_level;
        self.alignment
            .telling()
            .any(|own| clause.is_none_or(|clause| self.alignment.claim.tokens[own].clause == clause) && fits(own))
    }

    /// Returns `true` if a clause of the claim and one of the source have opposite words.
    fn opposite_between(&self, own: usize, other: usize) -> bool {
        if let Some(known) = self.opposites.borrow().get(&(own, other)) {
            return *known;
        }
        let found = self.have_opposites(own, other);
        self.opposites.borrow_mut().insert((own, other), found);
        found
    }

    fn have_opposites(&self, own: usize, other: usize) -> bool {
        // A word that denies by itself counts with the denials.
        let of = |tokens: &'_ [Token], clause: usize| -> Vec<usize> {
            let own = tokens.iter().enumerate().filter(|(_, token)| token.clause == clause);
            own.filter(|(_, token)| !is_listed(REFUSALS, &token.folded)).map(|(at, _)| at).collect()
        };
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let rivals = of(source, other);
        of(claim, own)
            .into_iter()
            .flat_map(|at| &claim[at].terms)
            .any(|x| rivals.iter().flat_map(|at| &source[*at].terms).any(|y| are_opposites(x, y)))
    }
}
