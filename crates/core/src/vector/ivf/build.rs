//! Builds the lists: centres from a sample, then the list and the codes of each row.

use rayon::prelude::*;

use crate::vector::codes::{QueryCodes, RowGrid, stride, write_row};
use crate::vector::kernel::Kernel;
use crate::vector::means::Means;
use crate::vector::rows::Rows;

/// The number of dimensions that share a byte of a code.
pub const PART_DIMENSIONS: usize = 8;
/// The number of centres that a byte can name.
const CODES: usize = 256;
/// The number of rows in the sample for each list, and the highest number in all.
const SAMPLE: (usize, usize) = (40, 60_000);
/// The number of sample rows that the centres of parts are made from.
const PART_SAMPLE: usize = 20_000;
/// The highest number of lists.
const MAX_LISTS: usize = 8_192;

/// The lists of some rows.
pub struct Built {
    pub centres: Means,
    /// The centres of each part of the differences between rows and the centres of their lists.
    pub parts: Vec<Means>,
    /// The end of each list among the rows.
    pub ends: Vec<u32>,
    /// The rows, list by list, ascending in each.
    pub rows: Vec<u32>,
    /// Their codes, a byte a part.
    pub codes: Vec<u8>,
}

/// Returns the number of parts of a vector.
pub fn parts(dimensions: usize) -> usize {
    dimensions.div_ceil(PART_DIMENSIONS)
}

/// Assigns rows to lists. Returns `None` if it is stopped; it asks `stop` before each row.
pub fn build(rows: &Rows<'_>, stop: &(dyn Fn() -> bool + Sync)) -> Option<Built> {
    let (count, dimensions) = (rows.rows as usize, rows.dimensions);
    let lists = ((count as f64).sqrt() as usize).clamp(1, MAX_LISTS);
    let sample = (lists * SAMPLE.0).min(SAMPLE.1).min(count);
    let sample: Vec<f32> = (0..sample).flat_map(|at| numbers(rows, (at * count / sample) as u32)).collect();
    let centres = Means::find(&sample, dimensions, lists);
    let nearest = Nearest::new(&centres);
    let some = sample.len() / dimensions.max(1);
    let step = some.div_ceil(PART_SAMPLE).max(1);
    let rests: Vec<f32> = sample
        .par_chunks_exact(dimensions.max(1))
        .step_by(step)
        .flat_map_iter(|vector| rest(vector, centres.centre(nearest.of(vector) as usize)))
        .collect();
    let width = parts(dimensions) * PART_DIMENSIONS;
    let parts: Vec<Means> = (0..parts(dimensions))
        .into_par_iter()
        .map(|part| {
            let of_part = rests
                .chunks_exact(width)
                .flat_map(|rest| rest[part * PART_DIMENSIONS..][..PART_DIMENSIONS].iter().copied());
            Means::find(&of_part.collect::<Vec<f32>>(), PART_DIMENSIONS, CODES)
        })
        .collect();
    let coded: Option<Vec<(u32, Vec<u8>)>> = (0..rows.rows)
        .into_par_iter()
        .map(|row| {
            if stop() {
                return None;
            }
            let vector = numbers(rows, row);
            let list = nearest.of(&vector);
            let rest: Vec<f32> = rest(&vector, centres.centre(list as usize)).collect();
            let codes = rest.chunks_exact(PART_DIMENSIONS).zip(&parts).map(|(part, means)| means.nearest(part) as u8);
            Some((list, codes.collect()))
        })
        .collect();
    let coded = coded?;
    let mut order: Vec<u32> = (0..rows.rows).collect();
    order.sort_by_key(|&row| coded[row as usize].0);
    let mut ends = vec![0; centres.count()];
    coded.iter().for_each(|(list, _)| ends[*list as usize] += 1);
    let mut end = 0;
    ends.iter_mut().for_each(|count| {
        end += *count;
        *count = end;
    });
    let codes = order.iter().flat_map(|&row| coded[row as usize].1.iter().copied()).collect();
    Some(Built { centres, parts, ends, rows: order, codes })
}

/// Returns a full row.
fn numbers(rows: &Rows<'_>, row: u32) -> Vec<f32> {
    rows.numbers(row).as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect()
}

/// Returns the difference of a vector and a centre, padded to whole parts.
fn rest<'a>(vector: &'a [f32], centre: &'a [f32]) -> impl Iterator<Item = f32> + 'a {
    let width = parts(vector.len()) * PART_DIMENSIONS;
    let differences = vector.iter().zip(centre).map(|(a, b)| a - b);
    differences.chain(std::iter::repeat(0.0)).take(width)
}

/// Finds the nearest of many centres by codes of eight bits. Ties between equally near centres matter little.
struct Nearest {
    codes: Vec<u8>,
    grids: Vec<RowGrid>,
    stride: usize,
}

impl Nearest {
    fn new(centres: &Means) -> Self {
        let mut codes = Vec::new();
        let grids = (0..centres.count()).map(|at| write_row(centres.centre(at), &mut codes)).collect();
        Self { codes, grids, stride: stride(centres.dimensions) }
    }

    fn of(&self, vector: &[f32]) -> u32 {
        let query = QueryCodes::new(vector);
        let mut sums = vec![0; self.grids.len()];
        if self.stride > 0 {
            Kernel::best().products(&query.codes, &self.codes, &mut sums);
        }
        let near = |(sum, grid): (&i32, &RowGrid)| query.product(*sum, *grid).0 - grid.length * grid.length / 2.0;
        let mut best = (f32::NEG_INFINITY, 0);
        for (at, near) in sums.iter().zip(&self.grids).map(near).enumerate() {
            if near > best.0 {
                best = (near, at as u32);
            }
        }
        best.1
    }
}
