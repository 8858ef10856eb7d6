//! Ruled tables: rules that meet make a grid, and the words between them its cells. Where a rule between two places of the
//! grid is missing, one cell spans both.

use logothete_core::document::{Area, TableCell};

use super::super::drawn::Rule;
use super::super::lines::Word;
use super::cells::{self, bold_rows, header_rows, lines, take_title, text_of};
use super::{FoundRow, PageTable};

/// Rules whose ends come this near each other meet, in points.
const MEET: f32 = 3.0;

pub(super) fn take(rules: &[Rule], words: &mut Vec<Word>) -> Vec<PageTable> {
    groups(rules).into_iter().filter_map(|group| fill(&group, words)).collect()
}

/// Rules that hang together.
fn groups(rules: &[Rule]) -> Vec<Vec<Rule>> {
    /// More rules than this on a page are a drawing, not tables.
    const MOST: usize = 4000;
    let mut left: Vec<Rule> = if rules.len() > MOST { Vec::new() } else { rules.to_vec() };
    let mut groups = Vec::new();
    while let Some(first) = left.pop() {
        let mut group = vec![first];
        let mut next = 0;
        while next < group.len() {
            let rule = group[next];
            let (touching, apart) = left.into_iter().partition(|other| meet(&rule, other));
            group.extend::<Vec<Rule>>(touching);
            left = apart;
            next += 1;
        }
        groups.push(group);
    }
    groups
}

fn meet(a: &Rule, b: &Rule) -> bool {
    if a.level == b.level {
        (a.at - b.at).abs() <= MEET && a.from <= b.to + MEET && b.from <= a.to + MEET
    } else {
        let inside = |at: f32, rule: &Rule| rule.from - MEET <= at && at <= rule.to + MEET;
        inside(a.at, b) && inside(b.at, a)
    }
}

/// The places of a grid, and which of them are one cell.
struct Grid {
    rows: Vec<f32>,
    columns: Vec<f32>,
    /// For each place the first place of its cell.
    owner: Vec<Vec<(usize, usize)>>,
}

impl Grid {
    fn of(group: &[Rule]) -> Option<Self> {
        let rows = places(group.iter().filter(|rule| rule.level));
        let columns = places(group.iter().filter(|rule| !rule.level));
        if rows.len() < 2 || columns.len() < 3 || rows.len() * columns.len() > 40_000 {
            return None;
        }
        let owner =
            (0..rows.len() - 1).map(|row| (0..columns.len() - 1).map(|column| (row, column)).collect()).collect();
        let mut grid = Self { rows, columns, owner };
        grid.merge(group);
        Some(grid)
    }

    /// Returns `true` if rules cover most of an edge.
    fn has_edge(group: &[Rule], level: bool, at: f32, from: f32, to: f32) -> bool {
        let covered: f32 = group
            .iter()
            .filter(|rule| rule.level == level && (rule.at - at).abs() <= MEET)
            .map(|rule| (rule.to.min(to) - rule.from.max(from)).max(0.0))
            .sum();
        covered >= 0.6 * (to - from)
    }

    /// Joins places that no rule parts, where they make a rectangle.
    fn merge(&mut self, group: &[Rule]) {
        let (height, width) = (self.rows.len() - 1, self.columns.len() - 1);
        let open_right: Vec<Vec<bool>> = (0..height)
            .map(|row| {
                (0..width)
                    .map(|column| {
                        column + 1 < width
                            && !Self::has_edge(
                                group,
                                false,
                                self.columns[column + 1],
                                self.rows[row],
                                self.rows[row + 1],
                            )
                    })
                    .collect()
            })
            .collect();
        let open_below: Vec<Vec<bool>> = (0..height)
            .map(|row| {
                (0..width)
                    .map(|column| {
                        row + 1 < height
                            && !Self::has_edge(
                                group,
                                true,
                                self.rows[row + 1],
                                self.columns[column],
                                self.columns[column + 1],
                            )
                    })
                    .collect()
            })
            .collect();
        for row in 0..height {
            for column in 0..width {
                if self.owner[row][column] != (row, column) {
                    continue;
                }
                let mut right = column;
                while open_right[row][right] && self.owner[row][right + 1] == (row, right + 1) {
                    right += 1;
                }
                let mut bottom = row;
                while (column..=right).all(|at| open_below[bottom][at])
                    && (column..right).all(|at| open_right[bottom + 1][at])
                    && !(right + 1 < width && open_right[bottom + 1][right])
                {
                    bottom += 1;
                }
                for line in &mut self.owner[row..=bottom] {
                    line[column..=right].fill((row, column));
                }
            }
        }
    }

    fn cell_of(&self, word: &Word) -> Option<(usize, usize)> {
        let middle = word.baseline - word.size * 0.3;
        let place = (between(&self.rows, middle)?, between(&self.columns, (word.left + word.right) / 2.0)?);
        Some(self.owner[place.0][place.1])
    }
}

