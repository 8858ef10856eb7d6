//! Functions for all kinds of table: finding columns in rows of words, and filling cells.

use logothete_core::document::{Area, TableCell};

use super::super::drawn::Rule;
use super::super::lines::{Word, line, rows, with_room};
use super::super::stems::Weight;
use super::FoundRow;

/// A gap of this many times the font size parts two cells in a table that is known to be one.
pub(super) const CELL_GAP: f32 = 0.45;
/// Lines of a table whose distances differ by more than this factor are rows with lines inside them.
const LOOSER: f32 = 1.25;

/// A run of words without a gap wide enough to part cells.
#[derive(Clone, Debug)]
pub(super) struct Run {
    pub words: Vec<Word>,
    pub left: f32,
    pub right: f32,
}

/// A line of a table: its runs from left to right.
#[derive(Clone, Debug)]
pub(super) struct TableLine {
    pub runs: Vec<Run>,
    pub baseline: f32,
    pub size: f32,
}

impl TableLine {
    pub(super) fn left(&self) -> f32 {
        self.runs.first().map_or(0.0, |run| run.left)
    }

    pub(super) fn right(&self) -> f32 {
        self.runs.last().map_or(0.0, |run| run.right)
    }

    pub(super) fn is_bold(&self) -> bool {
        self.runs.iter().flat_map(|run| &run.words).all(|word| word.weight != Weight::Regular)
            && self.runs.iter().flat_map(|run| &run.words).any(|word| word.weight == Weight::Bold)
    }
}

/// Returns the lines of a table, each split at gaps of `gap` times the font size.
pub(super) fn lines(words: Vec<Word>, gap: f32) -> Vec<TableLine> {
    rows(words).into_iter().map(|row| parted(row, gap)).collect()
}

pub(super) fn parted(row: Vec<Word>, gap: f32) -> TableLine {
    let tallest = row.iter().max_by(|a, b| a.size.total_cmp(&b.size));
    let (baseline, size) = tallest.map_or((0.0, 0.0), |word| (word.baseline, word.size));
    let mut runs: Vec<Run> = Vec::new();
    for word in row {
        match runs.last_mut() {
            Some(last) if word.left - last.right < gap * word.size => {
                last.right = last.right.max(word.right);
                last.words.push(word);
            }
            _ => runs.push(Run { left: word.left, right: word.right, words: with_room(word) }),
        }
    }
    TableLine { runs, baseline, size }
}

/// Intervals that no run of the lines enters, as wide as `least` at least, from left to right.
pub(super) fn gutters<'a>(lines: impl Iterator<Item = &'a TableLine>, least: f32) -> Vec<(f32, f32)> {
    let mut runs: Vec<(f32, f32)> =
        lines.flat_map(|line| &line.runs).flat_map(|run| &run.words).map(|word| (word.left, word.right)).collect();
    runs.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut found = Vec::new();
    let mut reached = f32::NEG_INFINITY;
    for (left, right) in runs {
        if reached.is_finite() && left - reached >= least {
            found.push((reached, left));
        }
        reached = reached.max(right);
    }
    found
}

/// Returns the gutters of a table: those of all lines, or of all but the first one or two if that gives more. A line that is left
/// out has cells that span columns.
pub(super) fn columns(all: &[TableLine], least: f32) -> Vec<(f32, f32)> {
    let mut best: Vec<(f32, f32)> = Vec::new();
    for skipped in 0..=2.min(all.len().saturating_sub(2)) {
        let several = |line: &&TableLine| line.runs.len() > 1;
        // A line with one run is a heading inside the table, or goes on with a cell.
        let found = gutters(all[skipped..].iter().filter(several), least);
        if found.len() > best.len() {
            best = found;
        }
    }
    best
}

