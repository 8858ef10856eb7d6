//! Reading order: columns are read one after the other, the rest from the top down.
//!
//! Words on one baseline make a row, and a wide gap parts a row into segments. From a row with a gap, the gutter is followed up and
//! down until a segment crosses it. If enough lines of prose stand on both sides, the band has two columns, and each is taken apart in
//! the same way. Short cells on both sides of a gap are a table, a list with labels or a table of contents.

use logothete_core::document::Area;

use super::lines::{self, Line, Word, line, rows, with_room};

/// A gap of at least this many times the font size may be a gutter.
const GUTTER: f32 = 0.75;
/// The lowest number of lines in a column.
const MIN_LINES: usize = 4;
/// The lowest average number of words in lines of prose.
const MIN_WORDS: f32 = 3.0;
/// Lines of prose fill at least this share of their column on average.
const MIN_FILL: f32 = 0.55;
/// The highest nesting of columns within columns.
const MAX_DEPTH: usize = 4;

/// A part of a row between two wide gaps.
struct Segment {
    words: Vec<Word>,
    left: f32,
    right: f32,
}

/// A row of segments, from left to right.
type Row = Vec<Segment>;

/// An interval that no segment of a band enters.
#[derive(Clone, Copy)]
struct Gutter {
    left: f32,
    right: f32,
}

/// Returns all lines of a page in reading order. `targets` are the areas that point somewhere.
pub(super) fn in_order(words: Vec<Word>, targets: &[(Area, String)]) -> Vec<Line> {
    let mut lines = Vec::new();
    order(words, 0, targets, &mut lines);
    lines
}

fn order(words: Vec<Word>, depth: usize, targets: &[(Area, String)], lines: &mut Vec<Line>) {
    let mut rows: Vec<Option<Row>> = rows(words).into_iter().map(|row| Some(segments(row))).collect();
    let mut done = 0;
    while done < rows.len() {
        let band = if depth < MAX_DEPTH { band_from(&rows, done) } else { None };
        let Some((first, end, gutter)) = band else {
            for row in rows.drain(..).skip(done) {
                whole(row, targets, lines);
            }
            return;
        };
        for row in &mut rows[done..first] {
            whole(row.take(), targets, lines);
        }
        let (mut left, mut right) = (Vec::new(), Vec::new());
        for segment in rows[first..end].iter_mut().filter_map(Option::take).flatten() {
            let side = if segment.right <= gutter.right { &mut left } else { &mut right };
            side.extend(segment.words);
        }
        order(left, depth + 1, targets, lines);
        order(right, depth + 1, targets, lines);
        done = end;
    }
}

/// Makes a row one line again. An object of the page is a line of its own.
fn whole(row: Option<Row>, targets: &[(Area, String)], lines: &mut Vec<Line>) {
    let Some(row) = row else { return };
    let aside = match &row[..] {
        [head, rest] if rest.left - head.right > 2.0 * rest.words[0].size => {
            let (head, rest) = (line(&head.words), line(&rest.words));
            let other = (head.pitch > 0.0, head.bold, head.slanted) != (rest.pitch > 0.0, rest.bold, rest.slanted);
            (other && head.object.is_none()).then_some(head.text.len() + 1)
        }
        _ => None,
    };
    let paged = row.len() > 1
        && row.last().is_some_and(|last| {
            let text = &last.words[0].text;
            last.words.len() == 1 && (text.parse::<u16>().is_ok() || text.chars().all(|c| "ivxlc".contains(c)))
        });
    let words: Vec<Word> = row.into_iter().flat_map(|segment| segment.words).collect();
    for part in words.chunk_by(|a, b| a.object.is_none() && b.object.is_none()) {
        let mut made = line(part);
        made.object = part[0].object;
        if part.len() == words.len() {
            made.aside = aside;
            made.paged = paged;
        }
        if !targets.is_empty() {
            lines::link(&mut made, part, targets);
        }
        lines.push(made);
    }
}

