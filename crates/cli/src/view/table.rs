//! Tables of text.

use unicode_width::UnicodeWidthStr;

use super::{Style, shortened, width};

/// Which side of its column a cell keeps to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Align {
    Left,
    Right,
}

/// Lays rows out in columns, the first row as the names of the columns. When they do not fit, the widest columns give way.
pub fn table(rows: &[Vec<String>], align: &[Align], indent: usize, style: Style) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let natural =
        |column: usize| rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.width()).max().unwrap_or(0);
    let mut widths: Vec<usize> = (0..columns).map(natural).collect();
    let room = width().saturating_sub(indent + 2 * columns.saturating_sub(1));
    while widths.iter().sum::<usize>() > room {
        match widths.iter_mut().max() {
            Some(widest) if *widest > 8 => *widest -= 1,
            _ => break,
        }
    }
    let mut out = String::new();
    for (index, row) in rows.iter().enumerate() {
        let cells: Vec<String> = widths
            .iter()
            .enumerate()
            .map(|(column, &width)| {
                let cell = shortened(row.get(column).map_or("", String::as_str), width);
                let gap = " ".repeat(width - cell.width().min(width));
                let cell = if index == 0 { style.faint(&cell) } else { cell };
                if align.get(column) == Some(&Align::Right) { gap + &cell } else { cell + &gap }
            })
            .collect();
        out.push_str(format!("{:indent$}{}", "", cells.join("  ")).trim_end());
        out.push('\n');
    }
    out
}
