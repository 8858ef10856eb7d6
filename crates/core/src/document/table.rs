//! Tables as rows and cells, each a span of the document's text.

use serde::{Deserialize, Serialize};

use super::Span;

/// A table. In the document's text each row is a line, its cells parted by ` | `.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Table {
    /// How many rows at the top name the columns.
    pub header_rows: usize,
    /// The rows from top to bottom, header rows included.
    pub rows: Vec<Row>,
}

/// One row of a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Row {
    /// The whole row in the text.
    pub span: Span,
    /// Its cells from left to right; an empty cell has an empty span.
    pub cells: Vec<Span>,
}

impl Default for Span {
    fn default() -> Self {
        Self::new(0, 0)
    }
}

impl Table {
    /// A row so that it can be read alone: the first cell, then each other cell behind the name of its column.
    ///
    /// `Berth 7 · Quay: Gasworks Quay · Length: 135`. Header rows give nothing.
    pub fn row_alone(&self, text: &str, row: usize) -> Option<String> {
        if row < self.header_rows {
            return None;
        }
        let slice = |span: &Span| text.get(span.range()).unwrap_or_default().trim();
        let header = self.header_rows.checked_sub(1).and_then(|last| self.rows.get(last));
        let mut parts = Vec::new();
        for (column, cell) in self.rows.get(row)?.cells.iter().enumerate() {
            let value = slice(cell);
            if value.is_empty() {
                continue;
            }
            let name = header.and_then(|header| header.cells.get(column)).map_or("", slice);
            if column == 0 || name.is_empty() {
                parts.push(value.to_owned());
            } else {
                parts.push(format!("{name}: {value}"));
            }
        }
        (!parts.is_empty()).then(|| parts.join(" · "))
    }

    /// The header rows as one line of text, empty when there are none.
    pub fn header_line<'a>(&self, text: &'a str) -> &'a str {
        match (self.rows.first(), self.header_rows.checked_sub(1).and_then(|last| self.rows.get(last))) {
            (Some(first), Some(last)) => text.get(first.span.start..last.span.end).unwrap_or_default(),
            _ => "",
        }
    }
}
