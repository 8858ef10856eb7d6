//! Clauses: what they do with what they say: deny, oblige, limit or doubt it.

use super::{Difference, DifferenceKind, Reader};
use crate::verify::align::SAME;
use crate::verify::amounts::Fit;
use crate::verify::statement::{Clause, Duty, Token};

impl Reader<'_> {
    /// What the clauses of claim and source do with what both say: deny, oblige, limit, doubt.
    pub(super) fn clauses(&self) -> Vec<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let mut found = Vec::new();
        for (at, own) in claim.clauses.iter().enumerate() {
            let of = |token: &Token| token.clause == at;
            let Some((best, cover)) = self.alignment.best_clause(of) else { continue };
            let cover = (cover / 1.3).min(1.0);
            let other = &source.clauses[best];
            let opposite = self.opposite_between(at, best);
            let source_denied = self.is_denied_for(best, at);
            let excused = matches!(
                (own.duty, other.duty),
                (Some(Duty::May), Some(Duty::NeedNot)) | (Some(Duty::NeedNot), Some(Duty::May))
            ) || self.is_beyond(at)
                || opposite;
            // What a condition of the claim says is not what it claims.
            if own.is_denied != source_denied && !excused && !own.is_condition {
                let who = if own.is_denied {
                    "the claim denies what the source says"
                } else {
                    "the source denies what the claim says"
                };
                // `Without a lead` may deny what `on a lead` says; the rules cannot tell.
                let certain = if own.is_without != other.is_without { 0.3 } else { 1.0 };
                found.push(self.difference(DifferenceKind::Denial, certain * cover, who.to_owned()));
            }
            let near = |other: &usize| source.sentence(*other) == source.sentence(best);
            let is_limited = |other: usize| source.clauses[other].is_only || source.clauses[other].is_exception;
            if own.is_only && !(0..source.clauses.len()).filter(near).any(is_limited) {
                found.push(self.difference(
                    DifferenceKind::Degree,
                    0.8 * cover,
                    "the source does not say “only”".to_owned(),
                ));
            }
            if let (Some(a), Some(b)) = (own.duty, other.duty)
                && let Some(degree) = duties_differ(a, b)
                && !excused
                && !own.is_condition
                && source_denied == other.is_denied
            {
                let said = format!("the source says {}, the claim {}", in_words(b), in_words(a));
                found.push(self.difference(DifferenceKind::Duty, degree * cover, said));
            }
            let degree = |clause: &Clause| clause.degree;
            match (degree(own), degree(other)) {
                (Some(a), Some(b)) if a != b => {
                    let grave = if a < b || a == 4 || b == 4 { 1.0 } else { 0.3 };
                    let said = "the source says it of another share, such as most or some".to_owned();
                    found.push(self.difference(DifferenceKind::Degree, grave * cover, said));
                }
                (Some(0), None) | (Some(4), None) if !other.is_denied => {
                    found.push(self.difference(
                        DifferenceKind::Degree,
                        0.4 * cover,
                        "the source does not say it of all".to_owned(),
                    ));
                }
                (None, Some(b)) if b > 1 => {
                    found.push(self.difference(
                        DifferenceKind::Degree,
                        0.3 * cover,
                        "the source says it only of some".to_owned(),
                    ));
                }
                _ => {}
            }
            if other.is_hedged && !own.is_hedged && !claim.clauses.iter().any(|clause| clause.is_hedged) {
                found.push(self.difference(DifferenceKind::Hedge, cover, "the source says it with a doubt".to_owned()));
            }
            if !own.periods.is_empty()
                && !other.periods.is_empty()
                && !(0..source.clauses.len())
                    .filter(near)
                    .any(|other| source.clauses[other].periods.iter().any(|period| own.periods.contains(period)))
                && !self.is_beyond(at)
            {
                found.push(self.difference(
                    DifferenceKind::Number,
                    cover,
                    "the source says how often otherwise".to_owned(),
                ));
            }
            // The conditions of the sentence of which the claim says nothing.
            let has_condition = claim.clauses.iter().any(|clause| clause.is_condition);
            let sentence = source.sentence(best);
            let conditions = (0..source.clauses.len())
                .filter(|clause| source.sentence(*clause) == sentence && source.clauses[*clause].is_condition);
            for condition in conditions {
                let said = |clause: usize| {
                    let tokens: Vec<&Token> =
                        source.tokens.iter().filter(|token| token.clause == clause && token.tells).collect();
                    let met = tokens.iter().filter(|token| self.met(token, None, SAME)).count();
                    if tokens.is_empty() { 0.0 } else { met as f32 / tokens.len() as f32 }
                };
                let met = said(condition);
                if met < 0.5 && !has_condition {
                    let tokens = source.tokens.iter().filter(|token| token.clause == condition);
                    let (start, end) = tokens.fold((usize::MAX, 0), |(start, end), token| {
                        (start.min(token.span.start), end.max(token.span.end))
                    });
                    let text = self.source.get(start..end).unwrap_or_default();
                    found.push(self.difference(
                        DifferenceKind::Condition,
                        cover * (1.0 - met),
                        format!("the source limits it: “{text}”"),
                    ));
                }
            }
        }
        found
    }

    /// Returns whether a clause of the source denies what a clause of the claim is about. In an exception, what the rest of the sentence says is not so.
    fn is_denied_for(&self, clause: usize, of: usize) -> bool {
        let source = self.alignment.source;
        let sentence = source.sentence(clause);
        let mut others =
            (0..source.clauses.len()).filter(|other| *other != clause && source.sentence(*other) == sentence);
        if source.clauses[clause].is_exception {
            return others.next().map_or(source.clauses[clause].is_denied, |main| !source.clauses[main].is_denied);
        }
        let in_exception = others.any(|other| {
            let tokens = || source.tokens.iter().filter(|token| token.clause == other && token.tells);
            let met = tokens().filter(|token| self.met(token, Some(of), 0.9)).count();
            source.clauses[other].is_exception && met > 0 && met * 2 >= tokens().count()
        });
        source.clauses[clause].is_denied != in_exception
    }

    /// Returns `true` if an amount of a clause lies beyond a bound of the source, or is made of others.
    fn is_beyond(&self, clause: usize) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let own = claim.amounts.iter().zip(&claim.amount_clauses).filter(|(_, own)| **own == clause);
        own.into_iter().any(|(amount, _)| {
            let fits: Vec<Fit> = source.amounts.iter().map(|other| amount.against(other)).collect();
            let fitting = fits.iter().any(|fit| matches!(fit, Fit::Same | Fit::Within));
            let beyond = fits.iter().any(|fit| matches!(fit, Fit::Outside | Fit::Opposite));
            (beyond && !fits.contains(&Fit::Same)) || (!fitting && amount.follows_from(&source.amounts, true))
        })
    }
}

