//! A page taken apart: what the later steps work on.

use super::lines::Line;
use super::tables::PageTable;

/// A page taken apart.
pub(super) struct PageLines {
    pub number: u32,
    pub height: f32,
    pub lines: Vec<Line>,
    pub tables: Vec<PageTable>,
    pub furniture: Vec<Line>,
}
