//! The layout of the rows of a segment in memory.

use std::ops::Range;

use super::codes::{GRID, RowGrid, stride};
use super::distance::Distance;
use super::kernel::prefetch;

/// The parts of a segment. The type is not generic over the owner of the bytes, so that code over it is compiled once.
#[derive(Clone, Copy)]
pub struct Rows<'a> {
    pub distance: Distance,
    pub dimensions: usize,
    /// The number of bytes of each row's codes.
    pub stride: usize,
    pub rows: u32,
    codes: &'a [u8],
    grids: &'a [[u8; GRID]],
    numbers: &'a [u8],
}

impl<'a> Rows<'a> {
    /// Returns the parts of a segment; `None` if their lengths do not fit the number of rows.
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

    /// Returns the codes of some rows; none past the end.
    pub fn codes(&self, rows: Range<u32>) -> &'a [u8] {
        self.codes.get(rows.start as usize * self.stride..rows.end as usize * self.stride).unwrap_or_default()
    }

    /// Returns the codes of all rows.
    pub fn all_codes(&self) -> &'a [u8] {
        self.codes
    }

    /// Returns the grids of some rows, in bytes.
    pub fn grids(&self, rows: Range<u32>) -> &'a [[u8; GRID]] {
        self.grids.get(rows.start as usize..rows.end as usize).unwrap_or_default()
    }

    /// Prefetches the grids of some rows.
    pub fn prefetch_grids(&self, rows: &[u32]) {
        rows.iter().filter_map(|&row| self.grids.get(row as usize)).for_each(|grid| prefetch(grid));
    }

    /// Returns the grid of a row.
    pub fn grid(&self, row: u32) -> RowGrid {
        self.grids.get(row as usize).map_or(RowGrid::NOTHING, RowGrid::read)
    }

    /// Returns a full row in bytes; nothing past the end.
    pub fn numbers(&self, row: u32) -> &'a [u8] {
        let width = self.dimensions * 4;
        self.numbers.get(row as usize * width..(row as usize + 1) * width).unwrap_or_default()
    }

    /// Returns the score of a query in the stored form and a row.
    pub fn score(&self, query: &[f32], row: u32) -> f32 {
        self.distance.score(query, self.numbers(row))
    }
}