/// Returns how gravely two duties differ, from 0 to 1; `None` if they agree.
fn duties_differ(a: Duty, b: Duty) -> Option<f32> {
    use Duty::{May, Must, MustNot, NeedNot, Should, ShouldNot};
    let degree = match (a, b) {
        (x, y) if x == y => return None,
        (Must, MustNot) | (MustNot, Must) | (MustNot, May) | (May, MustNot) | (Must, NeedNot) | (NeedNot, Must) => 1.0,
        (Should, ShouldNot | MustNot)
        | (ShouldNot | MustNot, Should)
        | (ShouldNot, Must | May)
        | (Must | May, ShouldNot) => 1.0,
        (Must, May) => 0.7,
        (May, Must) => 0.4,
        (Must, Should) => 0.5,
        (NeedNot, May) | (May, NeedNot) => 0.2,
        (MustNot, ShouldNot) | (ShouldNot, MustNot) => 0.1,
        _ => 0.2,
    };
    Some(degree)
}

fn in_words(duty: Duty) -> &'static str {
    match duty {
        Duty::Must => "that it must be",
        Duty::MustNot => "that it must not be",
        Duty::May => "that it may be",
        Duty::NeedNot => "that it need not be",
        Duty::Should => "that it should be",
        Duty::ShouldNot => "that it should not be",
    }
}
