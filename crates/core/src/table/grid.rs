//! A table with types.

use std::collections::HashSet;

use crate::document::{Date, Span, Table};
use crate::quantity::{Dimension, Notation, Unit, numbers, parse_number};
use crate::text::{dates, fold, is_stopword, words};

/// What the cells of a column are.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ColumnKind {
    /// Numbers, in the unit that the header or the cells name; `None` if they name none.
    Number(Option<Unit>),
    /// Dates.
    Date,
    /// Anything else.
    Text,
}

/// A column of a table.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// Its name, from the header rows.
    pub name: String,
    /// What its cells are.
    pub kind: ColumnKind,
    /// How its numbers are written.
    pub notation: Notation,
}

/// A cell of a table.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cell {
    /// As it is written.
    pub text: String,
    /// Its value in the unit of its dimension, such as metres; for a date, the number of a day. `None` if it has none.
    pub value: Option<f64>,
    /// Where it stands in the document.
    pub span: Span,
}

/// A row of a table, without header rows.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GridRow {
    /// Which of the tables it is from, if several were joined.
    pub table: usize,
    /// Its number in that table, header rows included.
    pub row: usize,
    /// Its cells, one a column.
    pub cells: Vec<Cell>,
    /// Where it stands in the document.
    pub span: Span,
    /// Whether it sums up the others.
    pub is_total: bool,
}

/// A table with types.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Grid {
    /// The headings above it, or its caption.
    pub title: String,
    /// The columns.
    pub columns: Vec<Column>,
    /// The rows.
    pub rows: Vec<GridRow>,
}

/// The share of the cells that must be numbers in a column of numbers.
const MOST: f64 = 0.8;
/// So many cells of a column are looked at before the others.
const SAMPLED: usize = 100;
/// Words that name a row of sums.
const TOTALS: &[&str] =
    &["total", "totals", "sum", "all", "summe", "gesamt", "insgesamt", "totaux", "somme", "suma", "totale", "somma"];

impl Grid {
    /// Gives the columns of a table their types. `text` is that of its document, and `title` what stands above it.
    ///
    /// Costs one pass over the cells.
    pub fn read(table: &Table, text: &str, title: &str) -> Self {
        let width = table.rows.iter().map(|row| row.cells.len()).max().unwrap_or_default();
        let cell = |span: &Span| text.get(span.range()).unwrap_or_default().trim();
        let body = table.rows.iter().enumerate().skip(table.header_rows);
        let rows = body.map(|(number, row)| {
            let cells = (0..width).map(|at| {
                let span = row.cells.get(at).copied().unwrap_or_default();
                Cell { text: cell(&span).to_owned(), value: None, span }
            });
            let cells: Vec<Cell> = cells.collect();
            let key = cells.iter().find(|cell| !cell.text.is_empty()).map(|cell| fold(&cell.text)).unwrap_or_default();
            let is_total = TOTALS.contains(&key.trim_end_matches(':'));
            GridRow { table: 0, row: number, cells, span: row.span, is_total }
        });
        let mut rows: Vec<GridRow> = rows.filter(|row| row.cells.iter().any(|cell| !cell.text.is_empty())).collect();
        let columns = (0..width).map(|at| read_column(table.column_name(text, at), at, &mut rows)).collect();
        Self { title: title.to_owned(), columns, rows }
    }

    /// Returns the column of the names of the rows.
    pub fn key_column(&self) -> usize {
        self.columns.iter().position(|column| column.kind == ColumnKind::Text).unwrap_or_default()
    }

    /// Returns the terms by which its rows go: those of the header of its first column, and the first words of the names of its rows if most share one.
    pub(super) fn nouns(&self) -> HashSet<String> {
        let at = self.key_column();
        let mut nouns: HashSet<String> =
            self.columns.get(at).map(|column| terms(&column.name)).unwrap_or_default().into_iter().collect();
        let rows = &self.rows[..self.rows.len().min(SAMPLED)];
        let firsts: Vec<String> =
            rows.iter().filter_map(|row| terms(&row.cells.get(at)?.text).into_iter().next()).collect();
        if let Some(first) = firsts.first()
            && firsts.iter().filter(|other| *other == first).count() * 2 > rows.len()
        {
            nouns.insert(first.clone());
        }
        nouns
    }
}

/// Returns the significant terms of a text, in order.
pub(super) fn terms(text: &str) -> Vec<String> {
    words(text).filter(|word| !is_stopword(&fold(word.text))).map(|word| word.term).collect()
}

/// Joins tables of the same columns, in their order, each row with the number of its table. A row that is there already is left out.
pub fn joined(grids: Vec<Grid>) -> Vec<Grid> {
    let mut all: Vec<Grid> = Vec::new();
    for (table, mut grid) in grids.into_iter().enumerate() {
        grid.rows.iter_mut().for_each(|row| row.table = table);
        let names = |grid: &Grid| grid.columns.iter().map(|column| fold(&column.name)).collect::<Vec<_>>();
        let same = all.iter_mut().find(|other| {
            names(other) == names(&grid) && other.columns.iter().zip(&grid.columns).all(|(a, b)| a.kind == b.kind)
        });
        match same {
            Some(other) if names(&grid).iter().any(|name| !name.is_empty()) => {
                let written = |row: &GridRow| row.cells.iter().map(|cell| cell.text.clone()).collect::<Vec<_>>();
                let had: HashSet<Vec<String>> = other.rows.iter().map(written).collect();
                other.rows.extend(grid.rows.into_iter().filter(|row| !had.contains(&written(row))));
            }
            _ => all.push(grid),
        }
    }
    all
}

