//! Ruled tables: rules that meet make a grid, and the words between them its cells.

use super::lines::Word;
use super::page::Rule;

/// Rules whose ends come this near each other meet, in points.
const MEET: f32 = 3.0;

/// A table on a page.
#[derive(Clone, Debug)]
pub(super) struct PageTable {
    pub top: f32,
    pub rows: Vec<Vec<String>>,
}

/// Finds the ruled tables of a page, from the top, and takes their words out of `words`.
///
/// A table has at least two rows and two columns. Costs a comparison for every two rules.
pub(super) fn take(rules: &[Rule], words: &mut Vec<Word>) -> Vec<PageTable> {
    let mut tables: Vec<PageTable> = groups(rules).into_iter().filter_map(|group| fill(&group, words)).collect();
    tables.sort_by(|a, b| a.top.total_cmp(&b.top));
    tables
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

/// The cells of a grid, if it is one and holds words.
fn fill(group: &[Rule], words: &mut Vec<Word>) -> Option<PageTable> {
    let rows = places(group.iter().filter(|rule| rule.level));
    let columns = places(group.iter().filter(|rule| !rule.level));
    if rows.len() < 3 || columns.len() < 3 {
        return None;
    }
    let cell_of = |word: &Word| {
        let middle = word.baseline - word.size * 0.3;
        Some((between(&rows, middle)?, between(&columns, (word.left + word.right) / 2.0)?))
    };
    if !is_filled(words.iter().filter_map(|word| Some((cell_of(word)?, word))), rows.len() - 1, columns.len() - 1) {
        return None;
    }
    let mut cells = vec![vec![String::new(); columns.len() - 1]; rows.len() - 1];
    words.retain(|word| {
        let Some((row, column)) = cell_of(word) else { return true };
        let cell = &mut cells[row][column];
        if !cell.is_empty() {
            cell.push(' ');
        }
        cell.push_str(&word.text);
        false
    });
    Some(PageTable { top: rows[0], rows: cells })
}

/// Whether the cells of a grid are filled as a table's are. A drawing or a plot may be made of rules as well; its few words
/// leave most cells empty.
fn is_filled<'a>(words: impl Iterator<Item = ((usize, usize), &'a Word)>, rows: usize, columns: usize) -> bool {
    let mut filled = vec![vec![false; columns]; rows];
    let (mut telling, mut all) = (0, 0);
    for ((row, column), word) in words {
        filled[row][column] = true;
        telling += word.text.chars().filter(|c| c.is_alphanumeric()).count();
        all += word.text.chars().count();
    }
    let cells: usize = filled.iter().flatten().filter(|cell| **cell).count();
    let broad = filled.iter().filter(|row| row.iter().filter(|cell| **cell).count() >= 2).count();
    cells * 2 >= rows * columns && broad * 2 >= rows && telling * 2 > all
}

/// The different places of rules, ascending; those that nearly agree are one.
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
