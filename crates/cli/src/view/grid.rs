//! Tables with rules, as a parser saw them: every word of every cell.

use unicode_width::UnicodeWidthStr;

use super::{Style, width, wrap};

/// No column is narrower than this when others need room.
const NARROWEST: usize = 6;

/// Draws rows of cells in ruled columns after an indent. A rule follows the first `header_rows`.
pub fn grid(rows: &[Vec<String>], header_rows: usize, indent: usize, style: Style) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let mut widths = vec![1; columns];
    for row in rows {
        widths.iter_mut().zip(row).for_each(|(width, cell)| *width = cell.width().max(*width));
    }
    narrow(&mut widths, width().saturating_sub(indent + 3 * columns.saturating_sub(1)));
    let mut out = String::new();
    for (index, row) in rows.iter().enumerate() {
        // A row that is shorter than the others is not filled up.
        let cells: Vec<Vec<String>> = row.iter().zip(&widths).map(|(cell, &width)| broken(cell, width)).collect();
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

/// Makes the widest columns narrower until all fit into the room, or are as narrow as can be.
fn narrow(widths: &mut [usize], room: usize) {
    let total = |most: usize| widths.iter().map(|width| *width.min(&most)).sum::<usize>();
    let widest = widths.iter().copied().max().unwrap_or(0);
    if widest <= NARROWEST || total(widest) <= room {
        return;
    }
    let (mut most, mut over) = (NARROWEST, widest);
    while over - most > 1 {
        let middle = most + (over - most) / 2;
        *(if total(middle) <= room { &mut most } else { &mut over }) = middle;
    }
    // What is left goes to the first columns that gave way.
    let mut left = room.saturating_sub(total(most));
    for width in widths.iter_mut().filter(|width| **width > most) {
        let more = left.min(1);
        *width = most + more;
        left -= more;
    }
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
