//! Corrections of cells: a later text may say otherwise than a table.

use super::candidate::is_quotable;
use super::force::{day_of, stands_among};
use crate::document::{Date, Location};
use crate::quantity::{Dimension, Notation, numbers};
use crate::search::Passage;
use crate::text::{fold, is_stopword, words};

/// A cell of a table, by the names of its row and its column.
#[derive(Clone, Copy, Debug)]
pub struct NamedCell<'a> {
    /// The name of its row, such as `Berth 7`.
    pub row: &'a str,
    /// The name of its column.
    pub column: &'a str,
    /// What its numbers measure; `None` if the table does not say.
    pub dimension: Option<&'a Dimension>,
    /// Where its table stands.
    pub table: &'a Location,
}

/// What a later text says in place of a cell.
#[derive(Clone, Debug, PartialEq)]
pub struct Correction {
    /// The passage that says so, and the sentence of it.
    pub passage: usize,
    /// The position of the sentence in the passage.
    pub place: usize,
    /// The number with its unit, as it is written.
    pub written: String,
    /// The number; in the unit of the dimension, if the cell has one.
    pub value: f64,
}

/// Returns what the latest of some passages says in place of a cell: a sentence of a later document that is in force, which names the row and the
/// column and has a quantity that the column may hold. `None` if none says anything.
///
/// Costs a pass over the words of the passages of later documents.
pub fn correction(cell: NamedCell<'_>, passages: &[Passage], as_of: Option<&Date>) -> Option<Correction> {
    let table_date = cell.table.date.as_deref().unwrap_or_default();
    let stands = stands_among(passages, as_of);
    let later = |passage: &Passage| {
        let date = passage.location.date.as_deref().unwrap_or_default();
        passage.location.document != cell.table.document && day_of(date) > day_of(table_date)
    };
    let mut best: Option<(&str, Correction)> = None;
    for (at, passage) in passages.iter().enumerate().filter(|(at, passage)| stands[*at] && later(passage)) {
        for (place, sentence) in passage.sentences.iter().enumerate() {
            if sentence.row.is_some() || !is_quotable(sentence) {
                continue;
            }
            let Some((written, value)) = said_of(cell, passage.slice(sentence.span)) else { continue };
            let date = passage.location.date.as_deref().unwrap_or_default();
            if best.as_ref().is_none_or(|(known, _)| date > *known) {
                best = Some((date, Correction { passage: at, place, written, value }));
            }
        }
    }
    best.map(|(_, correction)| correction)
}

/// Returns the quantity that a sentence has for a cell that it names.
fn said_of(cell: NamedCell<'_>, sentence: &str) -> Option<(String, f64)> {
    let list = |text: &str| words(text).map(|word| fold(word.text)).collect::<Vec<_>>();
    let (row, said) = (list(cell.row), list(sentence));
    if row.is_empty() || !said.windows(row.len()).any(|window| window == row) {
        return None;
    }
    let bare = cell.column.split(['(', ',']).next().unwrap_or(cell.column);
    let terms: Vec<String> = words(sentence).map(|word| word.term).collect();
    let significant = words(bare).filter(|word| !is_stopword(&fold(word.text)));
    let names: Vec<String> = significant.map(|word| word.term).collect();
    if names.is_empty() || !names.iter().all(|name| terms.contains(name)) {
        return None;
    }
    let fits = |own: &Dimension| cell.dimension.is_none_or(|dimension| dimension == own);
    let found = numbers(sentence, Notation::Point);
    let number = found.iter().find(|number| number.unit.as_ref().is_some_and(|unit| fits(&unit.dimension)))?;
    let unit = number.unit.as_ref()?;
    let name: String =
        sentence[number.span.end..].trim_start().chars().take_while(|c| c.is_alphabetic() || *c == '%').collect();
    let written = format!("{} {name}", &sentence[number.span.range()]);
    let factor = if cell.dimension.is_some() { unit.factor } else { 1.0 };
    Some((written.trim_end().to_owned(), number.value * factor))
}
