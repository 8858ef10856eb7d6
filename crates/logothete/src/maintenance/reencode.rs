//! Encoding a corpus again with another encoder.
//!
//! Only the vector files are replaced, row by row, so chunks and postings do not change. Readers have the old files mapped and
//! continue with them until documents change.

use logothete_core::Result;
use logothete_core::chunk::ChunkId;
use logothete_core::segment::RowSet;
use logothete_core::vector::{VectorIndex, Vectors, merge_vectors, write_vectors};

use super::ann;
use crate::ingest::{BuildReport, Encoding, Meter, Text};
use crate::opened::{Opened, identity};
use crate::spending::Spending;
use crate::storage::{FileKind, Indexed, SegmentEntry, SegmentFiles};
use crate::threads::{Driver, StopToken};

/// The number of rows that are encoded before they are written.
const WRITE_ROWS: u32 = 20_000;
/// The number of rows that are encoded together.
const WINDOW: usize = 512;

/// Encodes all chunks with the pipeline's encoder, beside the vectors that are there, and then names the new ones instead. Vectors
/// are cached as they are computed, so a call that was stopped continues where it was.
pub(crate) fn reencode(opened: &Opened, driver: &Driver, stop: &StopToken) -> Result<BuildReport> {
    let (storage, mut report) = (&opened.storage, BuildReport::default());
    let lease = storage.acquire()?;
    let entries = storage.read()?.segments()?;
    let ours = identity(&*opened.encoder);
    if storage.read()?.manifest()?.encoder.is_some_and(|theirs| theirs.fingerprint == ours.fingerprint) {
        report.chunks = storage.read()?.counts()?.chunks;
        return Ok(report);
    }
    let spending = Spending::new(&opened.config().limits);
    let mut renewed: Vec<(i64, SegmentFiles)> = Vec::new();
    for entry in entries {
        let encoded =
            SegmentEncoder { opened, driver, stop, spending: &spending, entry: &entry, report: &mut report }.run()?;
        let Some(vectors) = encoded else {
            report.stopped = true;
            report.capped = spending.message();
            return Ok(report);
        };
        let ann = driver.compute(|| ann::write(opened, &vectors, entry.files.rows, stop))?;
        // The tokens are encoded again by the next build.
        let files = entry.files.with(FileKind::Vectors, vectors).with_ann(ann).without(FileKind::Tokens);
        renewed.push((entry.id, files));
    }
    storage.sync()?;
    storage.commit(&lease, |transaction| {
        transaction.set_files(&renewed)?;
        transaction.set_encoder(&ours)
    })?;
    storage.release();
    storage.sweep(&lease)?;
    report.chunks = storage.read()?.counts()?.chunks;
    Ok(report)
}

/// Encodes the rows of a segment.
struct SegmentEncoder<'a> {
    opened: &'a Opened,
    driver: &'a Driver,
    stop: &'a StopToken,
    spending: &'a Spending,
    entry: &'a SegmentEntry,
    report: &'a mut BuildReport,
}

impl SegmentEncoder<'_> {
    /// Returns the name of the new file; `None` if it was stopped, or the budget is spent.
    fn run(&mut self) -> Result<Option<String>> {
        let (storage, distance) = (&self.opened.storage, self.opened.config().index.distance);
        let dimensions = self.opened.encoder.dimensions();
        // Pieces that fit into memory, then all of them as one.
        let (mut pieces, mut from) = (Vec::new(), 0);
        while from < self.entry.files.rows || pieces.is_empty() {
            let to = self.entry.files.rows.min(from + WRITE_ROWS);
            let mut vectors = Vectors::new(dimensions);
            let rows = storage.read()?.indexed_rows(self.entry.id, from, to)?;
            for some in rows.chunks(WINDOW) {
                let Some(made) = self.encode(some)? else { return Ok(None) };
                for ((row, _), vector) in some.iter().zip(made) {
                    // A row that is no longer live has a vector of zeros.
                    while (vectors.len() as u32) < row - from {
                        vectors.push(&vec![0.0; dimensions])?;
                    }
                    vectors.push(&vector)?;
                }
            }
            while (vectors.len() as u32) < to - from {
                vectors.push(&vec![0.0; dimensions])?;
            }
            pieces.push(storage.write(FileKind::Vectors, |to| write_vectors(&vectors, distance, to))?);
            from = to;
        }
        if let [one] = pieces.as_slice() {
            return Ok(Some(one.clone()));
        }
        let open = |name: &String| VectorIndex::open(storage.open_file(name)?);
        let pieces: Vec<_> = pieces.iter().map(open).collect::<Result<_>>()?;
        let all: Vec<RowSet> = pieces.iter().map(|piece| RowSet::all(piece.rows())).collect();
        let parts: Vec<_> = pieces.iter().zip(&all).collect();
        storage.write(FileKind::Vectors, |to| merge_vectors(&parts, to)).map(Some)
    }

    fn encode(&mut self, rows: &[(u32, Indexed)]) -> Result<Option<Vec<Vec<f32>>>> {
        let text = |(at, (_, indexed)): (usize, &(u32, Indexed))| Text {
            at,
            chunk: ChunkId::from_stored(String::new()),
            text: indexed.text(),
            indexed: Indexed::default(),
        };
        let texts: Vec<Text> = rows.iter().enumerate().map(text).collect();
        // Each counts as a document of its own where limits are concerned.
        let documents: Vec<(&str, &[Text])> =
            rows.iter().zip(texts.chunks(1)).map(|((_, indexed), one)| (indexed.document.as_str(), one)).collect();
        let encoding =
            Encoding { opened: self.opened, driver: self.driver, spending: self.spending, stop: Some(self.stop) };
        let encoded = encoding.run(&documents, &vec![None; texts.len()], &mut Meter::silent())?;
        self.report.encoded_tokens += encoded.tokens;
        let mut vectors = Vec::with_capacity(texts.len());
        for one in encoded.vectors {
            let Some(one) = one else { return Ok(None) };
            match one.fresh {
                true => self.report.encoded += 1,
                false => self.report.cached += 1,
            }
            vectors.push(one.vector);
        }
        Ok(Some(vectors))
    }
}
