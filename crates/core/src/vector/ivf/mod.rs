//! Inverted lists: each row is in the list of its nearest centre, with a code of one byte for eight numbers. They are for corpora
//! whose graph would need too much memory.
//!
//! A search reads the lists of the centres that are nearest to the query. It adds up table entries for the codes of each row, and
//! compares the best rows in full. The method is that of Jégou, Douze and Schmid (2011); the codes stand for the difference between a row and
//! its centre. A row of 384 numbers needs about 60 bytes, where the graph needs 140 and the codes of the exact search 400.
//!
//! The body of a segment follows the header; all numbers are little-endian. The number of lists (`u32`) and 60 zero bytes; the
//! centres, `dimensions` numbers each (`f32`); for each part of eight numbers its 256 centres of eight numbers; the end of each list
//! (`u32`); the rows, list by list (`u32`); their codes in the same order, a byte a part.

mod build;

use std::io::Write;

use super::codes::QueryCodes;
use super::distance::Distance;
use super::exact::{self, Candidate};
use super::means::{self, Means};
use super::segment::VectorIndex;
use crate::error::{Error, ErrorKind, Result};
use crate::segment::{self, BodyWriter, HEADER, Kind, SegmentHeader, f32_at, u32_at};
use crate::segment::{Hit, RowSet, TopK};
use build::{Built, PART_DIMENSIONS, parts};

/// The bytes before the centres.
const FRONT: usize = 64;
/// The number of centres of a part that a byte can name.
const CODES: usize = 256;
/// One list in so many is searched, and at least this number of lists.
const PROBED: (usize, usize) = (16, 24);
/// The number of rows that are compared in full for each wanted row, and the lowest number in all.
const IN_FULL: (usize, usize) = (50, 600);
/// If at most so many rows are live, or one in so many, they are scanned.
const NARROW: (u32, u32) = (2_000, 50);

/// Assigns the rows of a segment of vectors to lists on all threads of the current pool, writes the body of the lists, and
/// returns its header. The same rows give the same lists. Returns `None` if the segment has the first version of the format, or
/// if `stop` returns `true`; it is asked regularly.
///
/// Holds about 60 bytes a row, and a sample of at most 60,000 rows.
///
/// # Errors
/// If writing fails.
pub fn write_ivf_lists<B: AsRef<[u8]> + Sync>(
    vectors: &VectorIndex<B>,
    mut to: impl Write,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<SegmentHeader>> {
    let Some(rows) = vectors.as_rows().filter(|rows| rows.dimensions > 0) else { return Ok(None) };
    let Some(Built { centres, parts, ends, rows: order, codes }) = build::build(&rows, stop) else { return Ok(None) };
    let mut body = BodyWriter::new(&mut to);
    let mut front = [0; FRONT];
    front[..4].copy_from_slice(&(ends.len() as u32).to_le_bytes());
    body.put(&front)?;
    let numbers = |numbers: &[f32]| numbers.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>();
    body.put(&numbers(&centres.numbers))?;
    for part in &parts {
        let mut all = part.numbers.clone();
        // Few rows give fewer centres; no code names the zeros that pad them.
        all.resize(CODES * PART_DIMENSIONS, 0.0);
        body.put(&numbers(&all))?;
    }
    for some in [&ends, &order] {
        body.put(&some.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>())?;
    }
    body.put(&codes)?;
    Ok(Some(body.finish(Kind::Lists, rows.rows, rows.dimensions as u32, rows.distance.code())))
}

/// Inverted lists over a segment of vectors, read in place.
pub struct IvfLists<B> {
    bytes: B,
    header: segment::Header,
    lists: usize,
    /// The starts of the parts of the segment: the centres of parts, the ends of lists, the rows, their codes.
    starts: [usize; 4],
    centres: Means,
}

impl<B> std::fmt::Debug for IvfLists<B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("IvfLists").finish_non_exhaustive()
    }
}