/// Parts a row at its wide gaps.
fn segments(words: Vec<Word>) -> Row {
    let mut row: Row = Vec::new();
    for word in words {
        match row.last_mut() {
            Some(last) if word.left - last.right < GUTTER * word.size => {
                last.right = last.right.max(word.right);
                last.words.push(word);
            }
            _ => row.push(Segment { left: word.left, right: word.right, words: with_room(word) }),
        }
    }
    row
}

/// Returns the first band of columns at or below a row: its rows and its gutter.
fn band_from(rows: &[Option<Row>], from: usize) -> Option<(usize, usize, Gutter)> {
    let mut at = from;
    while at < rows.len() {
        for gutter in seeds(rows, at) {
            if let Some((first, end, gutter)) = follow(rows, from, at, gutter)
                && is_prose(&rows[first..end], gutter)
            {
                return Some((first, end, gutter));
            }
        }
        at += 1;
    }
    None
}

/// Returns the gaps of a row, and the gap to the next row if both are side by side on different baselines.
fn seeds(rows: &[Option<Row>], at: usize) -> Vec<Gutter> {
    let row = |index: usize| rows.get(index).and_then(Option::as_ref);
    let Some(this) = row(at) else { return Vec::new() };
    let mut gaps: Vec<Gutter> =
        this.windows(2).map(|pair| Gutter { left: pair[0].right, right: pair[1].left }).collect();
    if let (Some(one), Some(other)) = (this.first(), row(at + 1).and_then(|next| next.first())) {
        let (left, right) = if one.left <= other.left { (one, other) } else { (other, one) };
        let near = (one.words[0].baseline - other.words[0].baseline).abs() < one.words[0].size;
        if near && right.left - left.right >= GUTTER * one.words[0].size {
            gaps.push(Gutter { left: left.right, right: right.left });
        }
    }
    gaps
}

/// Follows a gutter up to `from` and down, as long as it stays open.
fn follow(rows: &[Option<Row>], from: usize, at: usize, mut gutter: Gutter) -> Option<(usize, usize, Gutter)> {
    let mut end = at;
    while end < rows.len() && narrow(&mut gutter, rows[end].as_ref()?) {
        end += 1;
    }
    let mut first = at;
    while first > from && narrow(&mut gutter, rows[first - 1].as_ref()?) {
        first -= 1;
    }
    // A heading or a last line on one side belongs to the page unless its column continues.
    (end > first).then_some((first, end, gutter))
}

/// Narrows a gutter to what a row leaves of it. Returns `false` if the row crosses it or leaves too little.
fn narrow(gutter: &mut Gutter, row: &Row) -> bool {
    let mut left = gutter.left;
    let mut right = gutter.right;
    for segment in row {
        if segment.right <= left || segment.left >= right {
            continue;
        }
        let middle = (left + right) / 2.0;
        if segment.right < middle {
            left = segment.right;
        } else if segment.left > middle {
            right = segment.left;
        } else {
            return false;
        }
    }
    let size = row.first().map_or(10.0, |segment| segment.words[0].size);
    let open = right - left >= GUTTER * size * 0.8;
    if open {
        (gutter.left, gutter.right) = (left, right);
    }
    open
}

/// Returns `true` if there is prose on both sides of a gutter. The text of a row on one side counts as one line.
fn is_prose(rows: &[Option<Row>], gutter: Gutter) -> bool {
    let side = |is_left: bool| {
        let (mut lines, mut words, mut filled) = (0usize, 0usize, 0.0);
        let (mut from, mut to) = (f32::INFINITY, f32::NEG_INFINITY);
        for row in rows.iter().flatten() {
            let mut any = false;
            for segment in row.iter().filter(|segment| (segment.right <= gutter.right) == is_left) {
                any = true;
                // An object in a column counts as a line of it.
                words += segment.words.len() + if segment.words[0].object.is_some() { 5 } else { 0 };
                filled += segment.right - segment.left;
                (from, to) = (from.min(segment.left), to.max(segment.right));
            }
            lines += usize::from(any);
        }
        let many = lines.max(1) as f32;
        lines >= MIN_LINES && words as f32 / many >= MIN_WORDS && filled / many / (to - from).max(1.0) >= MIN_FILL
    };
    side(true) && side(false)
}
