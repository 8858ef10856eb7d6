//! Tables without rules: lines whose parts are aligned in columns.
//!
//! Prose in columns, code, indexes, tables of contents and lists with labels look alike from afar; each is told apart by
//! something it has and a table has not, and in doubt the lines stay text.

use logothete_core::document::{Area, TableCell};

use logothete_core::document::leads_to_page;

use super::super::lines::{Word, line, rows};
use super::PageTable;
use super::cells::{
    CELL_GAP, TableLine, bold_rows, columns, fill, gutters, header_rows, is_number, parted, row_starts, stretch_first,
    take_title,
};

/// A gap of this many times the font size parts two cells where no rule says that there is a table.
const GAP: f32 = 0.8;
/// Lines further apart than this many times the font size are not of one table.
const FAR: f32 = 3.2;
/// The fewest lines of a table with three columns or more, and with two.
const FEWEST: usize = 3;
const MIN_OF_TWO: usize = 4;

pub(super) fn take(words: &mut Vec<Word>) -> Vec<PageTable> {
    let mut all: Vec<TableLine> = rows(std::mem::take(words)).into_iter().map(|row| parted(row, GAP)).collect();
    let mut tables = Vec::new();
    let mut at = 0;
    while at < all.len() {
        if let Some((end, table)) = narrow(&all, at) {
            tables.push(table);
            all[at..end].iter_mut().for_each(|line| line.runs.clear());
            at = end;
            continue;
        }
        let end = run_from(&all, at);
        if end - at >= FEWEST
            && let Some(table) = read(&all[at..end], GAP)
        {
            tables.push(table);
            all[at..end].iter_mut().for_each(|line| line.runs.clear());
        }
        at = end.max(at + 1);
    }
    words.extend(all.into_iter().flat_map(|line| line.runs).flat_map(|run| run.words));
    tables
}

/// A table with narrow gaps must have columns with bold names, which show the gaps.
fn narrow(all: &[TableLine], from: usize) -> Option<(usize, PageTable)> {
    let again = |line: &TableLine| parted(line.runs.iter().flat_map(|run| run.words.clone()).collect(), CELL_GAP);
    if all[from].runs.is_empty() || !all[from].is_bold() {
        return None;
    }
    let head = again(&all[from]);
    if head.runs.len() < 3 {
        return None;
    }
    let mut lines = vec![head];
    let mut gaps = gutters(lines.iter(), CELL_GAP * lines[0].size);
    for line in &all[from + 1..] {
        let last = &lines[lines.len() - 1];
        if line.runs.is_empty()
            || line.baseline - last.baseline > FAR * line.size
            || (line.size - last.size).abs() > 0.12 * line.size
        {
            break;
        }
        lines.push(again(line));
        let next = gutters(lines.iter(), CELL_GAP * lines[0].size);
        if next.len() < gaps.len() {
            lines.pop();
            break;
        }
        gaps = next;
    }
    if lines.len() < FEWEST || lines[1..].iter().all(|line| line.runs.len() < 2) {
        return None;
    }
    Some((from + lines.len(), read(&lines, CELL_GAP)?))
}

/// Returns the end of a run of lines that may be a table: near one another, most with several parts.
fn run_from(all: &[TableLine], from: usize) -> usize {
    if all[from].runs.len() < 2 {
        return from + 1;
    }
    let mut end = from + 1;
    let mut widest = all[from].runs.len();
    while end < all.len() {
        let (last, line) = (&all[end - 1], &all[end]);
        let near = line.baseline - last.baseline <= FAR * line.size && (line.size - last.size).abs() < 0.12 * line.size;
        // A line with one part continues a cell if it is short and below one.
        let single = line.runs.len() == 1;
        let long = line.right() - line.left() > 0.55 * (all[from].right() - all[from].left()).max(1.0);
        if !near || single && (long || widest < 2) {
            break;
        }
        widest = widest.max(line.runs.len());
        end += 1;
    }
    while end > from && all[end - 1].runs.len() < 2 && end - from > 1 {
        let last = &all[end - 1];
        let before = &all[end - 2];
        // The last line of a wrapped cell stays with its row.
        if before.runs.iter().any(|run| (run.left - last.left()).abs() < 2.0)
            && last.baseline - before.baseline < 1.35 * last.size
        {
            break;
        }
        end -= 1;
    }
    end
}