/// Joins lines into rows: lines closer than rows are, and lines that only continue cells above them.
pub(super) fn row_starts(all: &[TableLine], middles: &[f32]) -> Vec<usize> {
    let gaps: Vec<f32> = all.windows(2).map(|pair| pair[1].baseline - pair[0].baseline).collect();
    let tight = gaps.iter().copied().fold(f32::INFINITY, f32::min);
    let wide = gaps.iter().copied().fold(0.0, f32::max);
    let size = all.first().map_or(10.0, |line| line.size);
    let by_distance = wide > tight * LOOSER && tight < 1.45 * size;
    let threshold = (tight * wide).sqrt().min(tight * 1.5);
    let filled = |line: &TableLine| -> Vec<usize> {
        let mut columns: Vec<usize> = line.runs.iter().map(|run| column_of(run, middles)).collect();
        columns.dedup();
        columns
    };
    let mut starts = vec![0];
    let mut named = filled(&all[0]).first() == Some(&0);
    for index in 1..all.len() {
        let columns = filled(&all[index]);
        let above = filled(&all[index - 1]);
        let close = by_distance && gaps[index - 1] <= threshold;
        let has_name = columns.first() == Some(&0);
        // Nothing in the first column, little beside, and nothing new below an empty cell.
        let partial =
            !has_name && columns.len() * 2 <= middles.len() + 1 && columns.iter().all(|column| above.contains(column));
        let goes_on = match (has_name, named) {
            // A second name in a row is the rest of a long one.
            (true, true) => close && columns.len() * 2 <= middles.len() + 1,
            // A name set at the middle of a row of several lines.
            (true, false) => close,
            (false, _) => partial || close,
        };
        if goes_on {
            named |= has_name;
        } else {
            starts.push(index);
            named = has_name;
        }
    }
    starts
}

/// Returns the column that a run begins in.
fn column_of(run: &Run, middles: &[f32]) -> usize {
    let at = run.words.first().map_or(run.left, |word| (word.left + word.right) / 2.0);
    middles.partition_point(|&middle| middle <= at)
}

/// Fills rows of cells from lines. `middles` are the places where the columns part; `under` are short rules that bind a
/// heading to the columns below it.
pub(super) fn fill(all: &[TableLine], starts: &[usize], middles: &[f32], under: &[Rule]) -> Vec<FoundRow> {
    let mut found = Vec::with_capacity(starts.len());
    for (index, &start) in starts.iter().enumerate() {
        let end = starts.get(index + 1).copied().unwrap_or(all.len());
        let mut texts: Vec<Vec<Word>> = vec![Vec::new(); middles.len() + 1];
        let mut spans = vec![false; middles.len() + 1];
        let mut area: Option<Area> = None;
        for line in &all[start..end] {
            for run in &line.runs {
                for piece in pieces(run, middles) {
                    let (mut first, mut last) = (piece.first, piece.last);
                    let below = under.iter().find(|rule| {
                        let near = rule.at > line.baseline - 1.0 && rule.at < line.baseline + line.size * 0.9;
                        near && rule.from <= piece.left + 2.0 && rule.to >= piece.right - 2.0
                    });
                    if let Some(rule) = below {
                        first = first.min(middles.partition_point(|&middle| middle <= rule.from + 1.0));
                        last = last.max(middles.partition_point(|&middle| middle < rule.to - 1.0));
                    }
                    spans[first + 1..=last].fill(true);
                    for word in &piece.words {
                        area = Some(area.map_or(word.area(), |area| area.around(word.area())));
                    }
                    texts[first].extend(piece.words);
                }
            }
        }
        let cells = texts
            .into_iter()
            .zip(spans)
            .map(|(words, spanned)| match (words.is_empty(), spanned) {
                (true, true) => TableCell::Left,
                _ => TableCell::Text(text_of(words)),
            })
            .collect();
        found.push(FoundRow { cells, area: area.unwrap_or_default() });
    }
    repeat_group_names(&mut found);
    found
}

/// The part of a run in one column, or in those that it spans.
struct Piece {
    words: Vec<Word>,
    left: f32,
    right: f32,
    first: usize,
    last: usize,
}

/// Splits a run where a gutter is between two of its words. A run that crosses gutters without a gap spans columns.
fn pieces(run: &Run, middles: &[f32]) -> Vec<Piece> {
    let mut found: Vec<Piece> = Vec::new();
    for word in &run.words {
        let column = |at: f32| middles.partition_point(|&middle| middle <= at);
        let (first, last) = (column(word.left + 0.5), column(word.right - 0.5));
        match found.last_mut() {
            // A usual space between two words on both sides of a gutter: one text across it.
            Some(piece) if piece.last == first || word.left - piece.right < 0.36 * word.size => {
                piece.last = piece.last.max(last);
                piece.right = piece.right.max(word.right);
                piece.words.push(word.clone());
            }
            _ => found.push(Piece { words: vec![word.clone()], left: word.left, right: word.right, first, last }),
        }
    }
    found
}

