//! Codes: vectors in eight bits a number, with a bound on their error.
//!
//! A row is stored as `scale · (code - 128)`. Its *error* is the length of the difference to the row. By the Cauchy-Schwarz
//! inequality, the errors bound the product of two vectors. A search by codes can so exclude most rows, and compares only the
//! others in full.

use super::distance::length;

/// The number of bytes of a row's scale, error and length.
pub const GRID: usize = 12;

/// The offset that makes a row's integers positive.
pub const MIDDLE: i32 = 128;
/// Codes begin at multiples of this number of bytes.
const BLOCK: usize = 64;
/// The share of a product that rounding to 32 bits may lose.
const ROUNDING: f32 = 1e-5;

/// Returns the number of bytes of the codes of a row.
pub fn stride(dimensions: usize) -> usize {
    dimensions.next_multiple_of(BLOCK)
}

/// The numbers of a row besides its codes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RowGrid {
    /// The value of one unit of its codes.
    pub scale: f32,
    /// An upper bound of the length of the difference between the row and its codes.
    pub error: f32,
    /// The length of the row.
    pub length: f32,
}

impl RowGrid {
    /// The grid of a row of zeros.
    pub const NOTHING: Self = Self { scale: 0.0, error: 0.0, length: 0.0 };

    /// Reads it from a segment.
    #[inline(always)]
    pub fn read(bytes: &[u8; GRID]) -> Self {
        let number = |at: usize| f32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        Self { scale: number(0), error: number(4), length: number(8) }
    }

    /// Returns its bytes.
    pub fn write(self) -> impl Iterator<Item = u8> {
        [self.scale, self.error, self.length].into_iter().flat_map(f32::to_le_bytes)
    }
}

/// Rounds numbers to integers of -127 to 127, and returns what they leave out.
fn round(vector: &[f32]) -> (Vec<i8>, RowGrid) {
    let farthest = vector.iter().fold(0.0_f32, |most, value| most.max(value.abs()));
    let scale = farthest / 127.0;
    // A subnormal scale loses too much precision.
    let scale = if scale.is_normal() { scale } else { 0.0 };
    let factor = if scale > 0.0 { 1.0 / scale } else { 0.0 };
    let integers: Vec<i8> = vector.iter().map(|value| (value * factor).round_ties_even() as i8).collect();
    let left_out = vector.iter().zip(&integers).map(|(&value, &integer)| value - f32::from(integer) * scale);
    let error = length(&left_out.collect::<Vec<_>>());
    // Rounds up, so that it remains a bound.
    let error = (error * (1.0 + 1e-6)) as f32;
    (integers, RowGrid { scale, error, length: length(vector) as f32 })
}

/// Appends the codes of a row, [`stride`] bytes, to `codes`.
pub fn write_row(row: &[f32], codes: &mut Vec<u8>) -> RowGrid {
    let (integers, grid) = round(row);
    let end = codes.len() + stride(row.len());
    codes.extend(integers.iter().map(|&integer| (i32::from(integer) + MIDDLE) as u8));
    codes.resize(end, MIDDLE as u8);
    grid
}

/// A query in codes.
pub struct QueryCodes {
    /// Its integers, as many as the codes of a row.
    pub codes: Vec<i8>,
    grid: RowGrid,
    /// The part of each product that the offset of the rows adds.
    excess: i32,
}

impl QueryCodes {
    /// Rounds a query to codes.
    pub fn new(query: &[f32]) -> Self {
        let (mut codes, grid) = round(query);
        let excess = MIDDLE * codes.iter().map(|&code| i32::from(code)).sum::<i32>();
        codes.resize(stride(query.len()), 0);
        Self { codes, grid, excess }
    }

    /// Returns the part of each product of codes that the offset of the rows adds.
    pub fn excess(&self) -> i32 {
        self.excess
    }

    /// Returns the value of one unit of its codes.
    pub fn scale(&self) -> f32 {
        self.grid.scale
    }

    /// Returns the length of the query.
    pub fn length(&self) -> f32 {
        self.grid.length
    }

    /// Returns the product of the query and a row, from the product of their codes, and an upper bound of its error.
    #[inline(always)]
    pub fn product(&self, sum: i32, row: RowGrid) -> (f32, f32) {
        let product = row.scale * self.grid.scale * (sum - self.excess) as f32;
        let missed = self.grid.length * row.error + self.grid.error * (row.length + row.error);
        (product, missed + ROUNDING * self.grid.length * row.length)
    }
}
