//! Scores rows against a query or another row, by their codes.

use super::codes::{MIDDLE, QueryCodes};
use super::distance::Distance;
use super::kernel::Kernel;
use super::rows::Rows;

/// The number of rows that are compared at a time.
const BATCH_ROWS: usize = 64;

/// The centre that rows are compared with: a query, or a row. A higher score is nearer. Scores compare only within one centre;
/// between rows they are symmetric.
pub struct CodeScorer<'a> {
    rows: &'a Rows<'a>,
    kernel: Kernel,
    codes: Vec<i8>,
    excess: i32,
    scale: f32,
    length: f32,
    lifted: NormAugmentation,
}

/// Under the dot product, rows with a large product are near. Each row first gets one more number, which makes all rows as long
/// as the longest. A long row is then not near to all others, and nearness is symmetric (Bachrach and others, 2014). A query
/// has zero there.
#[derive(Clone, Copy)]
pub struct NormAugmentation {
    longest: f32,
}

impl NormAugmentation {
    /// Adds nothing, for queries.
    const NONE: Self = Self { longest: 0.0 };

    /// Returns the number that each row gets. Reads the length of each row if the distance needs it.
    pub fn of(rows: &Rows<'_>) -> Self {
        match rows.distance {
            Distance::Dot => {
                let lengths = rows.grids(0..rows.rows).iter().map(|grid| super::codes::RowGrid::read(grid).length);
                Self { longest: lengths.fold(0.0, f32::max) }
            }
            Distance::Cosine | Distance::Euclidean => Self::NONE,
        }
    }

    fn number(self, length: f32) -> f32 {
        (self.longest * self.longest - length * length).max(0.0).sqrt()
    }
}

impl<'a> CodeScorer<'a> {
    /// Returns the scorer of a query.
    pub fn query(rows: &'a Rows<'a>, query: &QueryCodes) -> Self {
        let (kernel, codes) = (Kernel::best(), query.codes.clone());
        let (excess, scale, length) = (query.excess(), query.scale(), query.length());
        Self { rows, kernel, codes, excess, scale, length, lifted: NormAugmentation::NONE }
    }

    /// Returns the scorer of a row.
    pub fn row(rows: &'a Rows<'a>, row: u32, lifted: NormAugmentation) -> Self {
        let grid = rows.grid(row);
        let codes: Vec<i8> = rows.codes(row..row + 1).iter().map(|&code| (code ^ 0x80) as i8).collect();
        let excess = MIDDLE * codes.iter().map(|&code| i32::from(code)).sum::<i32>();
        Self { rows, kernel: Kernel::best(), codes, excess, scale: grid.scale, length: grid.length, lifted }
    }

    /// Scores some rows, none of which may be past the end.
    pub fn compare(&self, rows: &[u32], scores: &mut Vec<f32>) {
        scores.clear();
        let (mut sums, lifted) = ([0; BATCH_ROWS], self.lifted.number(self.length));
        for rows in rows.chunks(BATCH_ROWS) {
            let sums = &mut sums[..rows.len()];
            self.rows.prefetch_grids(rows);
            self.kernel.products_of(&self.codes, self.rows.all_codes(), rows, sums);
            scores.extend(rows.iter().zip(sums).map(|(&row, &mut sum)| {
                let grid = self.rows.grid(row);
                let product = grid.scale * self.scale * (sum - self.excess) as f32;
                match self.rows.distance {
                    Distance::Cosine => product,
                    Distance::Dot => lifted.mul_add(self.lifted.number(grid.length), product),
                    Distance::Euclidean => 2.0 * product - self.length * self.length - grid.length * grid.length,
                }
            }));
        }
    }
}
