//! An approximate index of nearest neighbours: a graph with links between near rows. A search walks along the links and compares few rows.
//!
//! The method is the hierarchical navigable small world of Malkov and Yashunin (2018). Every row is in the lowest layer, one in
//! sixteen in the layer above, and so on. A search starts in the topmost layer and goes down. It compares rows by their codes, and
//! the last candidates by their full vectors. The cost grows with the logarithm of the number of rows. The results are nearly always those of
//! the exact search.
//!
//! The body of a segment follows the header; all numbers are `u32`, little-endian. Sixteen numbers: the entry node of the topmost
//! layer, then the number of nodes of each layer from the lowest, zero for missing layers. The links of the lowest layer. For each
//! layer above it: the row of each node, ascending, its number in the layer below, and its links. A node has `width` links in the
//! lowest layer and half as many in the others; unused places have the highest number.

mod build;
mod layer;
mod select;
mod walk;

use std::io::Write;

use super::code_scorer::CodeScorer;
use super::codes::QueryCodes;
use super::exact::{self, Candidate};
use super::segment::VectorIndex;
use crate::error::{Error, ErrorKind, Result};
use crate::segment::{self, BodyWriter, HEADER, Kind, SegmentHeader};
use crate::segment::{Hit, RowSet};
use build::Built;
use layer::{Layer, Word};
use walk::{Allowed, Walker};

/// The number of numbers before the layers.
const FRONT: usize = 16;
/// The lowest number of near rows that a search keeps while it walks.
const EFFORT: usize = 100;
/// If fewer than one row in so many is live, the walk skips those that are not.
const FEW: u32 = 2;
/// If at most so many rows are live, or one in so many, they are scanned.
const NARROW: (u32, u32) = (2_000, 50);

/// Links the rows of a segment of vectors on all threads of the current pool, writes the body of the graph, and returns its
/// header. The same rows give the same graph on any number of threads. Returns `None` if the segment has the first version of
/// the format, which has no codes, or if `stop` returns `true`; it is asked regularly.
///
/// Holds about 150 bytes a row besides the vectors.
///
/// # Errors
/// If writing fails.
pub fn write_ann_graph<B: AsRef<[u8]> + Sync>(
    vectors: &VectorIndex<B>,
    mut to: impl Write,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<SegmentHeader>> {
    let Some(rows) = vectors.as_rows() else { return Ok(None) };
    let Some(Built { layers, entry }) = build::build(&rows, stop) else { return Ok(None) };
    let mut front = [0; FRONT];
    front[0] = entry;
    for (place, layer) in front[1..].iter_mut().zip(&layers) {
        *place = (layer.links.len() / layer.width) as u32;
    }
    let mut body = BodyWriter::new(&mut to);
    body.put(&front.map(u32::to_le_bytes).concat())?;
    for layer in &layers {
        for words in [&layer.rows, &layer.below, &layer.links] {
            body.put(words.as_flattened())?;
        }
    }
    Ok(Some(body.finish(Kind::Graph, rows.rows, build::LINKS as u32 * 2, 0)))
}

/// A graph over a segment of vectors, read in place.
pub struct AnnGraph<B> {
    bytes: B,
    header: segment::Header,
    entry: u32,
    /// The number of nodes of each layer, and its start.
    layers: Vec<(usize, usize)>,
}

impl<B> std::fmt::Debug for AnnGraph<B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AnnGraph").finish_non_exhaustive()
    }
}

impl<B: AsRef<[u8]>> AnnGraph<B> {
    /// Opens a segment. Reads its header only.
    ///
    /// # Errors
    /// If the bytes are not a whole graph of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Graph)?;
        let damaged = || {
            let message = "this index segment is damaged: its layers do not fit it; rebuild the corpus";
            Error::new(ErrorKind::Corpus, message)
        };
        let words = bytes.as_ref()[HEADER..].as_chunks::<4>().0;
        let front: Vec<u32> = words.iter().take(FRONT).map(|&word| u32::from_le_bytes(word)).collect();
        let [entry, nodes @ ..] = front.as_slice() else { return Err(damaged()) };
        let (mut layers, mut end) = (Vec::new(), FRONT);
        for &nodes in nodes.iter().take_while(|&&nodes| nodes > 0) {
            layers.push((nodes as usize, end));
            let each = if layers.len() == 1 { header.width as usize } else { 2 + header.width as usize / 2 };
            end += nodes as usize * each;
        }
        let whole = HEADER + end * 4 == bytes.as_ref().len();
        let all = layers.first().map_or(0, |&(nodes, _)| nodes) == header.rows as usize;
        if !whole || !all || (header.rows > 0 && header.width < 2) {
            return Err(damaged());
        }
        Ok(Self { entry: *entry, bytes, header, layers })
    }

    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// If a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// Returns the number of rows that it links.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    fn layer(&self, at: usize) -> Layer<'_> {
        let words: &[Word] = self.bytes.as_ref()[HEADER..].as_chunks().0;
        let Some(&(nodes, start)) = self.layers.get(at) else {
            return Layer { rows: None, below: &[], links: &[], width: 1 };
        };
        let width = self.header.width as usize;
        if at == 0 {
            return Layer { rows: None, below: &[], links: &words[start..start + nodes * width], width };
        }
        let (width, links) = (width / 2, start + 2 * nodes);
        let (rows, below) = (&words[start..start + nodes], &words[start + nodes..links]);
        Layer { rows: Some(rows), below, links: &words[links..links + nodes * width], width }
    }

    /// Returns the `count` live rows that are most similar to the query, best first; ties by row. They are nearly always those
    /// of [`VectorIndex::search`], and always have the same scores.
    ///
    /// The walk leads over dead rows. If few rows are live, they are scanned instead.
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
        let (all, alive) = (rows.rows, live.len());
        let effort = EFFORT.max(count.saturating_mul(2));
        let narrow = alive <= NARROW.0 || alive <= all / NARROW.1 || alive as usize <= effort;
        if narrow || all != self.rows() || count == 0 {
            return exact::search(&rows, &query, live, count);
        }
        let codes = QueryCodes::new(&query);
        let (centre, mut walker) = (CodeScorer::query(&rows, &codes), Walker::new());
        let mut from = vec![self.entry];
        for at in (1..self.layers.len()).rev() {
            let layer = self.layer(at);
            let near = walker.walk(&layer, &centre, &from, Allowed::All, build::DESCENT);
            from = near.iter().map(|hit| layer.below(hit.row)).collect();
        }
        let allowed = match alive {
            _ if alive == all => Allowed::All,
            _ if alive < all / FEW => Allowed::Few(live),
            _ => Allowed::Most(live),
        };
        let near = walker.walk(&self.layer(0), &centre, &from, allowed, effort);
        if near.len() < count {
            return exact::search(&rows, &query, live, count);
        }
        let candidates = near.iter().map(|hit| Candidate::of(&rows, &codes, hit.row)).collect();
        exact::in_full(&rows, &query, candidates, count)
    }
}
