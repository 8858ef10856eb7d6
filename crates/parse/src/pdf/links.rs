//! Links of a page, and labels of pages.

use hayro_font::kurbo::{Affine, Rect};
use hayro_syntax::Pdf;
use hayro_syntax::object::{Array, Dict, Name, String as PdfString};
use hayro_syntax::page::Page;
use logothete_core::document::Area;

/// More links than this on a page are ignored.
const MAX_LINKS: usize = 5_000;
/// The depth to which a tree of page labels is followed.
const MAX_DEPTH: usize = 16;

/// Returns the areas of a page that point to an address outside the file.
pub(super) fn of_page(page: &Page<'_>) -> Vec<(Area, String)> {
    let Some(notes) = page.raw().get::<Array<'_>>("Annots") else { return Vec::new() };
    let shown = Affine::new(page.initial_transform(true).as_coeffs());
    notes.iter::<Dict<'_>>().take(MAX_LINKS).filter_map(|note| link(&note, shown)).collect()
}

fn link(note: &Dict<'_>, shown: Affine) -> Option<(Area, String)> {
    if &*note.get::<Name<'_>>("Subtype")? != b"Link" {
        return None;
    }
    let address = note.get::<Dict<'_>>("A")?.get::<PdfString<'_>>("URI")?;
    let sides: Vec<f64> = note.get::<Array<'_>>("Rect")?.iter::<f64>().take(4).collect();
    let [x0, y0, x1, y1] = sides[..] else { return None };
    let rect = shown.transform_rect_bbox(Rect::new(x0.min(x1), y0.min(y1), x0.max(x1), y0.max(y1)));
    let area = Area { left: rect.x0 as f32, top: rect.y0 as f32, right: rect.x1 as f32, bottom: rect.y1 as f32 };
    Some((area, super::text_string(address.as_bytes())))
}

/// A run of pages that are counted alike.
struct Labels {
    first: usize,
    style: Option<u8>,
    prefix: String,
    from: u32,
}

/// Returns the labels of all pages; empty if the file has none.
pub(super) fn page_labels(pdf: &Pdf, pages: usize) -> Vec<String> {
    let mut runs = Vec::new();
    let root: Option<Dict<'_>> = pdf.xref().get(pdf.xref().root_id());
    if let Some(tree) = root.and_then(|root| root.get::<Dict<'_>>("PageLabels")) {
        collect(&tree, &mut runs, 0);
    }
    runs.sort_by_key(|run| run.first);
    if runs.is_empty() {
        return Vec::new();
    }
    (0..pages)
        .map(|page| match runs[..runs.partition_point(|run| run.first <= page)].last() {
            Some(run) => run.label((page - run.first) as u32),
            None => (page + 1).to_string(),
        })
        .collect()
}

fn collect(node: &Dict<'_>, runs: &mut Vec<Labels>, depth: usize) {
    if depth > MAX_DEPTH || runs.len() > 10_000 {
        return;
    }
    for kid in node.get::<Array<'_>>("Kids").iter().flat_map(Array::iter::<Dict<'_>>) {
        collect(&kid, runs, depth + 1);
    }
    let Some(numbers) = node.get::<Array<'_>>("Nums") else { return };
    let mut entries = numbers.flex_iter();
    while let (Some(first), Some(label)) = (entries.next::<i32>(), entries.next::<Dict<'_>>()) {
        runs.push(Labels {
            first: usize::try_from(first).unwrap_or(0),
            style: label.get::<Name<'_>>("S").and_then(|name| name.first().copied()),
            prefix: label.get::<PdfString<'_>>("P").map(|text| super::text_string(text.as_bytes())).unwrap_or_default(),
            from: label.get::<i32>("St").and_then(|from| u32::try_from(from).ok()).unwrap_or(1),
        });
    }
}

impl Labels {
    fn label(&self, index: u32) -> String {
        let number = self.from.saturating_add(index);
        let counted = match self.style {
            Some(b'D') => number.to_string(),
            Some(b'r') => crate::roman(number).to_lowercase(),
            Some(b'R') => crate::roman(number),
            Some(style @ (b'a' | b'A')) => {
                let letter = char::from(style + (number.saturating_sub(1) % 26) as u8);
                letter.to_string().repeat(number.saturating_sub(1) as usize / 26 % 10 + 1)
            }
            _ => String::new(),
        };
        format!("{}{counted}", self.prefix)
    }
}
