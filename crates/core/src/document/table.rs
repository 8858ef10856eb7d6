//! Tables as rows and cells, each a span of the document's text.

use serde::{Deserialize, Serialize};

use super::Span;

/// A table. In the document's text, each row is a line with ` | ` between its cells.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Table {
    /// The number of header rows at the top.
    pub header_rows: usize,
    /// The rows from top to bottom, header rows included.
    pub rows: Vec<Row>,
}

/// One row of a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Row {
    /// The whole row in the text.
    pub span: Span,
    /// Its cells from left to right; an empty cell has an empty span. A cell that spans rows or columns is written once,
    /// and every place that it covers has its span.
    pub cells: Vec<Span>,
}

impl Table {
    /// Returns a row as text that can be read alone: the first cell, then each other cell after the name of its column.
    ///
    /// For example `Berth 7 · Quay: Gasworks Quay · Length: 135`. Returns `None` for header rows. If a column has several
    /// header rows, their names are joined, the outermost first.
    pub fn row_alone(&self, text: &str, row: usize) -> Option<String> {
        if row < self.header_rows {
            return None;
        }
        let mut parts = Vec::new();
        let mut last = None;
        for (column, cell) in self.rows.get(row)?.cells.iter().enumerate() {
            let value = text.get(cell.range()).unwrap_or_default().trim();
            // A cell over several columns appears once.
            if value.is_empty() || last == Some(*cell) {
                continue;
            }
            last = Some(*cell);
            let name = self.column_name(text, column);
            if column == 0 || name.is_empty() {
                parts.push(value.to_owned());
            } else {
                parts.push(format!("{name}: {value}"));
            }
        }
        (!parts.is_empty()).then(|| parts.join(" · "))
    }

    /// Returns the name of a column from the header rows; empty if it has none.
    pub fn column_name(&self, text: &str, column: usize) -> String {
        let mut spans: Vec<Span> = self.rows[..self.header_rows.min(self.rows.len())]
            .iter()
            .filter_map(|row| row.cells.get(column).copied())
            .collect();
        spans.dedup();
        let names = spans.iter().map(|span| text.get(span.range()).unwrap_or_default().trim());
        names.filter(|name| !name.is_empty()).collect::<Vec<_>>().join(" ")
    }

    /// Returns the header rows as one line of text; empty if there are none.
    pub fn header_line<'a>(&self, text: &'a str) -> &'a str {
        match (self.rows.first(), self.header_rows.checked_sub(1).and_then(|last| self.rows.get(last))) {
            (Some(first), Some(last)) => text.get(first.span.start..last.span.end).unwrap_or_default(),
            _ => "",
        }
    }
}
