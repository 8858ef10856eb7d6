//! The layout of matrices, sums and tiles in memory, shared by every kernel.

/// The number of outputs in a panel.
pub const WIDE: usize = 32;
/// The number of rows that are multiplied at a time.
pub const ROWS: usize = 12;
/// The number of accumulators of a sum of floating-point numbers.
pub const LANES: usize = 32;
/// The number of bytes of a row that a step reads.
pub const BYTES: usize = 4;
/// The number of 16-bit integers of a row that a step reads.
pub const SHORTS: usize = 2;

/// Sums of products: a row for each input row, a column for each output of a panel. It is aligned to a cache line, so that a
/// register that was written can be read again at once.
#[repr(C, align(64))]
#[derive(Debug, Clone)]
pub struct Sums(pub [[i32; WIDE]; ROWS]);

impl Default for Sums {
    fn default() -> Self {
        Self([[0; WIDE]; ROWS])
    }
}

impl Sums {
    /// Returns all sums, row by row.
    pub fn flat(&mut self) -> &mut [i32] {
        self.0.as_flattened_mut()
    }
}

/// The scale of the integers that stand for numbers: `number = integer · step + least`.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Grid {
    /// The value of one unit of the integers.
    pub step: f32,
    /// The value of the integer zero.
    pub least: f32,
}

/// Turns the sums of a panel into numbers: `scale · (step · sum + least · total) + bias`.
#[derive(Clone, Copy)]
pub struct Finish<'a> {
    /// For each output, the value of one unit of its weights.
    pub scales: &'a [f32; WIDE],
    /// For each output, the sum of its weights, in units of `scales`.
    pub totals: &'a [f32; WIDE],
    /// For each output, the bias.
    pub bias: &'a [f32; WIDE],
}

impl std::fmt::Debug for Finish<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Finish").finish_non_exhaustive()
    }
}

/// The place of a tile in a matrix.
#[derive(Debug, Clone, Copy)]
pub struct TileLayout {
    /// The length of a row.
    pub stride: usize,
    /// The tile's first column. Columns that do not fit are left out.
    pub column: usize,
}

impl TileLayout {
    /// A tile that is stored by itself.
    pub const TILE: Self = Self { stride: WIDE, column: 0 };
}
