//! Which word of a source stands behind each word of a claim.

use super::lexicon::{Relation, relation};
use super::meaning::cosine;
use super::quotation::{is_like, is_no_word};
use super::statement::{Statement, Token};
use super::vocabulary::{are_alike, are_opposites, exclusive_sets};

/// A claim, its source, and how well each word of the one fits each of the other.
pub(super) struct Alignment<'a> {
    pub claim: &'a Statement,
    pub source: &'a Statement,
    /// For each word of the claim that tells something, its levels with the words of the source; empty for others.
    levels: Vec<Vec<f32>>,
    /// For each word of the claim, its highest level in each clause of the source.
    in_clauses: Vec<Vec<f32>>,
    /// The same in each sentence.
    in_sentences: Vec<Vec<f32>>,
}

/// Words that exclude each other fit no better.
const MAX_AGAINST: f32 = 0.6;

/// How well a word fits what a typing error makes of it.
const MISSPELT: f32 = 0.9;
/// A shorter word may be another one.
const MIN_MISSPELT: usize = 5;

/// From this level on, two words count as saying the same.
pub(super) const SAME: f32 = 0.72;

impl<'a> Alignment<'a> {
    /// Compares the words of a claim and its source. Costs their product.
    pub fn new(claim: &'a Statement, source: &'a Statement) -> Self {
        let levels = claim.tokens.iter().map(|token| {
            if !token.tells {
                return Vec::new();
            }
            let may_be_error = token.folded.chars().count() >= MIN_MISSPELT && is_no_word(&token.folded);
            let level = |other: &Token| {
                let is_error = may_be_error && other.tells && is_like(&token.folded, &other.folded);
                level(token, other).max(if is_error { MISSPELT } else { 0.0 })
            };
            source.tokens.iter().map(level).collect()
        });
        let levels: Vec<Vec<f32>> = levels.collect();
        let highest = |count: usize, place: &dyn Fn(usize) -> usize| -> Vec<Vec<f32>> {
            let of_word = |levels: &Vec<f32>| {
                let mut best = vec![0.0_f32; count];
                for (token, level) in source.tokens.iter().zip(levels) {
                    let at = place(token.clause);
                    best[at] = best[at].max(*level);
                }
                best
            };
            levels.iter().map(of_word).collect()
        };
        let in_clauses = highest(source.clauses.len(), &|clause| clause);
        let in_sentences = highest(source.starts.len(), &|clause| source.sentence(clause));
        Self { claim, source, levels, in_clauses, in_sentences }
    }

    /// Returns how well a word of the claim fits the best of some words of the source; 0 without words.
    pub fn level(&self, at: usize, among: impl Fn(&Token) -> bool) -> f32 {
        let levels = self.levels[at].iter().zip(&self.source.tokens).filter(|(_, token)| among(token));
        levels.map(|(level, _)| *level).fold(0.0, f32::max)
    }

    /// Returns the words of the claim that tell something, by their index.
    pub fn telling(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.claim.tokens.len()).filter(|at| self.claim.tokens[*at].tells)
    }

    /// Returns the mean level of some words of the claim in a clause of the source; `None` without words.
    pub fn in_clause(&self, of: impl Fn(&Token) -> bool, clause: usize) -> Option<f32> {
        self.mean(of, |at| self.in_clauses[at][clause])
    }

    /// Returns the mean level of some words of the claim in a sentence of the source; `None` without words.
    pub fn in_sentence(&self, of: impl Fn(&Token) -> bool, sentence: usize) -> Option<f32> {
        self.mean(of, |at| self.in_sentences[at][sentence])
    }

    fn mean(&self, of: impl Fn(&Token) -> bool, level: impl Fn(usize) -> f32) -> Option<f32> {
        let levels = self.telling().filter(|at| of(&self.claim.tokens[*at])).map(level);
        let (sum, count) = levels.fold((0.0, 0), |(sum, count), level| (sum + level, count + 1));
        (count > 0).then(|| sum / count as f32)
    }

    /// Returns the clause of the source that some words of the claim fit best, and how well.
    pub fn best_clause(&self, of: impl Fn(&Token) -> bool + Copy) -> Option<(usize, f32)> {
        let clauses = (0..self.source.clauses.len()).filter_map(|clause| {
            // The rest of the sentence helps where two clauses are as good.
            let near = self.in_sentence(of, self.source.sentence(clause))?;
            Some((clause, self.in_clause(of, clause)? + 0.3 * near))
        });
        clauses.reduce(|best, next| if next.1 > best.1 { next } else { best })
    }
}

/// Returns how the lexicon relates a word of the source to one of the claim. Names are none of its words.
fn related(claim: &Token, source: &Token) -> Relation {
    if claim.is_name || source.is_name {
        return Relation::None;
    }
    let pairs = claim.terms.iter().flat_map(|a| source.terms.iter().map(move |b| relation(a, b)));
    pairs.into_iter().find(|relation| *relation != Relation::None).unwrap_or(Relation::None)
}

/// Returns how well two words fit, from 0 to 1.
fn level(claim: &Token, source: &Token) -> f32 {
    if claim.terms.iter().any(|term| source.terms.contains(term)) {
        return 1.0;
    }
    if !source.tells {
        return 0.0;
    }
    let alike = claim.terms.iter().any(|a| source.terms.iter().any(|b| are_alike(a, b)));
    let derived = {
        let shared = claim.folded.bytes().zip(source.folded.bytes()).take_while(|(a, b)| a == b).count();
        shared >= 5 && shared * 10 >= claim.folded.len().max(source.folded.len()) * 6
    };
    let meant = if claim.is_name != source.is_name { 0.0 } else { cosine(&claim.vector, &source.vector).max(0.0) };
    // Vectors of opposites are alike.
    let against = |a: &String, b: &String| {
        are_opposites(a, b) || exclusive_sets(a).iter().any(|set| exclusive_sets(b).contains(set))
    };
    if !alike && claim.terms.iter().any(|a| source.terms.iter().any(|b| against(a, b))) {
        return meant.min(MAX_AGAINST);
    }
    let least: f32 = match (alike, derived) {
        (true, _) => 0.95,
        (false, true) => 0.85,
        (false, false) => 0.0,
    };
    match related(claim, source) {
        Relation::Same => meant.max(least).max(0.92),
        Relation::Near => meant.max(least).max(0.8),
        Relation::Kind(1) => meant.max(least).max(0.85),
        Relation::Kind(_) => meant.max(least).max(0.78),
        _ => meant.max(least),
    }
}
