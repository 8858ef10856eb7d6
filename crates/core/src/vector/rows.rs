//! The rows of a segment as they lie in memory.

use std::ops::Range;

use super::codes::{GRID, RowGrid, stride};
use super::distance::Distance;
use super::kernel::prefetch;

/// Where the parts of a segment are. Not generic over who holds the bytes, so that what walks them is compiled once.
#[derive(Clone, Copy)]
pub struct Rows<'a> {
    pub distance: Distance,
    pub dimensions: usize,
    /// The bytes of each row's codes.
    pub stride: usize,
    pub rows: u32,
    codes: &'a [u8],
    grids: &'a [[u8; GRID]],
    numbers: &'a [u8],
}

impl<'a> Rows<'a> {
    /// The parts of a segment; `None` when they do not have the lengths of so many rows.
    pub fn new(
        distance: Distance,
        dimensions: usize,
        rows: u32,
        [codes, grids, numbers]: [&'a [u8]; 3],
    ) -> Option<Self> {
        let stride = stride(dimensions);
        let (grids, rest) = grids.as_chunks();
        let count = rows as usize;
        let fits = codes.len() == count * stride && grids.len() == count && numbers.len() == count * dimensions * 4;
        (fits && rest.is_empty()).then_some(Self { distance, dimensions, stride, rows, codes, grids, numbers })
    }

    /// The codes of some rows; nothing past the end.
    pub fn codes(&self, rows: Range<u32>) -> &'a [u8] {
        self.codes.get(rows.start as usize * self.stride..rows.end as usize * self.stride).unwrap_or_default()
    }

    /// The codes of all rows.
    pub fn all_codes(&self) -> &'a [u8] {
        self.codes
    }

    /// What is known of some rows besides their codes, still in bytes.
    pub fn grids(&self, rows: Range<u32>) -> &'a [[u8; GRID]] {
        self.grids.get(rows.start as usize..rows.end as usize).unwrap_or_default()
    }

    /// Asks for what is known of some rows, so that it is near when it is read.
    pub fn prefetch_grids(&self, rows: &[u32]) {
        rows.iter().filter_map(|&row| self.grids.get(row as usize)).for_each(|grid| prefetch(grid));
    }

    /// What is known of a row besides its codes.
    pub fn grid(&self, row: u32) -> RowGrid {
        self.grids.get(row as usize).map_or(RowGrid::NOTHING, RowGrid::read)
    }

    /// A row in full, still in bytes; nothing past the end.
    pub fn numbers(&self, row: u32) -> &'a [u8] {
        let width = self.dimensions * 4;
        self.numbers.get(row as usize * width..(row as usize + 1) * width).unwrap_or_default()
    }

    /// How near a query, as it is kept, is to a row.
    pub fn score(&self, query: &[f32], row: u32) -> f32 {
        self.distance.score(query, self.numbers(row))
    }
}
