//! Codes: vectors with eight bits a number, and a bound on their error.
//!
//! A row is stored as `scale · (code - 128)`. The length of the difference is the *error* of the row. By the inequality of Cauchy and
//! Schwarz the errors bound the product of two vectors. So a search among codes can tell which rows cannot be among the best, and
//! compares only the others in full.

use super::distance::length;

/// The number of bytes of a row's scale, error and length.
pub const GRID: usize = 12;

/// What is added to a row's integers, so that they are not below zero.
pub const MIDDLE: i32 = 128;
/// Codes are so many bytes apart or a multiple of it.
const BLOCK: usize = 64;
/// The share of a product that rounding to 32 bits may take.
const ROUNDING: f32 = 1e-5;

/// How many bytes the codes of a row take.
pub fn stride(dimensions: usize) -> usize {
    dimensions.next_multiple_of(BLOCK)
}

/// What is known of a row besides its codes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RowGrid {
    /// What one unit of its codes stands for.
    pub scale: f32,
    /// At most so long is what its codes leave out.
    pub error: f32,
    /// How long it is.
    pub length: f32,
}

impl RowGrid {
    /// That of a row of zeros.
    pub const NOTHING: Self = Self { scale: 0.0, error: 0.0, length: 0.0 };

    /// As it stands in a segment.
    #[inline(always)]
    pub fn read(bytes: &[u8; GRID]) -> Self {
        let number = |at: usize| f32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        Self { scale: number(0), error: number(4), length: number(8) }
    }

    /// As it is written.
    pub fn write(self) -> impl Iterator<Item = u8> {
        [self.scale, self.error, self.length].into_iter().flat_map(f32::to_le_bytes)
    }
}

/// Integers of -127 to 127, and what they leave out.
fn round(vector: &[f32]) -> (Vec<i8>, RowGrid) {
    let farthest = vector.iter().fold(0.0_f32, |most, value| most.max(value.abs()));
    let scale = farthest / 127.0;
    // A scale that is no normal number loses too much of what it stands for.
    let scale = if scale.is_normal() { scale } else { 0.0 };
    let factor = if scale > 0.0 { 1.0 / scale } else { 0.0 };
    let integers: Vec<i8> = vector.iter().map(|value| (value * factor).round_ties_even() as i8).collect();
    let left_out = vector.iter().zip(&integers).map(|(&value, &integer)| value - f32::from(integer) * scale);
    let error = length(&left_out.collect::<Vec<_>>());
    // Rounded up, so that it stays a bound.
    let error = (error * (1.0 + 1e-6)) as f32;
    (integers, RowGrid { scale, error, length: length(vector) as f32 })
}

/// The codes of a row, as many as its [`stride`], added to `codes`.
pub fn write_row(row: &[f32], codes: &mut Vec<u8>) -> RowGrid {
    let (integers, grid) = round(row);
    let end = codes.len() + stride(row.len());
    codes.extend(integers.iter().map(|&integer| (i32::from(integer) + MIDDLE) as u8));
    codes.resize(end, MIDDLE as u8);
    grid
}

/// A query as codes.
pub struct QueryCodes {
    /// Its integers, as many as a row has codes.
    pub codes: Vec<i8>,
    grid: RowGrid,
    /// What the rows' middle adds to a product.
    excess: i32,
}

impl QueryCodes {
    /// Rounds a query.
    pub fn new(query: &[f32]) -> Self {
        let (mut codes, grid) = round(query);
        let excess = MIDDLE * codes.iter().map(|&code| i32::from(code)).sum::<i32>();
        codes.resize(stride(query.len()), 0);
        Self { codes, grid, excess }
    }

    /// What the rows' middle adds to a product of codes.
    pub fn excess(&self) -> i32 {
        self.excess
    }

    /// What one unit of its codes stands for.
    pub fn scale(&self) -> f32 {
        self.grid.scale
    }

    /// How long the query is.
    pub fn length(&self) -> f32 {
        self.grid.length
    }

    /// The product of the query and a row from that of their codes, and how far from it the true one may be.
    #[inline(always)]
    pub fn product(&self, sum: i32, row: RowGrid) -> (f32, f32) {
        let product = row.scale * self.grid.scale * (sum - self.excess) as f32;
        let missed = self.grid.length * row.error + self.grid.error * (row.length + row.error);
        (product, missed + ROUNDING * self.grid.length * row.length)
    }
}
