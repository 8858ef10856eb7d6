//! The exact vector index: normalised rows, scanned whole.
//!
//! A search reads every live row once: `rows × dimensions × 4` bytes. Similarity is the cosine.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use super::Vectors;
use crate::error::{Error, ErrorKind, Result};
use crate::search::Hit;
use crate::segment::{self, HEADER, Kind, RowSet};

/// Writes vectors as a segment, each brought to length 1. A vector of zeros stays as it is and is like nothing.
pub fn write_vectors(vectors: &Vectors) -> Vec<u8> {
    let mut bytes = vec![0; HEADER];
    bytes.reserve(vectors.len() * vectors.dimensions() * 4);
    for vector in vectors.iter() {
        let length = vector.iter().map(|value| f64::from(*value).powi(2)).sum::<f64>().sqrt();
        let scale = if length > 0.0 { 1.0 / length } else { 0.0 };
        for value in vector {
            bytes.extend_from_slice(&((f64::from(*value) * scale) as f32).to_le_bytes());
        }
    }
    segment::seal(bytes, Kind::Vectors, vectors.len() as u32, vectors.dimensions() as u32)
}

/// A segment of vectors, read in place.
pub struct VectorIndex<B> {
    bytes: B,
    header: segment::Header,
}

impl<B: AsRef<[u8]>> VectorIndex<B> {
    /// Opens a segment. Reads its header only.
    ///
    /// # Errors
    /// When the bytes are not a whole segment of vectors of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Vectors)?;
        if bytes.as_ref().len() as u64 != HEADER as u64 + u64::from(header.rows) * u64::from(header.width) * 4 {
            return Err(Error::new(
                ErrorKind::Corpus,
                "this index segment is damaged: its rows do not fill it; rebuild the corpus",
            ));
        }
        Ok(Self { bytes, header })
    }

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

    fn row_bytes(&self, row: u32) -> Option<&[u8]> {
        let width = self.dimensions() * 4;
        let start = HEADER + (row as usize).checked_mul(width)?;
        self.bytes.as_ref().get(start..start + width)
    }

    /// A row as numbers.
    pub fn row(&self, row: u32) -> Option<Vec<f32>> {
        Some(self.row_bytes(row)?.chunks_exact(4).map(number).collect())
    }

    /// The `count` live rows that are most like the query, best first; ties by row. Scores are cosines.
    ///
    /// A query of another length than the rows finds nothing.
    pub fn search(&self, query: &[f32], live: &RowSet, count: usize) -> Vec<Hit> {
        let length = query.iter().map(|value| value * value).sum::<f32>().sqrt();
        if query.len() != self.dimensions() || length == 0.0 || count == 0 {
            return Vec::new();
        }
        let query: Vec<f32> = query.iter().map(|value| value / length).collect();
        let mut best: BinaryHeap<Reverse<Hit>> = BinaryHeap::with_capacity(count + 1);
        for row in 0..self.rows() {
            let Some(bytes) = live.contains(row).then(|| self.row_bytes(row)).flatten() else {
                continue;
            };
            let hit = Hit { score: dot(&query, bytes), row };
            if best.len() < count {
                best.push(Reverse(hit));
            } else if best.peek().is_some_and(|Reverse(worst)| hit > *worst) {
                best.pop();
                best.push(Reverse(hit));
            }
        }
        let mut hits: Vec<Hit> = best.into_iter().map(|Reverse(hit)| hit).collect();
        hits.sort_unstable_by(|a, b| b.cmp(a));
        hits
    }
}

fn number(bytes: &[u8]) -> f32 {
    f32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])
}

/// The dot product of a vector with one that is still in bytes. Sixteen sums at once, so that the compiler may use the
/// machine's wide registers.
fn dot(query: &[f32], row: &[u8]) -> f32 {
    const LANES: usize = 16;
    let mut sums = [0.0f32; LANES];
    let (query_lanes, query_rest) = query.as_chunks::<LANES>();
    let mut rows = row.chunks_exact(LANES * 4);
    for (query, row) in query_lanes.iter().zip(&mut rows) {
        for lane in 0..LANES {
            sums[lane] += query[lane] * number(&row[lane * 4..]);
        }
    }
    let rest: f32 = query_rest.iter().zip(rows.remainder().chunks_exact(4)).map(|(a, b)| a * number(b)).sum();
    sums.iter().sum::<f32>() + rest
}
