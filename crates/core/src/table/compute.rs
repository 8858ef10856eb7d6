//! Computes what a question asks over the rows of tables.

use std::cmp::Ordering;
use std::collections::HashSet;

use super::grid::{is_empty, terms};
use super::request::{Bound, Operation, Request};
use super::vocabulary::CONCEPTS;
use super::{Column, ColumnKind, Grid, GridRow};
use crate::text::{fold, is_listed};

/// What was computed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Computed {
    /// Which of the tables it was computed over.
    pub grid: usize,
    /// The operation.
    pub operation: Operation,
    /// The column by which rows are named.
    pub named_by: usize,
    /// The column whose values count; `None` if only rows were chosen.
    pub column: Option<usize>,
    /// The rows that the result is made of, by their position in the table, in the order of the result.
    pub rows: Vec<usize>,
    /// The number of rows that were looked at.
    pub considered: usize,
    /// The number, in the unit of the column's dimension; `None` if rows are the result.
    pub value: Option<f64>,
    /// The conditions that the rows meet, in words of the table.
    pub conditions: Vec<String>,
}

/// The result for some tables.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Outcome {
    /// Something was computed.
    Computed(Computed),
    /// The question can mean several columns.
    Unclear {
        /// Which of the tables has them.
        grid: usize,
        /// The columns that it can mean.
        columns: Vec<usize>,
    },
}

/// How well a table fits a question. Below this it does not.
const MIN_FIT: f32 = 3.0;

/// Computes what a question asks over the best of some tables, which come with the best first. Returns `None` if none fits.
///
/// Costs a pass over the cells of each table, and sorting for orders.
pub fn compute(request: &Request, grids: &[Grid]) -> Option<Outcome> {
    let mut best: Option<(f32, Outcome)> = None;
    for (at, grid) in grids.iter().enumerate() {
        let Some((fit, outcome)) = Fitted::new(request, grid).and_then(|fitted| fitted.outcome(at)) else { continue };
        // Among tables that fit as well, the first comes from the better passage.
        if best.as_ref().is_none_or(|(known, _)| fit > known + 0.01) {
            best = Some((fit, outcome));
        }
    }
    best.map(|(_, outcome)| outcome)
}

/// A question beside a table.
struct Fitted<'a> {
    request: &'a Request,
    grid: &'a Grid,
    fit: f32,
    /// Whether the question says what the rows are.
    is_named: bool,
    /// The column by which rows are named.
    named_by: usize,
    /// The rows that the question names, by their names.
    named: Vec<usize>,
    /// The rows that have a text that the question names, and the text, with its column.
    having: Option<(usize, String)>,
    /// The terms of the question that are spoken for by names and texts of cells.
    used: HashSet<String>,
}

impl<'a> Fitted<'a> {
    fn new(request: &'a Request, grid: &'a Grid) -> Option<Self> {
        if grid.rows.is_empty() || grid.columns.is_empty() {
            return None;
        }
        let asked: HashSet<&String> = request.terms.iter().map(|(_, term)| term).collect();
        let nouns = grid.nouns();
        let is_named = nouns.iter().any(|noun| asked.contains(noun));
        let spaced = format!(" {} ", request.folded.join(" "));
        let says = |text: &str| {
            // Most texts are told by a look; only the others are taken apart.
            if !text
                .split_whitespace()
                .all(|part| spaced.contains(fold(part).trim_matches(|c: char| !c.is_alphanumeric())))
            {
                return false;
            }
            let words: Vec<String> = crate::text::words(text).map(|word| fold(word.text)).collect();
            !words.is_empty() && spaced.contains(&format!(" {} ", words.join(" ")))
        };
        // What is asked for names the rows, if it is a column: the crane, and not the day. A column of which the question has a text
        // is none that it asks for: `on Gasworks Quay`.
        let is_asked = |(at, column): (usize, &Column)| {
            column.kind == ColumnKind::Text
                && terms(&column.name).iter().any(|term| asked.contains(term))
                && !grid.rows.iter().any(|row| row.cells.get(at).is_some_and(|cell| says(&cell.text)))
        };
        let named_by = grid.columns.iter().enumerate().position(is_asked).unwrap_or_else(|| grid.key_column());
        let key = |at: usize| grid.rows[at].cells.get(named_by).map_or("", |cell| cell.text.as_str());
        let named: Vec<usize> = (0..grid.rows.len()).filter(|at| says(key(*at))).collect();
        let mut used: HashSet<String> = named.iter().flat_map(|at| terms(key(*at))).collect();
        let having = condition(grid, named_by, &says);
        used.extend(having.iter().flat_map(|(_, text)| terms(text)));
        let title: HashSet<String> = terms(&grid.title).into_iter().collect();
        let about = asked.iter().filter(|term| title.contains(**term)).count();
        let fit =
            if is_named { 2.0 } else { 0.0 } + if having.is_some() { 1.0 } else { 0.0 } + 0.75 * about.min(3) as f32;
        Some(Self { request, grid, fit, is_named, named_by, named, having, used })
    }

