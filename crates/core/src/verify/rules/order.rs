//! Order: who does what to whom, and which word goes with which.

use super::{Difference, DifferenceKind, Reader};
use crate::text::{is_listed, words};
use crate::verify::statement::{Statement, Token};

/// So well a sentence of the source must fit a claim for the order of its words to tell.
const MIN_TURNED: f32 = 0.7;

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
        let places: Vec<Vec<usize>> = told.iter().map(|at| places(*at)).collect();
        for (index, a) in told.iter().enumerate() {
            for (step, b) in told[index + 1..].iter().enumerate() {
                let (one, two) = (&claim.tokens[*a], &claim.tokens[*b]);
                // Two words of one name say nothing of an order.
                if one.clause != two.clause || b - a < 2 || !(one.is_name || two.is_name) {
                    continue;
                }
                let (of_a, of_b) = (&places[index], &places[index + 1 + step]);
                let pairs = of_a.iter().flat_map(|x| of_b.iter().map(move |y| (*x, *y)));
                let mut pairs = pairs.filter(|(x, y)| {
                    let (first, second) = (source.tokens[*x].clause, source.tokens[*y].clause);
                    source.sentence(first) == source.sentence(second) && x.abs_diff(*y) >= 2
                });
                let is_turned = |(x, y): (usize, usize)| {
                    let flipped = x > y;
                    let voices = passive(claim, self.claim, *a, *b) != passive(source, self.source, x.min(y), x.max(y));
                    let opposite = self.opposite_between(one.clause, source.tokens[x].clause);
                    match one.is_name && two.is_name {
                        true => flipped != (voices != opposite),
                        // A name and another word may change places for many reasons, but not the voice alone.
                        false => !flipped && voices && !opposite,
                    }
                };
                // One place where they stand as in the claim is enough.
                if pairs.next().is_some_and(is_turned) && pairs.all(is_turned) {
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
        found.extend(self.turned_about_a_word());
        found.sort_by(|a, b| b.degree.total_cmp(&a.degree));
        found.truncate(1);
        found
    }

    /// Two words that stand on the other sides of a third one: the count refused what Ebel offered, for Ebel refused what the count offered.
    fn turned_about_a_word(&self) -> Option<Difference> {
        const PIVOTS: &str = "before after than from to for that until while";
        const VOICE: &str = "was were is are been be being by";
        let (claim, source) = (&self.alignment.claim.tokens, &self.alignment.source.tokens);
        let same = |a: &Token, b: &Token| a.terms.iter().any(|term| b.terms.contains(term));
        let is_pivot = |token: &Token| (token.tells && !token.is_name) || is_listed(PIVOTS, &token.folded);
        let sentences = 0..self.alignment.source.starts.len();
        let cover = |sentence: usize| self.alignment.in_sentence(|_| true, sentence).unwrap_or(0.0);
        let sentence = sentences.max_by(|a, b| cover(*a).total_cmp(&cover(*b)).then(b.cmp(a)))?;
        if cover(sentence) < MIN_TURNED {
            return None;
        }
        // Only a word that both have once tells where it stands.
        let once = |at: &usize| claim.iter().filter(|token| same(token, &claim[*at])).count() == 1;
        let place = |at: usize| {
            let mut places = (0..source.len()).filter(|other| {
                self.alignment.source.sentence(source[*other].clause) == sentence && same(&claim[at], &source[*other])
            });
            places.next().filter(|_| places.next().is_none())
        };
        let placed: Vec<(usize, usize)> = (0..claim.len())
            .filter(|at| claim[*at].tells || is_listed(PIVOTS, &claim[*at].folded))
            .filter(once)
            .filter_map(|at| Some((at, place(at)?)))
            .collect();
        let voiced = |tokens: &[Token], at: usize| {
            tokens[at.saturating_sub(2)..(at + 3).min(tokens.len())].iter().any(|token| is_listed(VOICE, &token.folded))
        };
        for (index, (v, w)) in placed.iter().enumerate().filter(|(_, (v, _))| is_pivot(&claim[*v])) {
            if voiced(claim, *v) != voiced(source, *w) {
                continue;
            }
            let before = placed[..index].iter().rev().take(2).filter(|(at, other)| claim[*at].tells && other > w);
            for (a, x) in before {
                let mut after = placed[index + 1..].iter().filter(|(at, other)| claim[*at].tells && other < w);
                if let Some((b, _)) = after.next().filter(|(_, y)| w.abs_diff(*y) < 8 && x.abs_diff(*w) < 8) {
                    let (one, two) = (self.claimed(&claim[*a]), self.claimed(&claim[*b]));
                    let said = format!("“{one}” and “{two}” stand the other way round in the source");
                    return Some(self.difference(DifferenceKind::Order, 0.9, said));
                }
            }
        }
        None
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
