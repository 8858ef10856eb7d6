//! `logothete parse`

use std::path::PathBuf;

use logothete::Result;
use logothete::document::{Block, BlockKind, Document};
use serde_json::{Value, json};

use super::{failures, parsed};
use crate::view::{Align, Style, indented, table, width, wrap};
use crate::{DONE, FAILED, Outcome};

/// How wide the column of kinds is.
const KIND: usize = 12;

pub fn run(files: &[PathBuf]) -> Result<Outcome> {
    let (documents, failed) = parsed(files)?;
    let style = Style::of_stdout();
    let views: Vec<String> = documents.iter().map(|document| render(document, style)).collect();
    let text = views.join("\n") + &failures(&failed, style);
    let json = json!({ "documents": documents.iter().map(as_json).collect::<Vec<_>>(), "failed": failed });
    Ok(Outcome { text, json, code: if documents.is_empty() { FAILED } else { DONE } })
}

fn render(document: &Document, style: Style) -> String {
    let mut out = format!("{}\n", style.strong(&document.name));
    let mut fact =
        |name: &str, value: &str| out.push_str(&format!("{} {value}\n", style.faint(&format!("{name:<KIND$}"))));
    if let Some(title) = &document.title {
        fact("title", title);
    }
    fact("type", &document.media_type);
    if document.page_count() > 0 {
        fact("pages", &document.page_count().to_string());
    }
    for (key, value) in document.metadata.iter().filter(|(key, _)| *key != "title") {
        fact(key, &value.to_string());
    }
    for warning in &document.warnings {
        out.push_str(&format!("{}\n", style.warning(&format!("warning: {warning}"))));
    }
    let mut page = None;
    for block in &document.blocks {
        let pages = document.block_pages(block);
        let first = pages.map(|pages| pages.first);
        if first.is_some() && first != page {
            page = first;
            out.push_str(&format!("\n{}\n", style.place(&format!("— page {} —", first.unwrap_or_default()))));
        } else if first.is_none() && page.is_none() {
            page = Some(0);
            out.push('\n');
        }
        out.push_str(&render_block(document, block, style));
    }
    out
}

fn render_block(document: &Document, block: &Block, style: Style) -> String {
    let kind = match block.kind {
        BlockKind::Heading => format!("heading {}", block.level),
        kind => kind.name().replace('_', " "),
    };
    let label = style.faint(&format!("{kind:<KIND$}"));
    if let Some(of) = &block.table {
        let rows: Vec<Vec<String>> =
            of.rows.iter().map(|row| row.cells.iter().map(|cell| document.slice(*cell).to_owned()).collect()).collect();
        let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
        let drawn = table(&rows, &vec![Align::Left; columns], KIND + 1, style);
        return format!("{label} {}", drawn.trim_start());
    }
    let text = document.block_text(block);
    let lines: Vec<String> = match block.kind {
        BlockKind::Code => text.lines().map(str::to_owned).collect(),
        _ => wrap(text, width().saturating_sub(KIND + 1)),
    };
    let mut out = String::new();
    for (index, line) in lines.iter().enumerate() {
        let line = match block.kind {
            BlockKind::Heading => style.strong(line),
            BlockKind::Furniture => style.faint(line),
            _ => line.clone(),
        };
        if index == 0 {
            out.push_str(&format!("{label} {line}\n"));
        } else {
            out.push_str(&format!("{:KIND$} {line}\n", ""));
        }
    }
    if lines.is_empty() { indented(&label, 0) } else { out }
}

fn as_json(document: &Document) -> Value {
    let blocks: Vec<Value> = document
        .blocks
        .iter()
        .map(|block| {
            let mut value = json!({
                "kind": block.kind,
                "text": document.block_text(block),
                "span": block.span,
                "pages": document.block_pages(block),
            });
            if block.level > 0 {
                value["level"] = json!(block.level);
            }
            if let Some(table) = &block.table {
                let cells = |row: &logothete::document::Row| {
                    row.cells.iter().map(|cell| document.slice(*cell)).collect::<Vec<_>>()
                };
                value["rows"] = json!(table.rows.iter().map(cells).collect::<Vec<_>>());
                value["header_rows"] = json!(table.header_rows);
            }
            value
        })
        .collect();
    json!({
        "document": document.name,
        "title": document.title,
        "media_type": document.media_type,
        "pages": document.page_count(),
        "metadata": document.metadata,
        "blocks": blocks,
        "warnings": document.warnings,
    })
}