/// Reads the type of a column, and the values of its cells.
fn read_column(name: String, at: usize, rows: &mut [GridRow]) -> Column {
    let notation =
        rows.iter().filter_map(|row| Notation::shown_by(bare(&row.cells[at].text))).next().unwrap_or_default();
    let filled = rows.iter().filter(|row| !is_empty(&row.cells[at].text)).count();
    let header_unit = unit_of_header(&name);
    // A column of words shows in its first cells that it is none of numbers or dates.
    let begins_with = |is_one: &dyn Fn(&str) -> bool| {
        let cells = rows.iter().map(|row| row.cells[at].text.as_str()).filter(|text| !is_empty(text)).take(SAMPLED);
        let cells: Vec<&str> = cells.collect();
        cells.iter().filter(|text| is_one(text)).count() * 2 >= cells.len().max(1)
    };
    let are_dates = begins_with(&|text| day(text).is_some());
    let values: Vec<Option<(f64, Option<Unit>)>> = match begins_with(&|text| quantity(text, notation).is_some()) {
        true => rows.iter().map(|row| quantity(&row.cells[at].text, notation)).collect(),
        false => Vec::new(),
    };
    let units: Vec<Option<Unit>> = values.iter().flatten().map(|(_, unit)| unit.clone()).collect();
    let count = units.len();
    if filled > 0 && count as f64 >= MOST * filled as f64 {
        let own = units.iter().flatten().next().cloned();
        let unit = own.clone().or(header_unit.clone());
        // Cells of several dimensions or currencies cannot be compared.
        let agree =
            units.iter().flatten().all(|other| Some(&other.dimension) == unit.as_ref().map(|unit| &unit.dimension));
        if agree {
            for (row, value) in rows.iter_mut().zip(values) {
                let factor = |own: &Option<Unit>| own.as_ref().or(unit.as_ref()).map_or(1.0, |unit| unit.factor);
                row.cells[at].value = value.map(|(value, own)| value * factor(&own));
            }
            return Column { name, kind: ColumnKind::Number(unit), notation };
        }
    }
    let days = if are_dates { rows.iter().map(|row| day(&row.cells[at].text)).collect() } else { Vec::new() };
    let days: Vec<Option<f64>> = days;
    if filled > 0 && days.iter().flatten().count() as f64 >= MOST * filled as f64 {
        rows.iter_mut().zip(days).for_each(|(row, day)| row.cells[at].value = day);
        return Column { name, kind: ColumnKind::Date, notation };
    }
    Column { name, kind: ColumnKind::Text, notation }
}

/// Returns `true` for a cell that stands for nothing.
pub(super) fn is_empty(text: &str) -> bool {
    matches!(text.trim(), "" | "-" | "–" | "—" | "n/a" | "N/A" | "." | "…")
}

/// Returns the number of a cell without its sign of a currency or its unit.
fn bare(text: &str) -> &str {
    text.trim().trim_matches(|c: char| !(c.is_numeric() || "-−+".contains(c)))
}

/// Returns the value of a cell that is one quantity and nothing else, with its unit.
fn quantity(text: &str, notation: Notation) -> Option<(f64, Option<Unit>)> {
    let text = text.trim();
    if let Some(value) = parse_number(text, notation) {
        return Some((value, None));
    }
    let found = numbers(text, notation);
    let [number] = &found[..] else { return None };
    let around = format!("{} {}", &text[..number.span.start], &text[number.span.end..]);
    let around = around.trim();
    let unit = Unit::named(around).or_else(|| number.unit.clone());
    // The rest of the cell must be the unit.
    let is_unit = around.chars().filter(|c| c.is_alphabetic()).count() <= 12
        && unit.is_some()
        && around.split_whitespace().count() <= 2;
    is_unit.then_some((number.value, unit))
}

/// Returns a number for a day, by which dates are in order.
fn day(text: &str) -> Option<f64> {
    let text = text.trim();
    let found = dates(text);
    let date: Option<Date> = match &found[..] {
        [one] if one.span.len() + 4 >= text.len() => Some(one.from.clone()),
        _ => Date::from_written(text),
    };
    let date = date?;
    let mut parts = date.as_str().get(..10)?.split('-').map(|part| part.parse::<f64>().ok());
    Some(parts.next()?? * 372.0 + parts.next()?? * 31.0 + parts.next()??)
}

/// Returns the unit that a header names: in brackets, behind a comma, or after `in`.
fn unit_of_header(name: &str) -> Option<Unit> {
    let inside = name.rsplit_once('(').and_then(|(_, rest)| rest.split(')').next());
    let behind = name.rsplit_once(',').map(|(_, rest)| rest);
    let after = name.rsplit_once(" in ").map(|(_, rest)| rest);
    let whole = Some(name).filter(|name| ["%", "‰", "€", "$", "£"].contains(&name.trim()));
    [inside, behind, after, whole].into_iter().flatten().find_map(|text| Unit::named(text.trim()))
}

impl ColumnKind {
    /// Returns the dimension of a column of numbers.
    pub(super) fn dimension(&self) -> Option<&Dimension> {
        match self {
            Self::Number(Some(unit)) => Some(&unit.dimension),
            _ => None,
        }
    }
}