    fn outcome(&self, grid: usize) -> Option<(f32, Outcome)> {
        let Self { request, .. } = self;
        // `The greatest draught at Berth 7` is a cell, and nothing that is computed over all rows.
        let is_of_pair = matches!(request.operation, Operation::Difference | Operation::Comparison);
        if !is_of_pair && !self.named.is_empty() {
            return None;
        }
        let columns = self.columns();
        let best = columns.first().map_or(0.0, |(fit, _)| *fit);
        let tied: Vec<usize> = columns.iter().filter(|(fit, _)| *fit + 0.01 >= best).map(|(_, at)| *at).collect();
        let column = tied.first().copied();
        if needs_whole_name(request.operation)
            && !self.is_named
            && self.having.is_none()
            && !column.is_some_and(|at| self.names_whole(at))
        {
            return None;
        }
        let needs_column = !matches!(request.operation, Operation::Count | Operation::Which);
        if needs_column && column.is_none() {
            return None;
        }
        let fit = self.fit
            + if needs_column || request.bound.is_some() { best } else { 0.0 }
            + if self.lacking().is_some() { 2.0 } else { 0.0 };
        // For a column of its own, `how many` is a sum of what the rows have.
        let counted = self.counted();
        if fit.max(self.fit + counted.map_or(0.0, |(fit, _)| fit)) < MIN_FIT {
            return None;
        }
        if needs_column && tied.len() > 1 {
            return Some((fit, Outcome::Unclear { grid, columns: tied }));
        }
        let computed = match request.operation {
            Operation::Count => match counted {
                Some((_, column)) => self.sum(grid, column, Operation::Sum),
                None => self.count(grid, column),
            },
            Operation::Which => self.which(grid, column),
            Operation::Sum | Operation::Mean => self.sum(grid, column?, request.operation),
            Operation::Greatest(count) => self.extreme(grid, column?, count, true),
            Operation::Least(count) => self.extreme(grid, column?, count, false),
            Operation::Order { descending } => self.extreme(grid, column?, usize::MAX, descending),
            Operation::Difference | Operation::Comparison => self.pair(grid, column?),
        };
        computed.map(|computed| (fit, Outcome::Computed(computed)))
    }

    /// Returns `true` if the question has every significant word of the name of a column, its unit left out.
    fn names_whole(&self, column: usize) -> bool {
        let name = self.grid.columns[column].name.as_str();
        let bare = name.split(['(', ',']).next().unwrap_or(name);
        let asked = |term: &String| self.request.terms.iter().any(|(_, known)| known == term);
        let name = terms(bare);
        !name.is_empty() && name.iter().all(asked)
    }

    /// Returns the columns of values that the question can mean, the best first.
    fn columns(&self) -> Vec<(f32, usize)> {
        let asked = |at: usize, term: &String| !self.request.spoken_for.contains(&at) && !self.used.contains(term);
        let asked: HashSet<&String> =
            self.request.terms.iter().filter(|(at, term)| asked(*at, term)).map(|(_, term)| term).collect();
        let key = self.named_by;
        let mut found: Vec<(f32, usize)> = Vec::new();
        for (at, column) in self.grid.columns.iter().enumerate() {
            let counts = matches!(column.kind, ColumnKind::Number(_) | ColumnKind::Date);
            if !counts || (at == key && self.grid.columns.len() > 1 && column.kind == ColumnKind::Text) {
                continue;
            }
            let name = terms(&column.name);
            let shared = name.iter().filter(|term| asked.contains(term)).count() as f32;
            let mut fit = if shared > 0.0 { 1.0 + shared + shared / name.len() as f32 } else { 0.0 };
            if let Some(concept) = self.request.concept {
                let by_name = crate::text::words(&column.name).any(|word| is_listed(concept.columns, &fold(word.text)));
                let by_dimension = column.kind.dimension().is_some_and(|own| concept.dimensions.contains(own))
                    || (concept.dates && column.kind == ColumnKind::Date);
                fit += if by_name {
                    1.5
                } else if by_dimension {
                    1.0
                } else {
                    0.0
                };
            }
            if let Some((_, Some(unit))) = &self.request.bound
                && column.kind.dimension() == Some(&unit.dimension)
            {
                fit += 0.5;
            }
            fit += self.spoken_of(column);
            if fit > 0.0 {
                found.push((fit, at));
            }
        }
        found.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        found
    }

