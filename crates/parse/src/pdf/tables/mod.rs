//! Tables: ruled grids, bands between level rules, and rows that align without any rule.
//!
//! [`ruled`] reads grids of rules, cells that span rows and columns included. [`banded`] reads tables that have level rules
//! only, or stripes. [`plain`] reads tables without rules, and is the most cautious: what it takes must look like a table
//! in every way that is checked. What they share, the columns of rows and the cells of columns, is in [`cells`].

mod banded;
mod cells;
mod plain;
mod ruled;

use logothete_core::document::{Area, TableCell};

use super::drawn::{Drawn, Rule};
use super::lines::Word;

/// A row of a table on a page.
#[derive(Clone, Debug)]
pub(super) struct FoundRow {
    pub cells: Vec<TableCell>,
    pub area: Area,
}

/// A table on a page.
#[derive(Clone, Debug)]
pub(super) struct PageTable {
    pub area: Area,
    pub header_rows: usize,
    /// A line above its columns that says what it shows.
    pub title: Option<String>,
    pub rows: Vec<FoundRow>,
    /// The borders between its columns: one fewer than columns.
    pub gutters: Vec<f32>,
}

/// Finds the tables of a page, from the top, and takes their words out of `words`.
///
/// Ruled tables cost a comparison for every two rules, the others a sort of the words.
pub(super) fn take(drawn: &Drawn, words: &mut Vec<Word>) -> Vec<PageTable> {
    let mut tables = ruled::take(&drawn.rules, words);
    tables.extend(banded::take(drawn, words));
    tables.extend(plain::take(words));
    tables.sort_by(|a, b| a.area.top.total_cmp(&b.area.top));
    tables
}

/// Level rules that continue each other on one line, as one rule each.
fn joined_level_rules(rules: impl Iterator<Item = Rule>) -> Vec<Rule> {
    /// A gap that a border leaves between two cells, in points.
    const GAP: f32 = 2.2;
    let mut level: Vec<Rule> = rules.filter(|rule| rule.level).collect();
    level.sort_by(|a, b| a.at.total_cmp(&b.at).then(a.from.total_cmp(&b.from)));
    let mut joined: Vec<Rule> = Vec::new();
    for rule in level {
        let near = joined
            .iter_mut()
            .rev()
            .take_while(|last| rule.at - last.at <= 1.2)
            .find(|last| rule.from <= last.to + GAP && last.from <= rule.to + GAP);
        match near {
            Some(last) => (last.from, last.to) = (last.from.min(rule.from), last.to.max(rule.to)),
            None => joined.push(rule),
        }
    }
    joined
}
