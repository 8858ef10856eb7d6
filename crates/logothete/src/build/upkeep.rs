//! What is done to a whole corpus: forgetting a document for good, compacting, encoding anew.

use std::path::{Path, PathBuf};

use logothete_core::search::RowSet;
use logothete_core::vector::{VectorIndex, Vectors, merge_vectors, write_vectors};
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;

use super::batch::Batch;
use super::encoding::{self, Wanted};
use super::merge;
use super::spending::Spending;
use super::{BuildReport, Meter, StopToken};
use crate::corpus::{Cache, Indexed, Inner, SegmentEntry, SegmentFiles};
use crate::source::closest;

/// So many rows are encoded before they are written.
const ROWS: u32 = 20_000;
/// So many rows are encoded together.
const WINDOW: usize = 512;

/// What was forgotten.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Forgotten {
    /// The document.
    pub document: String,
    /// How many chunks it had.
    pub chunks: u64,
    /// Its file, where it is still there: the next build of its source would read it again.
    pub still_there: Option<PathBuf>,
}

/// Removes a document and every trace of it: its text, vectors and postings, what was cached for it, and the free pages that
/// they leave.
pub(crate) fn forget(inner: &Inner, name: &str) -> Result<Forgotten> {
    let _lock = inner.write_lock()?;
    let Some(known) = inner.catalogue().known_by_name(name)? else {
        let names = inner.catalogue().document_infos()?.into_iter().map(|info| info.document);
        let near = closest(name, names).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        return Err(Error::new(ErrorKind::NotFound, format!("this corpus has no document of this name{near}")).at(name));
    };
    let (texts, location) = {
        let catalogue = inner.catalogue();
        (catalogue.indexed_texts(known.id)?, catalogue.location_of(known.id)?)
    };
    let chunks = texts.len() as u64;
    let fingerprint = inner.pipeline.encoder.fingerprint();
    let keys: Vec<[u8; 32]> = texts.iter().map(|text| Cache::vector_key(&fingerprint, text)).collect();
    let spending = Spending::new(&inner.pipeline.settings);
    let mut batch = Batch::new(inner, &spending);
    batch.remove(&known, &mut BuildReport::default());
    batch.commit()?;
    merge::drop_dead(inner)?;
    inner.cache.forget(name, &keys)?;
    inner.let_go();
    inner.catalogue().compact()?;
    let file = Path::new(&location).join(&known.path);
    let still_there = (Path::new(&location).is_absolute() && file.exists()).then_some(file);
    Ok(Forgotten { document: name.to_owned(), chunks, still_there })
}

/// Makes one segment of all, and writes the catalogue anew without its free pages.
pub(crate) fn compact(inner: &Inner) -> Result<()> {
    let _lock = inner.write_lock()?;
    merge::all(inner)?;
    inner.let_go();
    inner.catalogue().compact()
}

/// Encodes all chunks with the pipeline's encoder, beside the vectors that are there, and then names the new ones instead. What is
/// encoded is kept as it comes, so that one that was stopped goes on where it was.
pub(crate) fn reencode(inner: &Inner, stop: &StopToken) -> Result<BuildReport> {
    let _lock = inner.unchecked_lock()?;
    let (encoder, mut report) = (&inner.pipeline.encoder, BuildReport::default());
    let entries = inner.catalogue().segments()?;
    if inner.catalogue().about("encoder")?.as_deref() == Some(encoder.fingerprint().as_str()) {
        report.chunks = inner.catalogue().count_chunks()?;
        return Ok(report);
    }
    let spending = Spending::new(&inner.pipeline.settings);
    let mut renewed: Vec<(i64, SegmentFiles)> = Vec::new();
    for entry in entries {
        let encoded = Anew { inner, stop, spending: &spending, entry: &entry, report: &mut report }.segment()?;
        let Some(vectors) = encoded else {
            report.stopped = true;
            report.capped = spending.message();
            return Ok(report);
        };
        let near = merge::near(inner, &vectors, entry.files.rows, stop)?;
        renewed.push((entry.id, SegmentFiles { vectors, near, ..entry.files.clone() }));
    }
    inner.store.sync()?;
    inner.catalogue().commit(|catalogue| {
        renewed.iter().try_for_each(|(id, files)| catalogue.set_files(*id, files))?;
        catalogue.set_encoder(&**encoder)
    })?;
    inner.let_go();
    inner.sweep()?;
    report.chunks = inner.catalogue().count_chunks()?;
    Ok(report)
}

/// Encodes a segment.
struct Anew<'a> {
    inner: &'a Inner,
    stop: &'a StopToken,
    spending: &'a Spending,
    entry: &'a SegmentEntry,
    report: &'a mut BuildReport,
}

impl Anew<'_> {
    /// The name of the new file; nothing when it was stopped, or would have spent too much.
    fn segment(&mut self) -> Result<Option<String>> {
        let (store, distance) = (&self.inner.store, self.inner.pipeline.settings.distance);
        let dimensions = self.inner.pipeline.encoder.dimensions();
        // Pieces that fit into memory, then all of them as one.
        let (mut pieces, mut from) = (Vec::new(), 0);
        while from < self.entry.files.rows || pieces.is_empty() {
            let to = self.entry.files.rows.min(from + ROWS);
            let mut vectors = Vectors::new(dimensions);
            let rows = self.inner.catalogue().indexed_rows(self.entry.id, from, to)?;
            let mut rows = rows.as_slice();
            while !rows.is_empty() {
                let (some, rest) = rows.split_at(rows.len().min(WINDOW));
                rows = rest;
                let Some(made) = self.encode(some)? else { return Ok(None) };
                for ((row, _), vector) in some.iter().zip(made) {
                    // A row that is no longer live has no direction.
                    while (vectors.len() as u32) < row - from {
                        vectors.push(&vec![0.0; dimensions])?;
                    }
                    vectors.push(&vector)?;
                }
            }
            while (vectors.len() as u32) < to - from {
                vectors.push(&vec![0.0; dimensions])?;
            }
            pieces.push(store.write("vectors", |to| write_vectors(&vectors, distance, to))?);
            from = to;
        }
        if let [one] = pieces.as_slice() {
            return Ok(Some(one.clone()));
        }
        let open = |name: &String| VectorIndex::open(store.open_file(name)?);
        let pieces: Vec<_> = pieces.iter().map(open).collect::<Result<_>>()?;
        let all: Vec<RowSet> = pieces.iter().map(|piece| RowSet::all(piece.rows())).collect();
        let parts: Vec<_> = pieces.iter().zip(&all).collect();
        store.write("vectors", |to| merge_vectors(&parts, to)).map(Some)
    }

    fn encode(&mut self, rows: &[(u32, Indexed)]) -> Result<Option<Vec<Vec<f32>>>> {
        let wanted = rows.iter().enumerate().map(|(at, (_, indexed))| Wanted {
            at,
            chunk: logothete_core::chunk::ChunkId::from_stored(String::new()),
            text: indexed.text(),
            indexed: Indexed::default(),
        });
        let wanted: Vec<Wanted> = wanted.collect();
        // Each is a document of its own as far as caps go.
        let documents: Vec<(&str, &[Wanted])> =
            rows.iter().zip(wanted.chunks(1)).map(|((_, indexed), one)| (indexed.document.as_str(), one)).collect();
        let encoding = encoding::Encoding { inner: self.inner, spending: self.spending, stop: self.stop };
        let encoded = encoding.run(&documents, &vec![None; wanted.len()], &mut Meter::silent())?;
        self.report.encoded_tokens += encoded.tokens;
        let mut vectors = Vec::with_capacity(wanted.len());
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