    /// Returns how well the words of the question name a column in other words: `share` and `per cent` for a column of shares, and words of the same
    /// concept, such as `long` for `Length`.
    fn spoken_of(&self, column: &Column) -> f32 {
        let folded = &self.request.folded;
        let share = matches!(column.kind.dimension(), Some(crate::quantity::Dimension::Share));
        if share
            && folded.iter().any(|word| {
                ["share", "percentage", "percent", "anteil", "prozent", "pourcentage", "porcentaje", "percentuale"]
                    .contains(&word.as_str())
            })
        {
            return 4.0;
        }
        let names: Vec<String> = crate::text::words(&column.name).map(|word| fold(word.text)).collect();
        let alike = CONCEPTS.iter().any(|concept| {
            let named = names.iter().any(|name| is_listed(concept.columns, name));
            named
                && folded.iter().any(|word| {
                    is_listed(concept.more, word) || is_listed(concept.less, word) || is_listed(concept.columns, word)
                })
        });
        if alike { 1.0 } else { 0.0 }
    }

    /// Returns the column that `how many` asks to add up: one of numbers that the words behind it name.
    fn counted(&self) -> Option<(f32, usize)> {
        if self.request.operation != Operation::Count {
            return None;
        }
        let many = self.request.terms.iter().map(|(_, term)| term).find(|term| **term != "number")?;
        let columns =
            self.grid.columns.iter().enumerate().filter(|(_, column)| matches!(column.kind, ColumnKind::Number(_)));
        columns.filter(|(_, column)| terms(&column.name).first() == Some(many)).map(|(at, _)| (2.5, at)).next()
    }

    /// Returns the rows that meet the conditions of the question, and the conditions in words.
    fn chosen(&self, column: Option<usize>) -> (Vec<usize>, Vec<String>) {
        let mut conditions = Vec::new();
        let mut rows: Vec<usize> = (0..self.grid.rows.len()).filter(|at| !self.grid.rows[*at].is_total).collect();
        if let Some((at, text)) = &self.having {
            rows.retain(|row| fold(&self.grid.rows[*row].cells[*at].text) == fold(text));
            conditions.push(named(&self.grid.columns[*at], text));
        }
        if let Some(at) = self.lacking() {
            let lacks = |row: &GridRow| {
                let cell = &row.cells[at];
                is_empty(&cell.text)
                    || cell.value == Some(0.0)
                    || ["no", "none", "nein", "non", "ninguno"].contains(&fold(&cell.text).as_str())
            };
            rows.retain(|row| lacks(&self.grid.rows[*row]));
            conditions.push(format!("no {}", self.grid.columns[at].name));
        }
        if let (Some((bound, unit)), Some(column)) = (&self.request.bound, column) {
            let own = &self.grid.columns[column];
            let fits = unit.as_ref().is_none_or(|unit| own.kind.dimension().is_none_or(|own| *own == unit.dimension));
            if fits && own.kind != ColumnKind::Date {
                let bound = self.widened(*bound, own);
                // A number whose unit the column does not name is taken as it stands.
                let factor = match (unit, own.kind.dimension()) {
                    (Some(unit), None) => unit.factor,
                    _ => 1.0,
                };
                rows.retain(|row| {
                    self.grid.rows[*row].cells[column].value.is_some_and(|value| bound.holds(value * factor))
                });
                conditions.push(own.name.clone());
            }
        }
        (rows, conditions)
    }

    /// A place for the longest vessel of 40 metres takes one of 38.
    fn widened(&self, bound: Bound, column: &Column) -> Bound {
        let limits = ["longest", "greatest", "largest", "maximum", "max", "highest", "heaviest", "limit"];
        let is_limit = crate::text::words(&column.name).any(|word| limits.contains(&fold(word.text).as_str()));
        let takes = self.request.folded.iter().any(|word| {
            ["take", "takes", "hold", "holds", "carry", "allow", "allows", "admit", "fit", "for"]
                .contains(&word.as_str())
        });
        match bound {
            Bound::Exactly(value) if is_limit && takes => Bound::AtLeast(value),
            bound => bound,
        }
    }

    /// Returns the column of what rows must not have.
    fn lacking(&self) -> Option<usize> {
        let without = &self.request.without;
        let shares = |column: &Column| terms(&column.name).iter().any(|term| without.contains(term));
        if without.is_empty() { None } else { self.grid.columns.iter().position(shares) }
    }

    fn count(&self, grid: usize, column: Option<usize>) -> Option<Computed> {
        let (rows, conditions) = self.chosen(column);
        (!conditions.is_empty() || self.fit >= MIN_FIT).then(|| self.computed(grid, None, rows, conditions, true))
    }

