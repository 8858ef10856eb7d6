//! Running headers, footers and page numbers: lines that many pages repeat at the same height.

use std::collections::HashMap;

use super::lines::Line;
use super::sheet::PageLines;
use super::tags::Role;

/// The number of lines at the head and at the foot of a page that may be furniture.
const EDGE_LINES: usize = 2;
/// Lines within this share of the page's height from its edge are looked at.
const EDGE: f32 = 0.14;

/// Moves furniture out of the lines of each page.
///
/// A line is furniture if the same words, figures aside, stand at the same height on at least half of the pages, or on at least
/// three successive ones of a longer document. A single page has none.
pub(super) fn mark(pages: &mut [PageLines]) {
    let mut counts: HashMap<(String, i32), usize> = HashMap::new();
    for page in pages.iter() {
        for index in edges(page) {
            *counts.entry(key(&page.lines[index])).or_default() += 1;
        }
    }
    let needed = (pages.len().div_ceil(2)).clamp(2, 3);
    for page in pages.iter_mut() {
        let repeated: Vec<usize> =
            edges(page).into_iter().filter(|&index| counts[&key(&page.lines[index])] >= needed).collect();
        let told =
            page.lines.iter().enumerate().filter(|(_, line)| line.role == Role::Artifact && line.object.is_none());
        let mut repeated: Vec<usize> = told.map(|(index, _)| index).chain(repeated).collect();
        repeated.sort_unstable();
        repeated.dedup();
        for index in repeated.into_iter().rev() {
            let line = page.lines.remove(index);
            page.furniture.insert(0, line);
        }
        page.furniture.sort_by(|a, b| a.baseline.total_cmp(&b.baseline));
    }
}

/// Returns the lines near the edges of a page, in ascending order.
fn edges(page: &PageLines) -> Vec<usize> {
    let count = page.lines.len();
    let is_text = |index: &usize| page.lines[*index].object.is_none();
    let near = |index: &usize| {
        let height = page.lines[*index].baseline / page.height.max(1.0);
        !(EDGE..=1.0 - EDGE).contains(&height)
    };
    (0..count).filter(|index| *index < EDGE_LINES || index + EDGE_LINES >= count).filter(is_text).filter(near).collect()
}

/// Returns the text of a line without figures, and its height in steps of six points.
fn key(line: &Line) -> (String, i32) {
    let words = line.text.chars().filter(|c| !c.is_ascii_digit()).collect();
    (words, (line.baseline / 6.0).round() as i32)
}
