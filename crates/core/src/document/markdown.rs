//! Writes a document as Markdown.

use std::fmt::Write;

use super::{Block, BlockKind, Document, Table};

/// A table with fewer places than this is always filled up.
const MAX_BLANKS: usize = 100_000;

impl Document {
    /// Returns the document as Markdown (CommonMark with tables), which models and people read well.
    ///
    /// Every place under a spanning cell repeats the cell. Furniture is left out. Costs one pass over the text.
    pub fn to_markdown(&self) -> String {
        let mut out = String::new();
        let mut last = None;
        for block in self.blocks.iter().filter(|block| block.kind != BlockKind::Furniture) {
            let is_item = |kind| matches!(kind, BlockKind::ListItem | BlockKind::Contents);
            let list = last.is_some_and(is_item) && is_item(block.kind);
            if !out.is_empty() {
                out.push_str(if list { "\n" } else { "\n\n" });
            }
            self.write_block(block, &mut out);
            last = Some(block.kind);
        }
        if !out.is_empty() {
            out.push('\n');
        }
        out
    }

    fn write_block(&self, block: &Block, out: &mut String) {
        let text = self.slice(block.span);
        if let Some(table) = &block.table {
            return self.write_table(table, out);
        }
        match block.kind {
            BlockKind::Heading => {
                let level = usize::from(block.level.clamp(1, 6));
                let _ = write!(out, "{} {}", "#".repeat(level), one_line(text));
            }
            BlockKind::ListItem | BlockKind::Contents => {
                let marked = crate::text::list_marker(text).is_some();
                let _ = write!(out, "{}{}", if marked { "" } else { "- " }, text.replace('\n', "\n  "));
            }
            BlockKind::Code => {
                let fence = if text.contains("```") { "~~~~" } else { "```" };
                let _ = write!(out, "{fence}\n{text}\n{fence}");
            }
            BlockKind::Quotation => {
                let _ = write!(out, "> {}", text.replace('\n', "\n> "));
            }
            BlockKind::Caption => {
                let _ = write!(out, "*{}*", one_line(text).replace('*', "\\*"));
            }
            BlockKind::Figure => {
                let _ = write!(out, "![{}]()", one_line(text).replace(['[', ']'], ""));
            }
            _ => out.push_str(text),
        }
    }

    fn write_table(&self, table: &Table, out: &mut String) {
        let columns = table.rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
        let mut row_of = |cells: Vec<String>, first: bool| {
            if !first {
                out.push('\n');
            }
            let _ = write!(out, "| {} |", cells.join(" | "));
        };
        let escaped = |text: &str| one_line(text).replace('|', "\\|");
        let header = (0..columns).map(|column| escaped(&table.column_name(&self.text, column))).collect();
        row_of(header, true);
        row_of(vec!["---".to_owned(); columns], false);
        // Short rows are filled up, unless there would be more blanks than cells: whoever reads the table fills them up too.
        let cells: usize = table.rows.iter().map(|row| row.cells.len()).sum();
        let fills = columns.saturating_mul(table.rows.len()) <= MAX_BLANKS.max(2 * cells);
        for row in &table.rows[table.header_rows.min(table.rows.len())..] {
            let blanks = if fills { columns.saturating_sub(row.cells.len()) } else { 0 };
            let cells = row.cells.iter().map(|cell| escaped(self.slice(*cell)));
            row_of(cells.chain(std::iter::repeat_n(String::new(), blanks)).collect(), false);
        }
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