/// Returns the cells of a grid, if it is one and holds words.
fn fill(group: &[Rule], words: &mut Vec<Word>) -> Option<PageTable> {
    let grid = Grid::of(group)?;
    let (height, width) = (grid.rows.len() - 1, grid.columns.len() - 1);
    if !is_filled(words.iter().filter_map(|word| Some((grid.cell_of(word)?, word))), &grid) {
        return None;
    }
    let mut inside = Vec::new();
    words.retain(|word| {
        let cell = grid.cell_of(word);
        inside.extend(cell.map(|cell| (cell, word.clone())));
        cell.is_none()
    });
    let area = Area { left: grid.columns[0], top: grid.rows[0], right: grid.columns[width], bottom: grid.rows[height] };
    let gutters = grid.columns[1..width].to_vec();
    // Columns are ruled and rows are not: the lines of the words are the rows.
    if let Some(rows) = lines_as_rows(&grid, &inside) {
        let bold = bold_rows(&rows.0, &rows.1);
        let found = cells::fill(&rows.0, &rows.1, &gutters, &[]);
        let told = rows.1.iter().filter(|&&start| rows.0[start].baseline < grid.rows[1]).count();
        let told = if height > 1 && told <= 3 { told } else { 0 };
        let header_rows = header_rows(&found, told, bold);
        return Some(PageTable { area, header_rows, title: None, rows: found, gutters });
    }
    let mut texts = vec![vec![Vec::new(); width]; height];
    let bold = {
        let all = lines(inside.iter().map(|(_, word)| word.clone()).collect(), 0.45);
        let first: Vec<_> = all.iter().filter(|line| line.baseline < grid.rows[1]).collect();
        usize::from(height > 1 && !first.is_empty() && first.iter().all(|line| line.is_bold()))
    };
    for ((row, column), word) in inside {
        texts[row][column].push(word);
    }
    let mut rows: Vec<FoundRow> = Vec::with_capacity(height);
    for (row, texts) in texts.iter_mut().enumerate() {
        let cells = (0..width)
            .map(|column| match grid.owner[row][column] {
                owner if owner == (row, column) => TableCell::Text(text_of(std::mem::take(&mut texts[column]))),
                (above, _) if above < row => TableCell::Above,
                _ => TableCell::Left,
            })
            .collect();
        rows.push(FoundRow { cells, area: Area { top: grid.rows[row], bottom: grid.rows[row + 1], ..area } });
    }
    // Rules drawn double leave rows with nothing in them.
    let blank = |cell: &TableCell| matches!(cell, TableCell::Text(text) if text.is_empty());
    rows.retain(|row| !row.cells.iter().all(blank));
    let spanning_header = rows.get(1).is_some_and(|second| {
        let own = second.cells.iter().filter_map(|cell| match cell {
            TableCell::Text(text) => Some(text),
            _ => None,
        });
        second.cells.contains(&TableCell::Above)
            && rows.len() > 2
            && own.into_iter().all(|text| !cells::is_number(text))
    });
    let told = if spanning_header { 2 } else { bold };
    let mut header_rows = header_rows(&rows, told, 0);
    let title = take_title(&mut rows, &mut header_rows);
    Some(PageTable { area, header_rows, title, rows, gutters })
}

/// When a row of the grid holds many lines that run across its columns, those lines are the rows.
fn lines_as_rows(grid: &Grid, inside: &[((usize, usize), Word)]) -> Option<(Vec<cells::TableLine>, Vec<usize>)> {
    let height = grid.rows.len() - 1;
    let all = lines(inside.iter().map(|(_, word)| word.clone()).collect(), 0.45);
    let tallest = (0..height)
        .map(|row| {
            all.iter()
                .filter(|line| (grid.rows[row]..grid.rows[row + 1]).contains(&(line.baseline - line.size * 0.3)))
                .collect::<Vec<_>>()
        })
        .max_by_key(Vec::len)?;
    let across = tallest
        .iter()
        .filter(|line| {
            let mut columns: Vec<_> =
                line.runs.iter().filter_map(|run| between(&grid.columns, (run.left + run.right) / 2.0)).collect();
            columns.dedup();
            columns.len() * 3 >= (grid.columns.len() - 1) * 2
        })
        .count();
    if height > 3 || tallest.len() < 3 || across * 4 < tallest.len() * 3 {
        return None;
    }
    let starts = cells::row_starts(&all, &grid.columns[1..grid.columns.len() - 1]);
    Some((all, starts))
}

/// Returns `true` if the cells of a grid are filled as a table's are. A drawing or a plot may be made of rules as well; its few words
/// leave most cells empty.
fn is_filled<'a>(words: impl Iterator<Item = ((usize, usize), &'a Word)>, grid: &Grid) -> bool {
    let (height, width) = (grid.rows.len() - 1, grid.columns.len() - 1);
    let mut filled = vec![vec![false; width]; height];
    let (mut telling, mut all) = (0, 0);
    for ((row, column), word) in words {
        filled[row][column] = true;
        telling += word.text.chars().filter(|c| c.is_alphanumeric()).count();
        all += word.text.chars().count();
    }
    let cells: usize = filled.iter().flatten().filter(|cell| **cell).count();
    let own = (0..height)
        .flat_map(|row| (0..width).map(move |column| (row, column)))
        .filter(|&(row, column)| grid.owner[row][column] == (row, column))
        .count();
    let broad = filled.iter().filter(|row| row.iter().filter(|cell| **cell).count() >= 2).count();
    cells * 2 >= own && cells >= 2 && broad * 2 >= height && telling * 2 > all
}

/// Returns the different places of rules, ascending; those that nearly agree are one.
fn places<'a>(rules: impl Iterator<Item = &'a Rule>) -> Vec<f32> {
    let mut all: Vec<f32> = rules.map(|rule| rule.at).collect();
    all.sort_by(f32::total_cmp);
    all.dedup_by(|later, earlier| *later - *earlier <= MEET);
    all
}

fn between(places: &[f32], at: f32) -> Option<usize> {
    let after = places.partition_point(|&place| place <= at);
    (after > 0 && after < places.len()).then(|| after - 1)
}
