//! The outline of a PDF: the headings that its author put into the navigation pane.

use hayro_syntax::Pdf;
use hayro_syntax::object::{Dict, String as PdfString};

/// Bounds on the depth and the length of an outline, since an outline may contain itself.
const MAX_DEPTH: u8 = 12;
const LONGEST: usize = 50_000;

/// An entry of the outline.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutlineEntry {
    /// The depth, counted from 1.
    pub level: u8,
    /// The title.
    pub title: String,
}

/// Reads the outline, in order. The result is empty if there is none.
pub(super) fn read(pdf: &Pdf) -> Vec<OutlineEntry> {
    let mut entries = Vec::new();
    let root: Option<Dict<'_>> = pdf.xref().get(pdf.xref().root_id());
    if let Some(first) =
        root.and_then(|root| root.get::<Dict<'_>>("Outlines")).and_then(|outlines| outlines.get::<Dict<'_>>("First"))
    {
        level(first, 1, &mut entries);
    }
    entries
}

fn level(first: Dict<'_>, depth: u8, entries: &mut Vec<OutlineEntry>) {
    let mut next = Some(first);
    while let Some(item) = next.filter(|_| entries.len() < LONGEST) {
        if let Some(title) = item.get::<PdfString<'_>>("Title") {
            entries.push(OutlineEntry { level: depth, title: super::text_string(title.as_bytes()) });
        }
        if depth < MAX_DEPTH
            && let Some(child) = item.get::<Dict<'_>>("First")
        {
            level(child, depth + 1, entries);
        }
        next = item.get::<Dict<'_>>("Next");
    }
}
