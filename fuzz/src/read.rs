//! What every target does: reads the input as its format, with a small budget, and checks what comes back.

use logothete_core::document::{Budget, Input, Parser};

pub fn read(parser: &dyn Parser, name: &str, bytes: &[u8]) {
    if bytes.is_empty() {
        return;
    }
    let mut budget = Budget::default();
    budget.max_pages = 20;
    budget.max_unpacked = 4_000_000;
    if let Ok(document) = parser.parse(&Input { name, bytes, budget: &budget }) {
        // Spans must lie on characters inside the text, in order.
        let mut end = 0;
        for block in &document.blocks {
            assert!(document.text.get(block.span.range()).is_some() && block.span.start >= end);
            end = block.span.end;
        }
        for line in &document.boxes {
            assert!(document.text.get(line.span.range()).is_some());
        }
        let _ = document.to_markdown();
    }
}