    fn which(&self, grid: usize, column: Option<usize>) -> Option<Computed> {
        let (rows, conditions) = self.chosen(column);
        let met = !conditions.is_empty() && !rows.is_empty();
        let shown = self.lacking().or(column.filter(|_| self.request.bound.is_some()));
        met.then(|| self.computed(grid, shown, rows, conditions, false))
    }

    fn computed(
        &self,
        grid: usize,
        column: Option<usize>,
        rows: Vec<usize>,
        conditions: Vec<String>,
        count: bool,
    ) -> Computed {
        let value = count.then_some(rows.len() as f64);
        Computed {
            grid,
            operation: self.request.operation,
            named_by: self.named_by,
            column,
            value,
            considered: self.considered(),
            rows,
            conditions,
        }
    }

    fn considered(&self) -> usize {
        self.grid.rows.iter().filter(|row| !row.is_total).count()
    }

    fn sum(&self, grid: usize, column: usize, operation: Operation) -> Option<Computed> {
        let (rows, conditions) = self.chosen(None);
        let value = |row: usize| self.grid.rows[row].cells[column].value;
        // A cell over several rows counts once.
        let once = |at: usize| {
            let cell = |row: usize| (self.grid.rows[row].table, self.grid.rows[row].cells[column].span);
            at == 0 || self.grid.rows[rows[at]].cells[column].span.is_empty() || cell(rows[at]) != cell(rows[at - 1])
        };
        let used: Vec<usize> =
            (0..rows.len()).filter(|at| once(*at)).map(|at| rows[at]).filter(|row| value(*row).is_some()).collect();
        if used.is_empty() || self.grid.columns[column].kind == ColumnKind::Date {
            return None;
        }
        let sum: f64 = used.iter().filter_map(|row| value(*row)).sum();
        let result = if operation == Operation::Mean { sum / used.len() as f64 } else { sum };
        let mut computed = self.computed(grid, Some(column), used, conditions, false);
        (computed.value, computed.operation) = (Some(result), operation);
        Some(computed)
    }

    fn extreme(&self, grid: usize, column: usize, count: usize, more: bool) -> Option<Computed> {
        let (mut rows, conditions) = self.chosen(None);
        rows.retain(|row| self.grid.rows[*row].cells[column].value.is_some());
        let value = |row: usize| self.grid.rows[row].cells[column].value.unwrap_or_default();
        let order =
            |a: &usize, b: &usize| if more { value(*b).total_cmp(&value(*a)) } else { value(*a).total_cmp(&value(*b)) };
        rows.sort_by(order);
        // Rows with the value of the last one belong to it.
        let last = rows.get(count.saturating_sub(1)).copied();
        let kept = last
            .map_or(rows.len(), |last| rows.iter().take_while(|row| order(row, &last) != Ordering::Greater).count());
        rows.truncate(kept);
        (!rows.is_empty()).then(|| self.computed(grid, Some(column), rows, conditions, false))
    }

    fn pair(&self, grid: usize, column: usize) -> Option<Computed> {
        let value = |row: usize| self.grid.rows[row].cells[column].value;
        // `Berth 1` is no name where `Berth 11` is meant; names are compared by words, so only the same name can come twice.
        let named: Vec<usize> = self.named.iter().copied().filter(|row| value(*row).is_some()).collect();
        let [first, second] = named[..] else { return None };
        let difference = value(first)? - value(second)?;
        let mut computed = self.computed(grid, Some(column), vec![first, second], Vec::new(), false);
        computed.value = Some(difference.abs());
        Some(computed)
    }
}

/// Returns `true` for what is computed over all rows, which the name of a thing can look like: `the mean wind`.
fn needs_whole_name(operation: Operation) -> bool {
    !matches!(operation, Operation::Count | Operation::Which | Operation::Comparison | Operation::Difference)
}

/// Returns the text of a cell that the question has in full, and its column: the longest. A text that every row has tells nothing, and the names of rows
/// are no condition.
fn condition(grid: &Grid, key: usize, says: &dyn Fn(&str) -> bool) -> Option<(usize, String)> {
    let mut best: Option<(usize, String)> = None;
    for (at, column) in grid.columns.iter().enumerate() {
        if at == key || column.kind != ColumnKind::Text {
            continue;
        }
        let mut seen: HashSet<&str> = HashSet::new();
        for row in &grid.rows {
            let text = row.cells[at].text.as_str();
            if text.len() >= 2
                && seen.insert(text)
                && says(text)
                && best.as_ref().is_none_or(|(_, known)| text.len() > known.len())
            {
                best = Some((at, text.to_owned()));
            }
        }
    }
    best
}

fn named(column: &Column, text: &str) -> String {
    if column.name.is_empty() { text.to_owned() } else { format!("{}: {text}", column.name) }
}
