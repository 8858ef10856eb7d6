//! Tables with level rules only: at the top, below the names of the columns and at the foot, or between all rows; or with
//! every other row tinted. The rules tell where the table is, the gaps between the words where its columns are.

use logothete_core::document::Area;

use super::super::drawn::{Drawn, Rule};
use super::super::lines::Word;
use super::cells::{
    CELL_GAP, TableLine, bold_rows, columns, fill, header_rows, lines, row_starts, stretch_first, take_title,
};
use super::{PageTable, joined_level_rules};

/// Rules whose ends differ by no more than this belong together, in points.
const SAME_END: f32 = 5.0;
/// A line that fills this share of the table with one run is prose.
const PROSE: f32 = 0.62;
/// A tinted row is no higher than this, in points.
const STRIPE: f32 = 90.0;

pub(super) fn take(drawn: &Drawn, words: &mut Vec<Word>) -> Vec<PageTable> {
    let level = joined_level_rules(drawn.rules.iter().copied().chain(stripes(drawn)));
    if level.len() < 2 || level.len() > 2000 {
        return Vec::new();
    }
    let mut tables = Vec::new();
    let mut used = vec![false; level.len()];
    for first in 0..level.len() {
        if used[first] || level[first].to - level[first].from < 60.0 {
            continue;
        }
        let alike = |rule: &Rule| {
            (rule.from - level[first].from).abs() <= SAME_END && (rule.to - level[first].to).abs() <= SAME_END
        };
        let stack: Vec<usize> = (first..level.len()).filter(|&index| !used[index] && alike(&level[index])).collect();
        for &index in &stack {
            used[index] = true;
        }
        let rules: Vec<Rule> = stack.iter().map(|&index| level[index]).collect();
        stacked(&rules, &level, words, &mut tables);
    }
    tables
}

/// Returns the edges of tinted rows.
fn stripes(drawn: &Drawn) -> impl Iterator<Item = Rule> + '_ {
    let rows = drawn.fills.iter().filter(|fill| fill.height() < STRIPE && fill.height() > 5.0);
    rows.flat_map(|fill| [fill.top, fill.bottom].map(|at| Rule { level: true, at, from: fill.left, to: fill.right }))
}

/// Reads the tables between the rules of a stack: neighbouring bands that hold no prose.
fn stacked(rules: &[Rule], level: &[Rule], words: &mut Vec<Word>, tables: &mut Vec<PageTable>) {
    let mut first = 0;
    while first + 1 < rules.len() {
        let mut last = first;
        while last + 1 < rules.len() && !is_prose(rules[last], rules[last + 1], words) {
            last += 1;
        }
        if last > first
            && let Some(table) = read(&rules[first..=last], level, words)
        {
            tables.push(table);
        }
        first = last.max(first + 1);
    }
}

fn inside(word: &Word, top: f32, bottom: f32, from: f32, to: f32) -> bool {
    let middle = word.baseline - 0.3 * word.size;
    let across = (word.left + word.right) / 2.0;
    middle > top && middle < bottom && across > from - 3.0 && across < to + 3.0
}

/// Returns `true` if there is prose between two rules, or an empty stretch.
fn is_prose(above: Rule, below: Rule, words: &[Word]) -> bool {
    let band = words.iter().filter(|word| inside(word, above.at, below.at, above.from, above.to)).cloned().collect();
    let lines = lines(band, CELL_GAP);
    if lines.is_empty() {
        return below.at - above.at > 24.0;
    }
    let width = above.to - above.from;
    let full = |line: &&TableLine| line.runs.iter().any(|run| run.right - run.left > PROSE * width);
    let many = lines.iter().filter(full).count();
    let several = lines.iter().filter(|line| line.runs.len() > 1).count();
    many * 2 > lines.len() && lines.len() > 1 || several * 3 < lines.len() && lines.len() > 2
}

fn read(rules: &[Rule], level: &[Rule], words: &mut Vec<Word>) -> Option<PageTable> {
    let (top, bottom) = (rules.first()?.at, rules.last()?.at);
    let (from, to) = (rules[0].from, rules[0].to);
    let in_table = |word: &Word| inside(word, top, bottom, from, to);
    let all = lines(words.iter().filter(|word| in_table(word)).cloned().collect(), CELL_GAP);
    let least = CELL_GAP * all.first()?.size;
    let gutters = columns(&all, least);
    let middles: Vec<f32> = gutters.iter().map(|(left, right)| (left + right) / 2.0).collect();
    let several = all.iter().filter(|line| line.runs.len() > 1).count();
    let crossing = all.iter().filter(|line| {
        line.runs.iter().any(|run| gutters.iter().any(|gutter| run.left < gutter.0 && run.right > gutter.1))
    });
    let one_pitch = all.iter().flat_map(|line| &line.runs).flat_map(|run| &run.words).all(|word| word.pitch > 0.0);
    if middles.is_empty() || all.len() < 2 || several * 2 < all.len() || crossing.count() * 3 > all.len() || one_pitch {
        return None;
    }
    let starts = starts_by_rules(&all, rules).unwrap_or_else(|| row_starts(&all, &middles));
    let within: Vec<Rule> = level
        .iter()
        .filter(|rule| rule.at > top && rule.at < bottom && rule.to - rule.from < 0.9 * (to - from))
        .copied()
        .collect();
    let area = Area { left: from, top, right: to, bottom };
    let mut rows = fill(&all, &starts, &middles, &within);
    stretch_first(&mut rows, &all, area);
    let bold = bold_rows(&all, &starts);
    // Rows above the first rule inside name the columns, unless a rule follows every row.
    let told = if rules.len() < starts.len() + 1 && rules.len() > 2 {
        starts.iter().filter(|&&start| all[start].baseline < rules[1].at).count()
    } else {
        0
    };
    let told = if told <= 3 && told < starts.len() { told } else { 0 };
    // Two rules alone around lines hold a table only if there are rows enough to be sure.
    if rules.len() == 2 && (rows.len() < 3 || bold == 0 && middles.len() < 2) {
        return None;
    }
    words.retain(|word| !in_table(word));
    let mut header_rows = header_rows(&rows, told, bold);
    let title = take_title(&mut rows, &mut header_rows);
    Some(PageTable { area, header_rows, title, rows, gutters: middles })
}

/// Returns the rows between rules if the rules part most of the lines.
fn starts_by_rules(all: &[TableLine], rules: &[Rule]) -> Option<Vec<usize>> {
    let mut starts = Vec::new();
    let mut bands = 0;
    for pair in rules.windows(2) {
        let first = all.iter().position(|line| line.baseline > pair[0].at && line.baseline < pair[1].at + 1.0);
        bands += usize::from(first.is_some());
        starts.extend(first);
    }
    starts.dedup();
    (bands >= 3 && bands * 3 >= all.len() && starts.first() == Some(&0)).then_some(starts)
}
