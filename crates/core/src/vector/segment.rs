//! A segment of vectors: written once, read in place.
//!
//! Body of a segment, behind the header, all numbers little-endian: for each row its codes, filled up to a multiple of 64
//! bytes; for each row the scale of its codes, their error and its length (`f32` each); the rows (`f32` a number). The first
//! version of the format had the rows only.

use super::Vectors;
use super::codes::{stride, write_row};
use super::distance::Distance;
use super::rows::{GRID, Rows};
use super::scan;
use crate::error::{Error, ErrorKind, Result};
use crate::search::{Best, Hit};
use crate::segment::{self, HEADER, Kind, RowSet};

/// Writes vectors as a segment, to be compared by a distance. Under the cosine a vector of zeros is like nothing.
pub fn write_vectors(vectors: &Vectors, distance: Distance) -> Vec<u8> {
    let (rows, dimensions) = (vectors.len(), vectors.dimensions());
    let mut bytes = vec![0; HEADER];
    bytes.reserve(rows * (stride(dimensions) + GRID + dimensions * 4));
    let (mut grids, mut numbers) = (Vec::with_capacity(rows * GRID), Vec::with_capacity(rows * dimensions * 4));
    for vector in vectors.iter() {
        let row = distance.kept(vector);
        grids.extend(write_row(&row, &mut bytes).write());
        numbers.extend(row.into_iter().flat_map(f32::to_le_bytes));
    }
    bytes.extend(grids);
    bytes.extend(numbers);
    segment::seal(bytes, Kind::Vectors, rows as u32, dimensions as u32, distance.code())
}

/// A segment of vectors, read in place.
pub struct VectorIndex<B> {
    bytes: B,
    header: segment::Header,
    distance: Distance,
    /// Where the grids and the rows begin; both at the front where there are no codes.
    grids: usize,
    numbers: usize,
}

impl<B: AsRef<[u8]> + Sync> VectorIndex<B> {
    /// Opens a segment. Reads its header only.
    ///
    /// # Errors
    /// When the bytes are not a whole segment of vectors of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Vectors)?;
        let damaged = |what: &str| {
            Error::new(ErrorKind::Corpus, format!("this index segment is damaged: {what}; rebuild the corpus"))
        };
        let distance = Distance::from_code(header.own).ok_or_else(|| damaged("its distance is not known"))?;
        let (rows, width) = (u64::from(header.rows), u64::from(header.width));
        let (codes, grid) = if header.version == 1 { (0, 0) } else { (width.next_multiple_of(64), GRID as u64) };
        // Numbers of 32 bits: their products fit, and so do the sums of two.
        let end = |each: u64| rows.checked_mul(each).and_then(|length| length.checked_add(HEADER as u64));
        if end(codes + grid + width * 4) != Some(bytes.as_ref().len() as u64) {
            return Err(damaged("its rows do not fill it"));
        }
        let at = |each: u64| HEADER + (rows * each) as usize;
        Ok(Self { grids: at(codes), numbers: at(codes + grid), bytes, header, distance })
    }

    /// The `count` live rows that are most like the query, best first; ties by row.
    ///
    /// Looks at every live row, in eight bits a number first, on all threads of the pool it runs on; what it finds is what
    /// looking at each in full would find. A query of another length than the rows, or without a direction where only that
    /// counts, finds nothing.
    pub fn search(&self, query: &[f32], live: &RowSet, count: usize) -> Vec<Hit> {
        let Some(query) = self.kept(query).filter(|_| count > 0) else { return Vec::new() };
        if let Some(rows) = self.as_rows() {
            return scan::search(&rows, &query, live, count);
        }
        let mut best = Best::new(count);
        for row in (0..self.rows()).filter(|&row| live.contains(row)) {
            if let Some(bytes) = self.row_bytes(row) {
                best.offer(Hit { score: self.distance.score(&query, bytes), row });
            }
        }
        best.into_sorted()
    }
}

impl<B: AsRef<[u8]>> VectorIndex<B> {
    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// When a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// How many rows there are, dead ones included.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// The length of each vector.
    pub fn dimensions(&self) -> usize {
        self.header.width as usize
    }

    /// What its rows are compared by.
    pub fn distance(&self) -> Distance {
        self.distance
    }

    fn row_bytes(&self, row: u32) -> Option<&[u8]> {
        let width = self.dimensions() * 4;
        let start = self.numbers + (row as usize).checked_mul(width)?;
        self.bytes.as_ref().get(start..start + width)
    }

    /// A row as numbers.
    pub fn row(&self, row: u32) -> Option<Vec<f32>> {
        Some(self.row_bytes(row)?.as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect())
    }

    /// A query as rows are kept; nothing when no row can be like it.
    pub(super) fn kept(&self, query: &[f32]) -> Option<Vec<f32>> {
        let nowhere = self.distance == Distance::Cosine && query.iter().all(|&value| value == 0.0);
        let sound = query.len() == self.dimensions() && query.iter().all(|value| value.is_finite());
        (sound && !nowhere).then(|| self.distance.kept(query))
    }

    /// Its rows with their codes, if it has codes.
    pub(super) fn as_rows(&self) -> Option<Rows<'_>> {
        let bytes = self.bytes.as_ref();
        let parts = [bytes.get(HEADER..self.grids)?, bytes.get(self.grids..self.numbers)?, bytes.get(self.numbers..)?];
        Rows::new(self.distance, self.dimensions(), self.rows(), parts).filter(|_| self.header.version > 1)
    }
}