fn read(all: &[TableLine], gap: f32) -> Option<PageTable> {
    let size = all.first()?.size;
    let gutters = columns(all, gap * size);
    let middles: Vec<f32> = gutters.iter().map(|(left, right)| (left + right) / 2.0).collect();
    if middles.is_empty() || is_code(all) || is_listing(all) {
        return None;
    }
    let crossing = all.iter().filter(|line| {
        line.runs.iter().any(|run| gutters.iter().any(|gutter| run.left < gutter.0 && run.right > gutter.1))
    });
    if crossing.count() * 4 > all.len() {
        return None;
    }
    let starts = row_starts(all, &middles);
    let mut rows = fill(all, &starts, &middles, &[]);
    let bold = bold_rows(all, &starts);
    let headed = bold > 0 && bold < rows.len();
    let many = middles.len() + 1;
    if rows.len() < if many == 2 { MIN_OF_TWO } else { FEWEST } || !is_tabular(&rows, many, headed) {
        return None;
    }
    let area =
        all.iter().flat_map(|line| &line.runs).flat_map(|run| &run.words).map(Word::area).reduce(Area::around)?;
    stretch_first(&mut rows, all, area);
    let mut header_rows = header_rows(&rows, 0, bold);
    let title = take_title(&mut rows, &mut header_rows);
    Some(PageTable { area, header_rows, title, rows, gutters: middles })
}

/// Set in type of one width throughout.
fn is_code(all: &[TableLine]) -> bool {
    let words = || all.iter().flat_map(|entry| &entry.runs).flat_map(|run| &run.words);
    let pitch = words().map(|word| word.pitch).fold(0.0, f32::max);
    let alike = words().filter(|word| (word.pitch - pitch).abs() < 0.012).count();
    let tells = all.iter().flat_map(|entry| &entry.runs).any(|run| line(&run.words).pitch > 0.0);
    // Figures have one width in most fonts, so some letters must decide.
    tells && alike * 10 > words().count() * 7
}

/// Returns `true` for an index, or a table of contents.
fn is_listing(all: &[TableLine]) -> bool {
    let last_words = |text: &str| {
        let bare = text.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, ',' | ' ' | '–' | '-'));
        bare.len() < text.len() && text[bare.len()..].starts_with(',')
    };
    let text = |entry: &TableLine| {
        let words: Vec<Word> = entry.runs.iter().flat_map(|run| run.words.clone()).collect();
        line(&words).text
    };
    let indexed = all.iter().filter(|entry| entry.runs.iter().any(|run| last_words(&line(&run.words).text))).count();
    let led = all.iter().filter(|entry| leads_to_page(&text(entry)) || text(entry).contains(". . .")).count();
    // Pages at the ends of lines never fall in a table of contents.
    let pages: Vec<u32> = all.iter().filter_map(|line| line.runs.last()?.words.last()?.text.parse().ok()).collect();
    let rising = pages.len() * 3 >= all.len() * 2
        && pages.windows(2).all(|pair| pair[0] <= pair[1])
        && all.iter().filter(|line| line.runs.len() == 2).count() * 2 > all.len();
    indexed * 3 > all.len() || led * 3 > all.len() || rising
}

/// Returns `true` if cells look like those of a table: short, mostly full, with figures or with names above them.
fn is_tabular(rows: &[super::FoundRow], many: usize, headed: bool) -> bool {
    let mut full = 0;
    let mut words = 0;
    let mut telling = 0;
    let mut all = 0;
    let mut longest: usize = 0;
    let mut figures = vec![0; many];
    let mut filled = vec![0; many];
    for row in rows {
        for (column, cell) in row.cells.iter().enumerate() {
            let TableCell::Text(text) = cell else {
                full += 1;
                continue;
            };
            if text.is_empty() {
                continue;
            }
            full += 1;
            filled[column] += 1;
            let count = text.split_whitespace().count();
            words += count;
            longest = longest.max(count);
            figures[column] += usize::from(is_number(text));
            telling += text.chars().filter(|c| c.is_alphanumeric()).count();
            all += text.chars().filter(|c| !c.is_whitespace()).count();
        }
    }
    let cells = rows.len() * many;
    let mean = words as f32 / full.max(1) as f32;
    // A column of figures below a name that is none.
    let numeric = (1..many).filter(|&column| figures[column] * 4 >= (rows.len() - 1) * 3).count();
    let named = filled.iter().all(|&count| count * 2 >= rows.len());
    let first_is_label = figures[0] * 2 < rows.len();
    let dense = full as f32 / cells as f32;
    if telling * 2 < all || dense < 0.7 || mean > 6.0 || longest > if headed { 30 } else { 16 } {
        return false;
    }
    match many {
        2 => named && dense > 0.9 && mean <= 4.0 && (headed || numeric == 1 && first_is_label),
        _ => named && (headed || numeric >= 1) && mean <= 5.0 || headed && dense > 0.8,
    }
}
