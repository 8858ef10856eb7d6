//! The layout of matrices, sums and tiles in memory, shared by every kernel.

/// How many outputs a panel has.
pub const WIDE: usize = 32;
/// How many rows are multiplied at a time.
pub const ROWS: usize = 12;
/// How many accumulators a sum of floating-point numbers has.
pub const LANES: usize = 32;
/// How many bytes of a row a step reads.
pub const BYTES: usize = 4;
/// How many 16-bit integers of a row a step reads.
pub const SHORTS: usize = 2;

/// Sums of products: a line for each row, a column for each output of a panel. It begins where a cache line does, so that
/// a register that was written is read again at once.
#[repr(C, align(64))]
#[derive(Debug, Clone)]
pub struct Sums(pub [[i32; WIDE]; ROWS]);

impl Default for Sums {
    fn default() -> Self {
        Self([[0; WIDE]; ROWS])
    }
}

impl Sums {
    /// All sums, one row behind the other.
    pub fn flat(&mut self) -> &mut [i32] {
        self.0.as_flattened_mut()
    }
}

/// The range of the integers that stand for some numbers: `number = integer · step + least`.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Grid {
    /// What one unit of the integers stands for.
    pub step: f32,
    /// What zero stands for.
    pub least: f32,
}

/// What turns the sums of a panel into numbers: `scale · (step · sum + least · total) + bias`.
#[derive(Clone, Copy)]
pub struct Finish<'a> {
    /// For each output, what one unit of its weights stands for.
    pub scales: &'a [f32; WIDE],
    /// For each output, the sum of its weights, in units of `scales`.
    pub totals: &'a [f32; WIDE],
    /// For each output, what is added.
    pub bias: &'a [f32; WIDE],
}

impl std::fmt::Debug for Finish<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Finish").finish_non_exhaustive()
    }
}

/// Where a tile lies in a matrix of rows.
#[derive(Debug, Clone, Copy)]
pub struct TileLayout {
    /// How long a row is.
    pub stride: usize,
    /// The tile's first column. Columns that do not fit are left out.
    pub column: usize,
}

impl TileLayout {
    /// A tile that is stored alone.
    pub const TILE: Self = Self { stride: WIDE, column: 0 };
}
