//! Says what was computed, in words.

use super::request::Operation;
use super::{Column, ColumnKind, Computed, Grid};
use crate::quantity::Notation;

/// So many rows are named; the number of the others is told.
const MAX_NAMED: usize = 12;

impl Computed {
    /// Returns what was computed as a sentence, with the values as the table has them: `Berth 11 (150), with
    /// the greatest “Length” of 12 rows of “Berths”.`
    pub fn in_words(&self, grid: &Grid) -> String {
        let column = self.column.and_then(|at| grid.columns.get(at));
        let name = column.map_or("", |column| column.name.as_str());
        let of = self.of(grid);
        let unit = column.map(short_unit).unwrap_or_default();
        match self.operation {
            Operation::Greatest(1) | Operation::Least(1) => {
                let which = if matches!(self.operation, Operation::Greatest(_)) { "greatest" } else { "least" };
                format!("{}, with the {which} “{name}” {of}.", self.listed(grid, true))
            }
            Operation::Greatest(count) | Operation::Least(count) => {
                let which = if matches!(self.operation, Operation::Greatest(_)) { "greatest" } else { "least" };
                format!("{}: the {count} with the {which} “{name}” {of}.", self.listed(grid, true))
            }
            Operation::Order { descending } => {
                let first = if descending { "greatest" } else { "least" };
                format!("By “{name}”, the {first} first: {}.", self.listed(grid, true))
            }
            Operation::Count => match self.rows.is_empty() {
                true => format!("None {of}."),
                false => format!("{} {of}: {}.", self.rows.len(), self.listed(grid, false)),
            },
            Operation::Sum | Operation::Mean => {
                let what = if self.operation == Operation::Sum { "in all" } else { "on average" };
                let (number, rows) = (self.number(grid), self.rows.len());
                format!("{name} {what}: {number}{unit}, over {rows} {of}: {}.", self.listed(grid, true))
            }
            Operation::Difference => {
                format!("{}: they differ by {}{unit} in “{name}”.", self.listed(grid, true), self.number(grid))
            }
            Operation::Comparison => {
                let value = |at: usize| self.rows.get(at).and_then(|row| grid.rows[*row].cells[self.column?].value);
                let key = |at: usize| self.rows.get(at).map_or("", |row| self.name(grid, *row));
                let more = match (value(0), value(1)) {
                    (Some(a), Some(b)) if a > b => format!("{} has the greater “{name}”", key(0)),
                    (Some(a), Some(b)) if a < b => format!("{} has the greater “{name}”", key(1)),
                    _ => format!("both have the same “{name}”"),
                };
                format!("{}: {more}.", self.listed(grid, true))
            }
            Operation::Which => format!("{}: {} {of}.", self.listed(grid, self.column.is_some()), self.rows.len()),
        }
    }

    /// Returns the name of a row.
    pub fn name<'a>(&self, grid: &'a Grid, row: usize) -> &'a str {
        grid.rows[row].cells.get(self.named_by).map_or("", |cell| cell.text.as_str())
    }

    /// Returns which rows were looked at, and under which conditions.
    fn of(&self, grid: &Grid) -> String {
        let title = if grid.title.is_empty() { String::new() } else { format!(" of “{}”", grid.title) };
        let conditions =
            if self.conditions.is_empty() { String::new() } else { format!(" ({})", self.conditions.join("; ")) };
        let rows = if self.considered == 1 { "row" } else { "rows" };
        format!("of {} {rows}{title}{conditions}", self.considered)
    }

    /// Returns the names of the rows, with their values if wanted.
    fn listed(&self, grid: &Grid, with_values: bool) -> String {
        let value = |row: usize| {
            let (column, cell) = (self.column?, &grid.rows[row].cells[self.column?]);
            let unit = if cell.text.chars().any(char::is_alphabetic) {
                String::new()
            } else {
                short_unit(&grid.columns[column])
            };
            (with_values && !cell.text.is_empty()).then(|| format!("{}{unit}", cell.text))
        };
        let named = self.rows.iter().take(MAX_NAMED).map(|row| {
            let key = self.name(grid, *row);
            value(*row).map_or_else(|| key.to_owned(), |value| format!("{key} ({value})"))
        });
        let mut named: Vec<String> = named.collect();
        if let Some(more) = self.rows.len().checked_sub(MAX_NAMED).filter(|more| *more > 0) {
            named.push(format!("{more} more"));
        }
        match named.split_last() {
            Some((last, [])) => last.clone(),
            Some((last, rest)) => format!("{} and {last}", rest.join(", ")),
            None => String::new(),
        }
    }

    /// Returns the number that was computed, in the unit of the column.
    fn number(&self, grid: &Grid) -> String {
        let factor = match self.column.map(|at| &grid.columns[at].kind) {
            Some(ColumnKind::Number(Some(unit))) => unit.factor,
            _ => 1.0,
        };
        let value = self.value.unwrap_or_default() / factor;
        // As many digits as the cells have, and two more for a mean.
        let digits = |text: &str| {
            text.rsplit_once(['.', ','])
                .map_or(0, |(_, decimals)| decimals.chars().take_while(char::is_ascii_digit).count())
        };
        let of_cells = self
            .rows
            .iter()
            .filter_map(|row| Some(digits(&grid.rows[*row].cells[self.column?].text)))
            .max()
            .unwrap_or(0);
        let wanted = if self.operation == Operation::Mean { of_cells + 2 } else { of_cells };
        let written = format!("{value:.wanted$}");
        let written = match written.contains('.') && self.operation == Operation::Mean {
            true => written.trim_end_matches('0').trim_end_matches('.'),
            false => written.as_str(),
        };
        match self.column.map(|at| grid.columns[at].notation) {
            Some(Notation::Comma) => written.replace('.', ","),
            _ => written.to_owned(),
        }
    }
}

/// Returns the unit of a column as it is written behind a number: what its header has in brackets or behind a comma.
fn short_unit(column: &Column) -> String {
    let ColumnKind::Number(Some(_)) = column.kind else { return String::new() };
    let inside = column.name.rsplit_once('(').and_then(|(_, rest)| rest.split(')').next());
    let behind = column.name.rsplit_once(',').map(|(_, rest)| rest.trim());
    inside.or(behind).filter(|unit| unit.len() <= 12).map(|unit| format!(" {unit}")).unwrap_or_default()
}
