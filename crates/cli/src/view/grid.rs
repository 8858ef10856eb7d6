//! Tables with rules, as a parser saw them: every word of every cell.

use unicode_width::UnicodeWidthStr;

use super::{Style, width, wrap};

/// No column is narrower than this when others need room.
const NARROWEST: usize = 6;

/// Draws rows of cells in ruled columns after an indent. A rule follows the first `header_rows`.
pub fn grid(rows: &[Vec<String>], header_rows: usize, indent: usize, style: Style) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let natural =
        |column: usize| rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.width()).max().unwrap_or(0);
    let mut widths: Vec<usize> = (0..columns).map(|column| natural(column).max(1)).collect();
    let room = width().saturating_sub(indent + 3 * columns.saturating_sub(1));
    while widths.iter().sum::<usize>() > room {
        match widths.iter_mut().max() {
            Some(widest) if *widest > NARROWEST => *widest -= 1,
            _ => break,
        }
    }
    let mut out = String::new();
    for (index, row) in rows.iter().enumerate() {
        let cells: Vec<Vec<String>> = widths
            .iter()
            .enumerate()
            .map(|(column, &width)| broken(row.get(column).map_or("", String::as_str), width))
            .collect();
        let height = cells.iter().map(Vec::len).max().unwrap_or(0).max(1);
        for line in 0..height {
            let parts: Vec<String> = cells
                .iter()
                .zip(&widths)
                .map(|(cell, &width)| {
                    let text = cell.get(line).map_or("", String::as_str);
                    let gap = " ".repeat(width.saturating_sub(text.width()));
                    if index < header_rows { style.strong(text) + &gap } else { text.to_owned() + &gap }
                })
                .collect();
            out.push_str(format!("{:indent$}{}", "", parts.join(&style.faint(" │ "))).trim_end());
            out.push('\n');
        }
        if index + 1 == header_rows {
            let rules: Vec<String> = widths.iter().map(|&width| "─".repeat(width)).collect();
            out.push_str(&format!("{:indent$}{}\n", "", style.faint(&rules.join("─┼─"))));
        }
    }
    out
}

/// Breaks text into lines of at most `width` columns, between words where it can.
pub fn broken(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for line in wrap(text, width) {
        let mut rest = String::new();
        for c in line.chars() {
            if rest.width() + unicode_width::UnicodeWidthChar::width(c).unwrap_or(0) > width && !rest.is_empty() {
                lines.push(std::mem::take(&mut rest));
            }
            rest.push(c);
        }
        lines.push(rest);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_line_up_and_nothing_is_lost() {
        let rows = [["Berth", "Use"], ["7", "Coal, timber and whatever else is heavy"]]
            .map(|row| row.map(str::to_owned).to_vec());
        let drawn = grid(&rows, 1, 2, Style::of_stdout());
        assert_eq!(
            drawn,
            "  Berth │ Use\n  ──────┼────────────────────────────────────────\n  7     │ Coal, timber and whatever else is heavy\n"
        );
    }
}