impl<B: AsRef<[u8]>> IvfLists<B> {
    /// Opens a segment. Reads its header and its centres.
    ///
    /// # Errors
    /// If the bytes are not whole lists of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Lists)?;
        let damaged = || {
            let message = "this index segment is damaged: its lists do not fill it; rebuild the corpus";
            Error::new(ErrorKind::Corpus, message)
        };
        let all = bytes.as_ref();
        let lists = u32_at(all, HEADER).ok_or_else(damaged)? as usize;
        let (rows, dimensions) = (header.rows as usize, header.width as usize);
        let lengths = [
            lists.checked_mul(dimensions * 4),
            Some(parts(dimensions) * CODES * PART_DIMENSIONS * 4),
            lists.checked_mul(4),
            Some(rows * 4),
            rows.checked_mul(parts(dimensions)),
        ];
        let (mut starts, mut end) = ([0; 5], HEADER + FRONT);
        for (start, length) in starts.iter_mut().zip(lengths) {
            *start = end;
            end = length.and_then(|length| end.checked_add(length)).ok_or_else(damaged)?;
        }
        if end != all.len() || dimensions == 0 || (lists == 0 && rows > 0) {
            return Err(damaged());
        }
        let [first, starts @ ..] = starts;
        let centres = numbers(&all[first..starts[0]]);
        Ok(Self { lists, starts, centres: Means::new(dimensions, centres), header, bytes })
    }

    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// If a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// Returns the number of rows in lists.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// Returns the range of a list's rows.
    fn list(&self, at: usize) -> std::ops::Range<usize> {
        let end =
            |at: usize| u32_at(self.bytes.as_ref(), self.starts[1] + at * 4).unwrap_or(0).min(self.rows()) as usize;
        at.checked_sub(1).map_or(0, end)..end(at)
    }

    /// Returns the `count` live rows that are most similar to the query, best first; ties by row. Most are those of
    /// [`VectorIndex::search`], and all have the same scores. If few rows are live, they are scanned.
    pub fn search<V: AsRef<[u8]> + Sync>(
        &self,
        vectors: &VectorIndex<V>,
        query: &[f32],
        live: &RowSet,
        count: usize,
    ) -> Vec<Hit> {
        let (Some(query), Some(rows)) = (vectors.kept(query), vectors.as_rows()) else {
            return vectors.search(query, live, count);
        };
        let alive = live.len();
        let wanted = count.saturating_mul(IN_FULL.0).max(IN_FULL.1);
        let narrow = alive <= NARROW.0 || alive <= rows.rows / NARROW.1 || alive as usize <= wanted;
        if narrow || rows.rows != self.rows() || rows.dimensions != self.header.width as usize || count == 0 {
            return exact::search(&rows, &query, live, count);
        }
        let products: Vec<f32> = (0..self.lists).map(|at| means::product(self.centres.centre(at), &query)).collect();
        let near: Vec<f32> = match rows.distance {
            Distance::Dot => products.clone(),
            Distance::Cosine | Distance::Euclidean => self.centres.near(&query).collect(),
        };
        let mut order: Vec<usize> = (0..self.lists).collect();
        order.sort_by(|&a, &b| near[b].total_cmp(&near[a]));
        let table = self.table(&query);
        let probed = (self.lists / PROBED.0).max(PROBED.1);
        let length = means::product(&query, &query).sqrt();
        let (mut best, mut met) = (TopK::new(wanted), 0);
        for (place, &list) in order.iter().enumerate() {
            if place >= probed && met >= wanted {
                break;
            }
            for at in self.list(list) {
                let row = u32_at(self.bytes.as_ref(), self.starts[2] + at * 4).unwrap_or(u32::MAX);
                if !live.contains(row) {
                    continue;
                }
                met += 1;
                let product = products[list] + self.coded(at, &table);
                best.offer(Hit { score: rows.distance.score_of(product, length, rows.grid(row).length), row });
            }
        }
        let codes = QueryCodes::new(&query);
        let candidates = best.into_sorted().iter().map(|hit| Candidate::of(&rows, &codes, hit.row)).collect();
        exact::in_full(&rows, &query, candidates, count)
    }

    /// Returns the products of the query's parts with each centre of each part.
    fn table(&self, query: &[f32]) -> Vec<f32> {
        let all = &self.bytes.as_ref()[self.starts[0]..self.starts[1]];
        let centres = all.chunks_exact(PART_DIMENSIONS * 4);
        let each = centres.enumerate().map(|(at, centre)| {
            let part = query.iter().skip(at / CODES * PART_DIMENSIONS).take(PART_DIMENSIONS).enumerate();
            part.map(|(number, value)| value * f32_at(centre, number * 4).unwrap_or_default()).sum()
        });
        each.collect()
    }

    /// Returns the sum of the table entries for the codes at a place.
    fn coded(&self, at: usize, table: &[f32]) -> f32 {
        let count = parts(self.header.width as usize);
        let codes = self.bytes.as_ref().get(self.starts[3] + at * count..).unwrap_or_default();
        codes.iter().take(count).zip(table.chunks_exact(CODES)).map(|(&code, part)| part[code as usize]).sum()
    }
}

fn numbers(bytes: &[u8]) -> Vec<f32> {
    bytes.as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect()
}
