//! Names: missing from the source, or in the place of another.

use super::{Difference, DifferenceKind, Reader};
use crate::text::is_listed;
use crate::verify::statement::Token;

impl Reader<'_> {
    /// Names: missing from the source, or in another place than the rest of the claim, where another name stands.
    pub(super) fn names(&self) -> Vec<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let mut found = Vec::new();
        for at in self.alignment.telling().filter(|at| claim.tokens[*at].is_name) {
            let name = &claim.tokens[at];
            let places: Vec<usize> = (0..source.tokens.len())
                .filter(|other| source.tokens[*other].terms.iter().any(|term| name.terms.contains(term)))
                .collect();
            let rest = |token: &Token| token.span != name.span && !token.is_name;
            let best = self.alignment.best_clause(rest);
            let (clause, cover) = best.unwrap_or((0, 0.0));
            let is_there = places.iter().any(|place| {
                source.sentence(source.tokens[*place].clause) == source.sentence(clause) && {
                    let own = source.tokens[*place].clause;
                    own == clause || !self.has_rival(name, clause)
                }
            });
            if is_there {
                continue;
            }
            // A name of the best clause that the claim does not have stands in its place.
            let rival =
                source.tokens.iter().find(|token| token.is_name && token.clause == clause && !self.claims(token));
            match (places.is_empty(), rival) {
                (_, Some(rival)) if cover > 0.4 => {
                    let said =
                        format!("the source says it of {}, the claim of {}", self.sourced(rival), self.claimed(name));
                    found.push(self.difference(
                        DifferenceKind::Name,
                        if places.is_empty() { cover } else { cover / 2.0 },
                        said,
                    ));
                }
                // The source says it of somebody without a name.
                (false, None) if cover > 1.0 && !self.begins_with_pronoun(clause) => {
                    let said = format!("the source does not say it of {}", self.claimed(name));
                    found.push(self.difference(DifferenceKind::Name, 0.4, said));
                }
                (true, _) => {
                    let said = format!("the source has no “{}”", self.claimed(name));
                    found.push(self.difference(DifferenceKind::NameMissing, 1.0, said));
                }
                _ => {}
            }
        }
        found
    }

    /// Returns `true` if the sentence of a clause of the source begins with a word that stands for a name.
    fn begins_with_pronoun(&self, clause: usize) -> bool {
        const PRONOUNS: &str = "it he she they his her their its this these we our you your who both";
        let source = self.alignment.source;
        let first = source.tokens.iter().find(|token| source.sentence(token.clause) == source.sentence(clause));
        first.is_some_and(|token| is_listed(PRONOUNS, &token.folded))
            || source.tokens.iter().any(|token| token.clause == clause && is_listed(PRONOUNS, &token.folded))
    }

    fn has_rival(&self, name: &Token, clause: usize) -> bool {
        let source = self.alignment.source;
        source.tokens.iter().any(|token| {
            token.is_name
                && token.clause == clause
                && !self.claims(token)
                && !token.terms.iter().any(|term| name.terms.contains(term))
        })
    }

    /// Returns `true` if two names of a clause stand in the other order in the source.
    pub(super) fn names_are_turned(&self, clause: usize) -> bool {
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let place =
            |name: &Token| source.iter().position(|token| token.terms.iter().any(|term| name.terms.contains(term)));
        let names: Vec<usize> =
            claim.iter().filter(|token| token.is_name && token.clause == clause).filter_map(place).collect();
        names.windows(2).any(|pair| pair[0] > pair[1] + 1)
    }
}
