//! Words: opposites, words that exclude each other, a word in the place of another, and words of which the source says nothing.

use super::{Difference, DifferenceKind, Reader};
use crate::text::is_listed;
use crate::verify::amounts::Fit;
use crate::verify::statement::Token;
use crate::verify::vocabulary::{REFUSALS, are_opposites, exclusive_sets};

impl Reader<'_> {
    /// Opposites, and words that exclude each other, at the same place of claim and source.
    pub(super) fn words_against_each_other(&self) -> Vec<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let in_amount = |token: &Token| {
            claim
                .amounts
                .iter()
                .any(|amount| amount.span.start <= token.span.start && token.span.end <= amount.span.end)
        };
        let mut found = Vec::new();
        for (at, own) in claim.tokens.iter().enumerate() {
            let rest = |token: &Token| token.span != own.span && token.clause == own.clause;
            let has_rest = self.alignment.telling().any(|at| rest(&claim.tokens[at]));
            let rest = |token: &Token| token.span != own.span && (!has_rest || token.clause == own.clause);
            let Some((clause, cover)) = self.alignment.best_clause(rest) else { continue };
            let near = |token: &Token| source.sentence(token.clause) == source.sentence(clause);
            let inside = |token: &Token| token.clause == clause;
            if self.source_says(at, inside) {
                continue;
            }
            for other in source.tokens.iter().filter(|token| near(token) && !self.claims(token)) {
                let opposite = own.terms.iter().any(|a| other.terms.iter().any(|b| are_opposites(a, b)));
                let exclusive = !opposite
                    && own.terms.iter().any(|a| {
                        let sets = exclusive_sets(a);
                        other.terms.iter().any(|b| a != b && exclusive_sets(b).iter().any(|set| sets.contains(set)))
                    });
                // A word of the same sentence, in another clause, counts less; if the source has it elsewhere, less again.
                let weight = match (inside(other), self.is_told_elsewhere(at, clause)) {
                    (_, true) => 0.15,
                    (true, false) => 1.0,
                    (false, false) => 0.5,
                };
                // A word that denies by itself counts with the denials.
                let denies = |token: &Token| is_listed(REFUSALS, &token.folded);
                if (!opposite && !exclusive) || (opposite && (denies(own) || denies(other))) || in_amount(own) {
                    continue;
                }
                // `Eight hours before` it and `after eight` say the same of two things.
                let timed = matches!(own.folded.as_str(), "before" | "after")
                    && claim
                        .amounts
                        .iter()
                        .any(|amount| amount.span.end <= own.span.start && own.span.start - amount.span.end < 2);
                if timed {
                    continue;
                }
                let turned = self.denied(own, false) != self.denied(other, true) || self.names_are_turned(own.clause);
                let denied = opposite && turned;
                let kind = if opposite { DifferenceKind::Opposite } else { DifferenceKind::Exclusive };
                let said = format!("the source says “{}”, the claim “{}”", self.sourced(other), self.claimed(own));
                found.push(self.difference(kind, if denied { 0.1 } else { weight * cover.min(1.0) }, said));
            }
        }
        found
    }

    /// `Without` something, where the source has it with it.
    pub(super) fn without(&self) -> Vec<Difference> {
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let behind = |tokens: &[Token], at: usize| {
            let next = (at + 1..tokens.len()).take(3).find(|next| tokens[*next].tells)?;
            Some(tokens[next].terms.clone())
        };
        let goes_with = |lead: &str, terms: &[String]| {
            (0..source.len()).any(|at| {
                source[at].folded == lead
                    && behind(source, at).is_some_and(|own| own.iter().any(|term| terms.contains(term)))
            })
        };
        let mut found = Vec::new();
        for (at, own) in
            claim.iter().enumerate().filter(|(_, token)| matches!(token.folded.as_str(), "with" | "without"))
        {
            let (lead, other) = if own.folded == "with" { ("with", "without") } else { ("without", "with") };
            let Some(terms) = behind(claim, at) else { continue };
            if goes_with(other, &terms) && !goes_with(lead, &terms) && !self.denied(own, false) {
                let said = format!("the source says “{other}”, the claim “{lead}”");
                found.push(self.difference(DifferenceKind::Opposite, 0.6, said));
            }
        }
        found
    }

    /// Returns `true` if another clause of the source has a word of the claim, and something else of the claim beside it.
    fn is_told_elsewhere(&self, at: usize, clause: usize) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let own = &claim.tokens[at];
        let sentence = source.sentence(clause);
        let others = (0..source.clauses.len()).filter(|other| *other != clause && source.sentence(*other) == sentence);
        others.into_iter().any(|other| {
            let inside = |token: &Token| token.clause == other;
            let also = self.alignment.telling().any(|word| word != at && self.alignment.level(word, inside) >= 0.9);
            let amount = source.amounts.iter().zip(&source.amount_clauses).any(|(amount, place)| {
                *place == other && claim.amounts.iter().any(|own| own.against(amount) == Fit::Same)
            });
            self.source_has(own, inside) && (also || amount)
        })
    }

    fn denied(&self, token: &Token, of_source: bool) -> bool {
        let statement = if of_source { self.alignment.source } else { self.alignment.claim };
        statement.clauses[token.clause].is_denied
    }

    /// One word stands for another in a sentence that is otherwise the same around it.
    pub(super) fn replaced(&self) -> Vec<Difference> {
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let mut found = Vec::new();
        let same = |a: usize, b: usize| {
            let (own, other) = (&claim[a], &source[b]);
            own.terms.iter().any(|term| other.terms.contains(term))
                || (own.tells && self.alignment.level(a, |token| token.span == other.span) >= 0.85)
        };
        let sentences = 0..self.alignment.source.starts.len();
        let cover = |sentence: usize| self.alignment.in_sentence(|_| true, sentence).unwrap_or(0.0);
        let sentence = sentences.max_by(|a, b| cover(*a).total_cmp(&cover(*b)).then(b.cmp(a)));
        for at in self.alignment.telling() {
            // A word that the source has elsewhere may stand for another only as the subject of the same sentence.
            let is_elsewhere = self.source_says(at, |_| true);
            let is_subject = claim[..at].iter().all(|token| !token.tells);
            if is_elsewhere && !claim[at].is_name && !is_subject {
                continue;
            }
            let inside = |token: &Token| Some(self.alignment.source.sentence(token.clause)) == sentence;
            if self.source_says(at, inside) {
                continue;
            }
            let rivals = (0..source.len()).filter(|other| source[*other].tells && inside(&source[*other]));
            for other in rivals.filter(|other| !self.claims(&source[*other])) {
                // The words before and after it that are the same, in one run.
                let before = (1..=at.min(other)).take_while(|back| same(at - back, other - back)).count();
                let after = (1..claim.len().min(source.len())).take_while(|ahead| {
                    at + ahead < claim.len() && other + ahead < source.len() && same(at + ahead, other + ahead)
                });
                let after = after.count();
                let telling = (at - before..=at + after).filter(|place| *place != at && claim[*place].tells).count();
                let level = self.alignment.level(at, |token| token.span == source[other].span);
                let share = (before + after) as f32 / (claim.len() - 1).max(1) as f32;
                if (is_elsewhere && !claim[at].is_name && after < 3)
                    || before + after < 2
                    || telling == 0
                    || level >= 0.8
                    || (share < 0.5 && (before == 0 || after == 0))
                {
                    continue;
                }
                let (own, rival) = (&claim[at], &source[other]);
                let said = format!("the source says “{}”, the claim “{}”", self.sourced(rival), self.claimed(own));
                found.push(self.difference(DifferenceKind::Word, (1.0 - level * 0.5) * (0.5 + share / 2.0), said));
            }
        }
        found
    }

    /// The words of which the source says nothing.
    pub(super) fn missing(&self) -> Option<Difference> {
        let claim = self.alignment.claim;
        let lacking: Vec<&Token> = self
            .alignment
            .telling()
            .filter(|at| self.alignment.level(*at, |_| true) < 0.5)
            .map(|at| &claim.tokens[at])
            .collect();
        let count = self.alignment.telling().count().max(1);
        let mut named: Vec<String> = lacking.iter().map(|token| format!("“{}”", self.claimed(token))).collect();
        let mut seen = std::collections::HashSet::new();
        named.retain(|word| seen.insert(word.clone()));
        named.truncate(3);
        (!lacking.is_empty()).then(|| {
            self.difference(
                DifferenceKind::Missing,
                lacking.len() as f32 / count as f32,
                format!("the source says nothing of {}", named.join(", ")),
            )
        })
    }
}
