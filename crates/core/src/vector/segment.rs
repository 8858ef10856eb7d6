//! A segment of vectors: written once, read in place.
//!
//! The body of a segment follows the header; all numbers are little-endian. It has the codes of each row, padded to a multiple
//! of 64 bytes; the scale, error and length of each row (`f32` each); and the rows (`f32` a number). The first version of the
//! format had the rows only.

use std::io::Write;

use super::Vectors;
use super::codes::{GRID, stride, write_row};
use super::distance::Distance;
use super::exact;
use super::rows::Rows;
use crate::error::{Error, ErrorKind, Result};
use crate::segment::{self, BodyWriter, HEADER, Kind, RowSet, SegmentHeader};
use crate::segment::{Hit, TopK};

/// Writes the body of a segment of vectors for a distance, and returns its header. Under the cosine, a vector of zeros is near
/// to nothing.
///
/// # Errors
/// If writing fails.
pub fn write_vectors(vectors: &Vectors, distance: Distance, mut to: impl Write) -> Result<SegmentHeader> {
    let (rows, dimensions) = (vectors.len(), vectors.dimensions());
    let mut body = BodyWriter::new(&mut to);
    let (mut codes, mut grids) = (Vec::new(), Vec::with_capacity(rows * GRID));
    for vector in vectors.iter() {
        codes.clear();
        grids.extend(write_row(&distance.kept(vector), &mut codes).write());
        body.put(&codes)?;
    }
    body.put(&grids)?;
    for vector in vectors.iter() {
        let row = distance.kept(vector);
        body.put(&row.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>())?;
    }
    Ok(body.finish(Kind::Vectors, rows as u32, dimensions as u32, distance.code()))
}

/// Writes the live rows of some segments, in their order, as the body of one segment, and returns its header. A fresh segment
/// of the same rows has the same bytes. Holds no rows in memory.
///
/// # Errors
/// If writing fails, or the segments are not of the same dimensions and distance.
pub fn merge_vectors<B: AsRef<[u8]>>(
    parts: &[(&VectorIndex<B>, &RowSet)],
    mut to: impl Write,
) -> Result<SegmentHeader> {
    let Some((first, _)) = parts.first() else {
        return Err(Error::new(ErrorKind::System, "there are no segments to merge"));
    };
    let (dimensions, distance) = (first.dimensions(), first.distance);
    if parts.iter().any(|(index, _)| index.dimensions() != dimensions || index.distance != distance) {
        return Err(damaged("its vectors are not like those of the others"));
    }
    let mut body = BodyWriter::new(&mut to);
    let mut rows = 0;
    // The codes of all rows come first, then their grids, then the full rows.
    for pass in 0..3 {
        for (index, live) in parts {
            let written = index.as_rows();
            for row in live.iter().take_while(|&row| row < index.rows()) {
                match (pass, &written) {
                    (0, Some(written)) => body.put(written.codes(row..row + 1))?,
                    (1, Some(written)) => body.put(written.grids(row..row + 1).as_flattened())?,
                    (2, _) => {
                        rows += 1;
                        body.put(index.row_bytes(row).unwrap_or_default())?;
                    }
                    // The first version of the format had no codes.
                    (_, _) => {
                        let mut codes = Vec::new();
                        let grid = write_row(&index.row(row).unwrap_or_default(), &mut codes);
                        body.put(&if pass == 0 { codes } else { grid.write().collect() })?;
                    }
                }
            }
        }
    }
    Ok(body.finish(Kind::Vectors, rows, dimensions as u32, distance.code()))
}

fn damaged(what: &str) -> Error {
    Error::new(ErrorKind::Corpus, format!("this index segment is damaged: {what}; rebuild the corpus"))
}

/// A segment of vectors, read in place.
pub struct VectorIndex<B> {
    bytes: B,
    header: segment::Header,
    distance: Distance,
    /// The starts of the grids and of the rows; both are at the front if there are no codes.
    grids: usize,
    numbers: usize,
}

impl<B> std::fmt::Debug for VectorIndex<B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("VectorIndex").finish_non_exhaustive()
    }
}

impl<B: AsRef<[u8]> + Sync> VectorIndex<B> {
    /// Opens a segment. Reads its header only.
    ///
    /// # Errors
    /// If the bytes are not a whole segment of vectors of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Vectors)?;
        let distance = Distance::from_code(header.own).ok_or_else(|| damaged("its distance is not known"))?;
        let (rows, width) = (u64::from(header.rows), u64::from(header.width));
        let (codes, grid) = if header.version == 1 { (0, 0) } else { (stride(width as usize) as u64, GRID as u64) };
        // The numbers have 32 bits, so products and sums of two fit.
        let end = |each: u64| rows.checked_mul(each).and_then(|length| length.checked_add(HEADER as u64));
        if end(codes + grid + width * 4) != Some(bytes.as_ref().len() as u64) {
            return Err(damaged("its rows do not fill it"));
        }
        let at = |each: u64| HEADER + (rows * each) as usize;
        Ok(Self { grids: at(codes), numbers: at(codes + grid), bytes, header, distance })
    }

    /// Returns the `count` live rows that are most similar to the query, best first; ties by row.
    ///
    /// Compares every live row in eight bits first, on all threads of the current pool. The result equals that of comparing
    /// each in full. A query of another length, or without a direction where only that counts, finds nothing.
    pub fn search(&self, query: &[f32], live: &RowSet, count: usize) -> Vec<Hit> {
        let Some(query) = self.kept(query).filter(|_| count > 0) else { return Vec::new() };
        if let Some(rows) = self.as_rows() {
            return exact::search(&rows, &query, live, count);
        }
        let mut best = TopK::new(count);
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
    /// If a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// Returns the number of rows, with the dead ones.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// Returns the length of each vector.
    pub fn dimensions(&self) -> usize {
        self.header.width as usize
    }

    /// Returns the distance of its rows.
    pub fn distance(&self) -> Distance {
        self.distance
    }

    fn row_bytes(&self, row: u32) -> Option<&[u8]> {
        let width = self.dimensions() * 4;
        let start = self.numbers + (row as usize).checked_mul(width)?;
        self.bytes.as_ref().get(start..start + width)
    }

    /// Returns a row as numbers.
    pub fn row(&self, row: u32) -> Option<Vec<f32>> {
        Some(self.row_bytes(row)?.as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect())
    }

    /// Returns a query in the form of rows; `None` if no row can be similar to it.
    pub(super) fn kept(&self, query: &[f32]) -> Option<Vec<f32>> {
        let nowhere = self.distance == Distance::Cosine && query.iter().all(|&value| value == 0.0);
        let sound = query.len() == self.dimensions() && query.iter().all(|value| value.is_finite());
        (sound && !nowhere).then(|| self.distance.kept(query))
    }

    /// Returns its rows with their codes, if it has codes.
    pub(super) fn as_rows(&self) -> Option<Rows<'_>> {
        let bytes = self.bytes.as_ref();
        let parts = [bytes.get(HEADER..self.grids)?, bytes.get(self.grids..self.numbers)?, bytes.get(self.numbers..)?];
        Rows::new(self.distance, self.dimensions(), self.rows(), parts).filter(|_| self.header.version > 1)
    }
}
