//! Which word of a source stands behind each word of a claim.

use super::meaning::cosine;
use super::statement::{Statement, Token};
use super::vocabulary::{are_alike, are_opposites, exclusive_sets};

/// A word of a source for a word of a claim, and how well it fits: 1 for the same word.
#[derive(Clone, Copy, Debug)]
pub(super) struct Partner {
    pub at: usize,
    pub level: f32,
}

/// A claim, its source, and how well each word of the one fits each of the other.
pub(super) struct Alignment<'a> {
    pub claim: &'a Statement,
    pub source: &'a Statement,
    /// For each word of the claim that tells something, its levels with the words of the source; empty for others.
    levels: Vec<Vec<f32>>,
}

/// Words that exclude each other fit no better.
const MAX_AGAINST: f32 = 0.6;

/// From this level on, two words count as saying the same.
pub(super) const SAME: f32 = 0.72;

impl<'a> Alignment<'a> {
    /// Compares the words of a claim and its source. Costs their product.
    pub fn new(claim: &'a Statement, source: &'a Statement) -> Self {
        let levels = claim.tokens.iter().map(|token| match token.tells {
            true => source.tokens.iter().map(|other| level(token, other)).collect(),
            false => Vec::new(),
        });
        Self { claim, source, levels: levels.collect() }
    }

    /// Returns the best partner of a word of the claim among some words of the source.
    pub fn partner(&self, at: usize, among: impl Fn(&Token) -> bool) -> Option<Partner> {
        let levels = self.levels.get(at)?.iter().enumerate().filter(|(other, _)| among(&self.source.tokens[*other]));
        levels
            .map(|(at, level)| Partner { at, level: *level })
            .reduce(|best, next| if next.level > best.level { next } else { best })
    }

    /// Returns the words of the claim that tell something, by their index.
    pub fn telling(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.claim.tokens.len()).filter(|at| self.claim.tokens[*at].tells)
    }

    /// Returns the mean level of some words of the claim in some words of the source; `None` without words.
    pub fn coverage(&self, of: impl Fn(&Token) -> bool, among: impl Fn(&Token) -> bool + Copy) -> Option<f32> {
        let levels = self
            .telling()
            .filter(|at| of(&self.claim.tokens[*at]))
            .map(|at| self.partner(at, among).map_or(0.0, |partner| partner.level));
        let (sum, count) = levels.fold((0.0, 0), |(sum, count), level| (sum + level, count + 1));
        (count > 0).then(|| sum / count as f32)
    }

    /// Returns the clause of the source that some words of the claim fit best, and how well.
    pub fn best_clause(&self, of: impl Fn(&Token) -> bool + Copy) -> Option<(usize, f32)> {
        let clauses = (0..self.source.clauses.len()).filter_map(|clause| {
            let own = self.coverage(of, |token| token.clause == clause)?;
            // The rest of the sentence helps where two clauses are as good.
            let sentence = self.source.sentence(clause);
            let near = self.coverage(of, |token| self.source.sentence(token.clause) == sentence)?;
            Some((clause, own + 0.3 * near))
        });
        clauses.reduce(|best, next| if next.1 > best.1 { next } else { best })
    }
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
    match (alike, derived) {
        (true, _) => meant.max(0.95),
        (false, true) => meant.max(0.85),
        (false, false) => meant,
    }
}