/// Returns the words of a cell as text, line by line, with hyphenated words joined.
pub(super) fn text_of(words: Vec<Word>) -> String {
    let mut text = String::new();
    for row in rows(words) {
        let next = line(&row).text;
        let parted = text.ends_with('-')
            && text[..text.len() - 1].ends_with(char::is_lowercase)
            && next.starts_with(char::is_lowercase);
        if parted {
            text.pop();
        } else if !text.is_empty() {
            text.push(' ');
        }
        text.push_str(&next);
    }
    text
}

/// Repeats the name of a group in the empty first cells below it.
fn repeat_group_names(rows: &mut [FoundRow]) {
    let is_empty = |cell: &TableCell| matches!(cell, TableCell::Text(text) if text.is_empty());
    let mut named = false;
    for row in rows.iter_mut().skip(1) {
        let rest = row.cells.len().saturating_sub(1);
        let full = row.cells.iter().skip(1).filter(|cell| !is_empty(cell)).count();
        match row.cells.first_mut() {
            Some(first) if is_empty(first) && named && full == rest && rest >= 2 => *first = TableCell::Above,
            Some(first) => named = !is_empty(first),
            None => {}
        }
    }
}

/// Returns the number of rows at the top that name the columns: the larger of `told` and `bold`. If both are 0 it is one row,
/// unless the first row has figures where the rows below do.
pub(super) fn header_rows(rows: &[FoundRow], told: usize, bold: usize) -> usize {
    if rows.len() < 2 {
        return 0;
    }
    if told.max(bold) > 0 {
        return told.max(bold).min(rows.len() - 1);
    }
    let numeric = |cell: Option<&TableCell>| matches!(cell, Some(TableCell::Text(text)) if is_number(text));
    let columns = rows[0].cells.len();
    let data = (0..columns).any(|column| {
        let below = rows[1..].iter().filter(|row| numeric(row.cells.get(column))).count();
        below * 2 > rows.len() - 1 && numeric(rows[0].cells.get(column))
    });
    if data {
        return 0;
    }
    // A heading over several columns has the names of those columns below it.
    let spanning = |row: &FoundRow| row.cells.contains(&TableCell::Left);
    if spanning(&rows[0]) && rows.len() > 2 && !rows[0].cells[1..].iter().all(|cell| *cell == TableCell::Left) {
        2
    } else {
        1
    }
}

/// Returns `true` if a cell holds a figure: mostly digits, with signs and a short unit.
pub(super) fn is_number(text: &str) -> bool {
    let digits = text.chars().filter(char::is_ascii_digit).count();
    let letters = text.chars().filter(|c| c.is_alphabetic()).count();
    digits > 0 && letters <= 3 && text.starts_with(|c: char| c.is_ascii_digit() || "-–+−£$€≥≤<>~±(.".contains(c))
}

/// Returns the number of bold lines at the top, if the rest is not bold.
pub(super) fn bold_rows(all: &[TableLine], starts: &[usize]) -> usize {
    let row_is_bold = |row: usize| {
        let end = starts.get(row + 1).copied().unwrap_or(all.len());
        all[starts[row]..end].iter().all(TableLine::is_bold)
    };
    let count = (0..starts.len()).take_while(|&row| row_is_bold(row)).count();
    if count < starts.len() && count <= 3 { count } else { 0 }
}

/// Takes off a first row that is one text across the table, and returns it as the title.
pub(super) fn take_title(rows: &mut Vec<FoundRow>, header_rows: &mut usize) -> Option<String> {
    let [TableCell::Text(first), rest @ ..] = &rows.first()?.cells[..] else { return None };
    let alone =
        rows.len() > 2 && !rest.is_empty() && rest.iter().all(|cell| *cell == TableCell::Left) && !first.is_empty();
    if !alone {
        return None;
    }
    let title = first.clone();
    rows.remove(0);
    *header_rows = header_rows.saturating_sub(1).max(1).min(rows.len() - 1);
    Some(title)
}

/// Stretches the only text of the first line over all columns.
pub(super) fn stretch_first(rows: &mut [FoundRow], all: &[TableLine], area: Area) {
    let Some(line) = all.first().filter(|line| line.runs.len() == 1) else { return };
    let Some(row) = rows.first_mut() else { return };
    let centred = ((line.left() + line.right()) - (area.left + area.right)).abs() < 0.16 * area.width();
    let text = row.cells.iter().find_map(|cell| match cell {
        TableCell::Text(text) if !text.is_empty() => Some(text.clone()),
        _ => None,
    });
    if let Some(text) = text.filter(|_| centred) {
        row.cells.fill(TableCell::Left);
        row.cells[0] = TableCell::Text(text);
    }
}
