//! Numbers and dates: another one for the same words, one of other words, or none.

use super::{Difference, DifferenceKind, Reader};
use crate::quantity::Dimension;
use crate::verify::amounts::{Amount, Fit, Measure};
use crate::verify::statement::{Statement, Token};
use crate::verify::vocabulary::{are_opposites, exclusive_sets};

/// Longer lists of numbers are no prices or recipes.
const MAX_AMOUNTS: usize = 16;
/// The least that a clause has of a claim, for its bound to hold for an amount of the claim.
const MIN_BOUNDED: f32 = 0.3;
/// So much less of the claim may a clause with a bound have than one with another amount.
const MAX_BEHIND: f32 = 0.3;
/// How grave it is that the source has no such amount, where it has another for the same words.
pub(in crate::verify) const UNACCOUNTED: f32 = 0.5;

impl Reader<'_> {
    /// Numbers: the amount of the source that the rest of the claim belongs to is another.
    pub(super) fn numbers(&self) -> Vec<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let mut found = Vec::new();
        for (at, amount) in claim.amounts.iter().enumerate() {
            let clause = claim.amount_clauses[at];
            let rest = |token: &Token| token.clause == clause;
            // Without other words in its clause, those of the whole claim tell.
            let has_rest = self.alignment.telling().any(|at| rest(&claim.tokens[at]));
            let rest = |token: &Token| !has_rest || token.clause == clause;
            let clauses = source.clauses.len();
            let cover: Vec<f32> = (0..clauses)
                .map(|clause| {
                    let own = self.alignment.in_clause(rest, clause).unwrap_or(0.0);
                    let sentence = source.sentence(clause);
                    let near = self.alignment.in_sentence(rest, sentence).unwrap_or(0.0);
                    // Other amounts of the claim tell too: from May to September every hour.
                    let also = claim.amounts.iter().zip(&claim.amount_clauses).any(|(other, place)| {
                        *place == claim.amount_clauses[at]
                            && other.span != amount.span
                            && source
                                .amounts
                                .iter()
                                .zip(&source.amount_clauses)
                                .any(|(one, place)| *place == clause && other.against(one) == Fit::Same)
                    });
                    own + 0.5 * near + if also { 0.4 } else { 0.0 }
                })
                .collect();
            let of = |other: usize| cover.get(source.amount_clauses[other]).copied().unwrap_or(0.0);
            // What is only named as replaced says nothing for a claim that it holds.
            let fit = |other: &Amount| {
                let fit = amount.against(other);
                if fit == Fit::Same && other.is_replaced && !amount.is_replaced { Fit::Differs } else { fit }
            };
            let fits: Vec<Fit> = source.amounts.iter().map(fit).collect();
            let among = |wanted: &[Fit]| {
                let fitting = (0..fits.len()).filter(|at| wanted.contains(&fits[*at]));
                fitting.max_by(|a, b| of(*a).total_cmp(&of(*b)).then(b.cmp(a)))
            };
            // `Every day` is a rate, which the clauses compare.
            let is_rate = self.claim[amount.span.range()].starts_with("every");
            if self.is_in_proportion(amount) || self.is_computed(amount) {
                continue;
            }
            // The ends of a range are said exactly.
            let is_end = self.is_range(at) || at.checked_sub(1).is_some_and(|before| self.is_range(before));
            let other = among(&[Fit::Differs, Fit::Opposite, Fit::Outside]);
            // A bound or a range holds for what its clause speaks of, if no other amount fits the words much better.
            let same = among(&[Fit::Same]).or_else(|| {
                let within = among(&[Fit::Within]).or_else(|| self.in_range(amount));
                let rival = other.map_or(0.0, of);
                within.filter(|bound| !is_end && of(*bound) >= MIN_BOUNDED.max(rival - MAX_BEHIND))
            });
            let differs = |other: usize, degree: f32| {
                let kind = if fits[other] == Fit::Opposite { DifferenceKind::Opposite } else { DifferenceKind::Number };
                // What holds beyond a bound is the opposite of what holds within it.
                let beyond = matches!(fits[other], Fit::Outside | Fit::Opposite)
                    && claim.clauses[clause].is_denied != source.clauses[source.amount_clauses[other]].is_denied;
                self.difference(kind, if beyond { 0.1 } else { degree }, self.says(&source.amounts[other], amount))
            };
            match (same, other) {
                (Some(same), Some(other)) if fits[other] == Fit::Opposite && of(other) >= of(same) => {
                    found.push(differs(other, of(other) / 1.5));
                }
                // Its words belong to another amount. In the same clause, the nearest word tells.
                (Some(same), Some(other)) => {
                    let near = |at: usize| source.sentence(source.amount_clauses[at]);
                    // Without words of its own, an amount belongs to its sentence.
                    let apart = source.amount_clauses[same] != source.amount_clauses[other]
                        && (has_rest || near(same) != near(other));
                    let swapped = !apart
                        && amount.measure == Measure::Count
                        && self.measures_another(amount, &source.amounts[same], &source.amounts[other]);
                    let (own, rival) = (source.amount_clauses[same], source.amount_clauses[other]);
                    let misnamed = (of(other) - of(same)).abs() < 0.3
                        && self.is_of_claimed_name(&source.amounts[other]) == Some(true)
                        && self.is_of_claimed_name(&source.amounts[same]) == Some(false);
                    // The other amount is of what the claim names, and this one of its opposite: men six times, women four times.
                    let opposed = self.is_opposed(clause, own, rival);
                    let years = amount.is_year() && of(other) < 1.4;
                    if years {
                        continue;
                    }
                    if misnamed || opposed {
                        found.push(differs(other, 0.8));
                    } else if swapped
                        || (apart && of(other) > 0.8 && of(other) > of(same) + 0.3 && !self.has_more(rest, own, rival))
                    {
                        found.push(differs(other, if swapped { 0.8 } else { of(other) - of(same) }));
                    }
                }
                (Some(_), None) => {}
                // Where the source has an amount for the very words, a sum of others means nothing.
                (None, other)
                    if amount.follows_from(
                        &source.amounts,
                        other.is_none_or(|other| {
                            of(other) < 1.2 || self.is_of_the_rest(clause, source.amount_clauses[other])
                        }),
                    ) => {}
                (None, Some(other)) => {
                    let difference = differs(other, 0.4 + of(other) / 1.5);
                    if difference.degree > 0.1 {
                        found.push(self.without_number(amount, UNACCOUNTED));
                    }
                    found.push(difference);
                }
                (None, None) if is_rate => {}
                (None, None) => {
                    // Two of what the source names one by one.
                    let is_two = amount.measure == Measure::Count && amount.raw == 2.0;
                    let is_counted = is_two && &self.claim[amount.span.range()] == "two";
                    found.push(self.without_number(amount, if is_counted { 0.4 } else { 1.0 }));
                }
            }
        }
        found.extend(self.figures());
        found
    }

    /// Returns `true` if an amount of the claim and the one behind it are the ends of a range: 60 to 90, between 60 and 90.
    fn is_range(&self, at: usize) -> bool {
        let amounts = &self.alignment.claim.amounts;
        let (Some(first), Some(next)) = (amounts.get(at), amounts.get(at + 1)) else { return false };
        let before = self.claim.get(..first.span.start).unwrap_or_default().trim_end();
        let between = self.claim.get(first.span.end..next.span.start).unwrap_or_default().trim();
        match between {
            "to" | "–" | "-" => true,
            "and" => before.ends_with("between") || before.ends_with("Between"),
            _ => false,
        }
    }

    fn without_number(&self, amount: &Amount, degree: f32) -> Difference {
        let said = format!("the source has no “{}”", &self.claim[amount.span.range()]);
        self.difference(DifferenceKind::NumberMissing, degree, said)
    }

    /// Figures that are no amounts, such as those of a name or of a time that there is not, and that the source does not have.
    fn figures(&self) -> Option<Difference> {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let in_amount = |token: &Token| {
            let mut spans = claim.amounts.iter().map(|amount| amount.span);
            spans.any(|span| span.start <= token.span.start && token.span.end <= span.end)
        };
        let has_figure = |token: &Token| token.folded.contains(|c: char| c.is_ascii_digit());
        // The number of a list item is none of what it says.
        let is_marker = |token: &Token| self.claim[..token.span.start].trim().trim_start_matches('(').is_empty();
        let lacking = claim.tokens.iter().find(|token| {
            let is_there = source.tokens.iter().any(|other| other.folded == token.folded);
            let is_item = is_marker(token) && self.claim[token.span.end..].starts_with([')', '.']);
            has_figure(token) && !in_amount(token) && !is_there && !is_item
        })?;
        let said = format!("the source has no “{}”", self.claimed(lacking));
        Some(self.difference(DifferenceKind::NumberMissing, 1.0, said))
    }

    /// Returns `true` if a clause of the source has a word of the claim that another lacks.
    fn has_more(&self, of: impl Fn(&Token) -> bool, clause: usize, other: usize) -> bool {
        let has = |at: usize, clause: usize| self.alignment.level(at, |token| token.clause == clause) >= 0.9;
        self.alignment.telling().any(|at| of(&self.alignment.claim.tokens[at]) && has(at, clause) && !has(at, other))
    }

    /// Returns `true` if a clause of the claim is about what a clause of the source leaves: it denies it, or names what excludes it.
    fn is_of_the_rest(&self, own: usize, clause: usize) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        claim.clauses[own].is_denied != source.clauses[clause].is_denied
            || self.excludes(own, |token| token.clause == clause)
    }

    /// Returns `true` if a clause of the claim has a word that excludes one of some words of the source.
    fn excludes(&self, own: usize, among: impl Fn(&Token) -> bool) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        claim.tokens.iter().filter(|token| token.clause == own && token.tells).any(|a| {
            source.tokens.iter().filter(|token| among(token)).any(|b| {
                let pairs = a.terms.iter().flat_map(|a| b.terms.iter().map(move |b| (a, b)));
                pairs.into_iter().any(|(a, b)| {
                    are_opposites(a, b)
                        || (a != b && exclusive_sets(a).iter().any(|set| exclusive_sets(b).contains(set)))
                })
            })
        })
    }

    /// Returns `true` if a word of a clause of the claim stands in one clause of the source, and in another what excludes it.
    fn is_opposed(&self, own: usize, clause: usize, rival: usize) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        let stands = |token: &Token, clause: usize| self.source_has(token, |other| other.clause == clause);
        let named = claim
            .tokens
            .iter()
            .any(|token| token.clause == own && token.tells && stands(token, rival) && !stands(token, clause));
        source.sentence(clause) == source.sentence(rival) && named && self.excludes(own, |token| token.clause == clause)
    }

    /// Returns `true` if an amount of the claim is to another as two of the source are: 2 litres for 24 square metres, and 1 for 12.
    fn is_in_proportion(&self, amount: &Amount) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        if claim.amounts.len().max(source.amounts.len()) > MAX_AMOUNTS {
            return false;
        }
        let comparable = |a: &Amount, b: &Amount| matches!(a.against(b), Fit::Differs | Fit::Outside | Fit::Within);
        claim.amounts.iter().filter(|other| other.span != amount.span && other.measure != amount.measure).any(|other| {
            source.amounts.iter().filter(|one| comparable(amount, one) && one.value > 0.0).any(|one| {
                source.amounts.iter().filter(|two| comparable(other, two) && two.value > 0.0).any(|two| {
                    let (first, second) = (amount.value / one.value, other.value / two.value);
                    one.span != two.span && first != 1.0 && (first - second).abs() < 1e-6 * first
                })
            })
        })
    }

    /// Returns `true` if an amount of the claim follows from another and a rate or a share of the source: 1 crown for five days at 20 cents a day, and 60 of 100
    /// crowns at 60 percent, or at 40 percent off.
    fn is_computed(&self, amount: &Amount) -> bool {
        let (claim, source) = (self.alignment.claim, self.alignment.source);
        if claim.amounts.len().max(source.amounts.len()) > MAX_AMOUNTS {
            return false;
        }
        let near = |a: f64, b: f64| (a - b).abs() <= 0.001 * b.abs();
        let share = Measure::Of(Dimension::Share);
        // One of them is a multiple, or a share, of the other.
        let follows = |whole: &Amount, part: &Amount, given: &Amount| {
            if given.measure == share {
                let is_share =
                    near(part.value, whole.value * given.value) || near(part.value, whole.value * (1.0 - given.value));
                return whole.measure == part.measure && given.value < 1.0 && is_share;
            }
            let is_rate = matches!(given.measure, Measure::Of(_)) && given.measure == part.measure;
            is_rate && whole.measure != part.measure && whole.raw > 1.0 && near(part.value, whole.raw * given.value)
        };
        claim.amounts.iter().filter(|other| other.span != amount.span).any(|other| {
            let of = |given: &Amount| follows(other, amount, given) || follows(amount, other, given);
            source.amounts.iter().any(of)
        })
    }

    /// Returns whether the name before an amount of the source, in its sentence, is one of the claim; `None` without a name before it.
    fn is_of_claimed_name(&self, amount: &Amount) -> Option<bool> {
        let source = self.alignment.source;
        let before = source.tokens.iter().rev().skip_while(|token| token.span.start >= amount.span.start);
        let start = source.starts.iter().rev().find(|start| **start <= amount.span.start).copied().unwrap_or_default();
        let name = before.take_while(|token| token.span.start >= start).find(|token| token.is_name)?;
        Some(self.claims(name))
    }

    /// Returns `true` if the words behind an amount of the claim stand behind another amount of the source than its own.
    fn measures_another(&self, claim: &Amount, same: &Amount, other: &Amount) -> bool {
        let behind = |statement: &Statement, amount: &Amount| -> Vec<String> {
            let tokens = statement.tokens.iter().filter(|token| token.span.start >= amount.span.end);
            tokens.take(4).filter(|token| token.tells).take(2).flat_map(|token| token.terms.clone()).collect()
        };
        let own = behind(self.alignment.claim, claim);
        let (right, wrong) = (behind(self.alignment.source, same), behind(self.alignment.source, other));
        let shared = |others: &[String]| own.iter().filter(|term| others.contains(term)).count();
        shared(&wrong) > shared(&right)
    }

    /// Returns the first amount of a range of the source that an amount lies in: between 3 and 4 bar.
    fn in_range(&self, amount: &Amount) -> Option<usize> {
        let source = self.alignment.source;
        (1..source.amounts.len()).find_map(|at| {
            let (low, high) = (&source.amounts[at - 1], &source.amounts[at]);
            let between = self.source.get(low.span.end..high.span.start)?.trim();
            let is_range = ["and", "to", "–", "-"].contains(&between);
            (is_range && amount.is_between(low, high)).then_some(at - 1)
        })
    }

    fn says(&self, source: &Amount, claim: &Amount) -> String {
        if claim.against(source) == Fit::Same && source.is_replaced {
            return format!("the source says that another holds in the place of {}", &self.source[source.span.range()]);
        }
        format!("the source says {}, the claim {}", &self.source[source.span.range()], &self.claim[claim.span.range()])
    }
}
