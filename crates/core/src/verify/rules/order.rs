//! Order: who does what to whom, and which word goes with which.

use super::{Difference, DifferenceKind, Reader};
use crate::text::{is_listed, words};
use crate::verify::statement::{Statement, Token};

impl Reader<'_> {
    /// Names, and other words, that stand in the other order, unless one of the two is in the passive voice.
    pub(super) fn order(&self) -> Vec<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let mut found = Vec::new();
        let passive = |statement: &Statement, text: &str, from: usize, to: usize| {
            let between =
                text.get(statement.tokens[from].span.end..statement.tokens[to].span.start).unwrap_or_default();
            words(between).any(|word| word.text == "by")
        };
        let places = |at: usize| {
            let own = &claim.tokens[at];
            (0..source.tokens.len())
                .filter(|other| source.tokens[*other].terms.iter().any(|term| own.terms.contains(term)))
                .collect::<Vec<usize>>()
        };
        let told: Vec<usize> = self.alignment.telling().collect();
        for (index, a) in told.iter().enumerate() {
            for b in &told[index + 1..] {
                let (one, two) = (&claim.tokens[*a], &claim.tokens[*b]);
                // Two words of one name say nothing of an order.
                if one.clause != two.clause || b - a < 2 || !(one.is_name || two.is_name) {
                    continue;
                }
                let mut turned = Vec::new();
                for (x, y) in places(*a).iter().flat_map(|x| places(*b).into_iter().map(move |y| (*x, y))) {
                    let (first, second) = (source.tokens[x].clause, source.tokens[y].clause);
                    if source.sentence(first) != source.sentence(second) || x.abs_diff(y) < 2 {
                        continue;
                    }
                    let flipped = x > y;
                    let voices = passive(claim, self.claim, *a, *b) != passive(source, self.source, x.min(y), x.max(y));
                    let opposite = self.opposite_between(one.clause, first);
                    turned.push(match one.is_name && two.is_name {
                        true => flipped != (voices != opposite),
                        // A name and another word may change places for many reasons, but not the voice alone.
                        false => !flipped && voices && !opposite,
                    });
                }
                if !turned.is_empty() && turned.iter().all(|is_turned| *is_turned) {
                    let said = format!(
                        "“{}” and “{}” stand the other way round in the source",
                        self.claimed(one),
                        self.claimed(two)
                    );
                    found.push(self.difference(DifferenceKind::Order, 1.0, said));
                }
            }
        }
        found.extend(self.bound_otherwise());
        found.sort_by(|a, b| b.degree.total_cmp(&a.degree));
        found.truncate(1);
        found
    }

    /// A word of the claim that follows another than in the source, which has each of them with others: `leaves Karrow` for `reaches Karrow`.
    fn bound_otherwise(&self) -> Vec<Difference> {
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let articles = "the a an its his her their our your my this that these those";
        let leads = |tokens: &[Token], at: usize| -> Option<usize> {
            let before = (0..at).rev().find(|before| !is_listed(articles, &tokens[*before].folded))?;
            let sound =
                tokens[before].clause == tokens[at].clause && tokens[before].span.end + 12 > tokens[at].span.start;
            sound.then_some(before)
        };
        let same = |a: &Token, b: &Token| a.terms.iter().any(|term| b.terms.contains(term));
        let mut found = Vec::new();
        for at in self.alignment.telling() {
            let Some(lead) = leads(claim, at) else { continue };
            if matches!(
                claim[lead].folded.as_str(),
                "and" | "or" | "is" | "are" | "was" | "were" | "of" | "be" | "in" | "on" | "to" | "not" | "with"
            ) {
                continue;
            }
            let places: Vec<usize> = (0..source.len()).filter(|other| same(&claim[at], &source[*other])).collect();
            let led: Vec<usize> = (1..source.len())
                .filter(|other| {
                    source[*other].tells
                        && leads(source, *other).is_some_and(|before| same(&source[before], &claim[lead]))
                })
                .collect();
            let agrees = led.iter().any(|other| places.contains(other))
                || places.iter().any(|place| leads(source, *place).is_none());
            let sentence = |at: usize| self.alignment.source.sentence(source[at].clause);
            let apart = !led.iter().any(|led| places.iter().any(|place| sentence(*led) == sentence(*place)));
            if places.is_empty() || led.is_empty() || agrees || apart || !claim[at].is_name {
                continue;
            }
            // Somewhere near the lead the word may stand all the same.
            let near = led.iter().any(|other| places.iter().any(|place| place.abs_diff(*other) <= 2));
            if !near {
                let said = format!(
                    "the source says “{} {}”, the claim “{} {}”",
                    self.claimed(&claim[lead]),
                    self.sourced(&source[led[0]]),
                    self.claimed(&claim[lead]),
                    self.claimed(&claim[at])
                );
                found.push(self.difference(DifferenceKind::Order, if claim[at].is_name { 0.8 } else { 0.5 }, said));
            }
        }
        found
    }
}
