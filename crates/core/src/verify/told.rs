//! What a single sentence tells, without a claim to hold against it.

use super::amounts::{Measure, amounts, is_number_word};
use super::statement::{Duty, Statement};
use crate::document::Span;
use crate::quantity::Dimension;
use crate::text::{fold, is_listed, is_stopword};

/// What a sentence tells.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Told {
    /// Whether somebody must, should or must not do something.
    pub has_duty: bool,
    /// Amounts with units, and sums of money.
    pub amounts: Vec<Span>,
    /// Whether a sum of money is among them.
    pub has_money: bool,
    /// Names of several words, or of one that no sentence begins with.
    pub names: Vec<Span>,
}

impl Told {
    /// Takes a sentence apart.
    pub(crate) fn of(text: &str) -> Self {
        let whole = Span::new(0, text.len());
        let statement = Statement::of(text, &[whole], &[]);
        let is_duty = |duty: Duty| matches!(duty, Duty::Must | Duty::MustNot | Duty::Should | Duty::ShouldNot);
        let has_duty = statement.clauses.iter().any(|clause| clause.duty.is_some_and(is_duty) && !clause.is_condition);
        let mut told = Self { has_duty, ..Self::default() };
        for amount in amounts(text) {
            let Measure::Of(dimension) = &amount.measure else { continue };
            if !has_unit(&text[amount.span.range()]) {
                continue;
            }
            told.has_money |= matches!(dimension, Dimension::Money(_));
            told.amounts.push(amount.span);
        }
        told.names = names(text, &statement);
        told
    }
}

/// Returns `true` for a number with its unit: a unit that a number only inherits from another is not in its text.
fn has_unit(written: &str) -> bool {
    let letters = || written.chars().filter(|c| !c.is_numeric() && !matches!(c, '.' | ',' | ' ' | '-' | '–'));
    let begins_with_digit = written.starts_with(|c: char| c.is_numeric() || !c.is_alphanumeric());
    if begins_with_digit { letters().next().is_some() } else { number_word(written) && written.contains(' ') }
}

/// Returns `true` if a text begins with a number in words.
fn number_word(written: &str) -> bool {
    let first = written.split([' ', '-']).next().unwrap_or_default();
    is_number_word(&fold(first))
}

/// Returns the beginning of a name, before which the initial of a person may stand.
fn with_initial(text: &str, start: usize) -> usize {
    let before = &text[..start];
    let initial = before.strip_suffix(". ").and_then(|before| before.chars().next_back());
    match initial {
        Some(letter) if letter.is_uppercase() => {
            let at = start - 2 - letter.len_utf8();
            let is_alone = text[..at].chars().next_back().is_none_or(|c| !c.is_alphanumeric());
            if is_alone { at } else { start }
        }
        _ => start,
    }
}

/// Returns runs of names with nothing but a blank, or a small word such as `of`, between them.
fn names(text: &str, statement: &Statement) -> Vec<Span> {
    let mut found: Vec<Span> = Vec::new();
    let mut end_of_last = None;
    for (at, token) in statement.tokens.iter().enumerate() {
        let begins = at == 0 && !is_stopword(&token.folded) && text[token.span.range()].starts_with(char::is_uppercase);
        if !token.is_name && !begins {
            continue;
        }
        let joins = |last: usize| {
            let gap = text[last..token.span.start].trim();
            gap.is_empty() || is_listed("of de von van & -", gap)
        };
        match found.last_mut() {
            Some(last) if end_of_last == Some(last.end) && joins(last.end) => last.end = token.span.end,
            _ => found.push(Span::new(with_initial(text, token.span.start), token.span.end)),
        }
        end_of_last = found.last().map(|last| last.end);
    }
    // What belongs to somebody is named by its owner.
    for span in &mut found {
        let written = &text[span.range()];
        span.end = span.start + written.trim_end_matches("'s").trim_end_matches("’s").len();
    }
    // A single word at the beginning is no name by its capital alone.
    found.retain(|span| span.start > 0 || text[span.range()].contains(' '));
    found
}
