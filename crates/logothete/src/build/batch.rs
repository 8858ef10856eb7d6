//! Collecting changes and committing them: new segments first, then one transaction that names them.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use logothete_core::chunk::{Chunk, ChunkId};
use logothete_core::document::Document;
use logothete_core::keyword::KeywordWriter;
use logothete_core::vector::{Role, Vectors, write_vectors};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use super::{BuildReport, Failure};
use crate::corpus::{FileState, Inner, Known, Place, Snapshot};

/// Changes are committed when they hold so many chunks.
const MOST_CHUNKS: usize = 20_000;
/// Changes are committed when the first of them is so old, so that a build that is killed loses little.
const LONGEST: Duration = Duration::from_secs(5);
/// How many texts are encoded in one call.
const ENCODE: usize = 16;
/// More segments than this are merged into one at the end of a build.
const MOST_SEGMENTS: usize = 8;

/// A document that is new, or is to replace what is there.
pub(super) struct Change {
    pub replaces: Option<Known>,
    /// The source and the path of a document that was read; nothing for one that was only cut again.
    pub place: Option<(i64, String)>,
    pub document: Document,
    pub state: Option<FileState>,
    pub parser: String,
    pub chunks: Vec<Chunk>,
}

/// What is to be committed next.
pub(super) struct Batch<'a> {
    inner: &'a Inner,
    snapshot: Option<Arc<Snapshot>>,
    changes: Vec<Change>,
    /// The vectors of all chunks of all changes, in order.
    vectors: Vectors,
    keywords: KeywordWriter,
    removed: Vec<i64>,
    touched: Vec<(i64, FileState)>,
    since: Instant,
}

impl<'a> Batch<'a> {
    pub(super) fn new(inner: &'a Inner) -> Self {
        let vectors = Vectors::new(inner.pipeline.encoder.dimensions());
        Self {
            inner,
            snapshot: None,
            changes: Vec::new(),
            vectors,
            keywords: KeywordWriter::new(),
            removed: Vec::new(),
            touched: Vec::new(),
            since: Instant::now(),
        }
    }

    /// Notes that a file was seen unchanged.
    pub(super) fn touch(&mut self, touched: Option<(i64, FileState)>) {
        self.touched.extend(touched);
    }

    /// Notes that a document is gone.
    pub(super) fn remove(&mut self, known: &Known, report: &mut BuildReport) {
        report.removed += 1;
        self.removed.push(known.id);
    }

    /// Encodes a document's chunks and adds it. Chunks that were there before keep their vectors.
    pub(super) fn add(&mut self, change: Change, report: &mut BuildReport) -> Result<()> {
        match &change.replaces {
            Some(_) => report.changed += 1,
            None => report.added += 1,
        }
        let name = &change.document.name;
        let warnings = change.document.warnings.iter();
        report.warnings.extend(warnings.map(|reason| Failure { document: name.clone(), reason: reason.clone() }));

        let kept = self.kept_vectors(&change)?;
        let texts: Vec<String> = change.chunks.iter().map(Chunk::indexed_text).collect();
        let fresh: Vec<&str> = change
            .chunks
            .iter()
            .zip(&texts)
            .filter(|(chunk, _)| !kept.contains_key(&chunk.id))
            .map(|(_, text)| text.as_str())
            .collect();
        let encoded: Vec<Vec<Vec<f32>>> =
            fresh.par_chunks(ENCODE).map(|texts| self.encode(texts)).collect::<Result<_>>()?;
        let mut encoded = encoded.into_iter().flatten();
        for (chunk, text) in change.chunks.iter().zip(&texts) {
            self.keywords.push(text);
            match kept.get(&chunk.id) {
                Some(vector) => {
                    report.cached += 1;
                    self.vectors.push(vector)?;
                }
                None => {
                    report.encoded += 1;
                    self.vectors.push(&encoded.next().unwrap_or_default())?;
                }
            }
        }
        if self.changes.is_empty() {
            self.since = Instant::now();
        }
        self.changes.push(change);
        if self.vectors.len() >= MOST_CHUNKS || self.since.elapsed() >= LONGEST {
            self.commit()?;
        }
        Ok(())
    }

    fn encode(&self, texts: &[&str]) -> Result<Vec<Vec<f32>>> {
        let vectors = self.inner.pipeline.encoder.encode(texts, Role::Passage)?;
        if vectors.len() == texts.len() {
            Ok(vectors.iter().map(<[f32]>::to_vec).collect())
        } else {
            let message =
                format!("the encoder gave {} vectors for {} texts; check the encoder", vectors.len(), texts.len());
            Err(Error::new(ErrorKind::Unreadable, message))
        }
    }

    /// The vectors of chunks that a document had before and has again, with the same context.
    fn kept_vectors(&mut self, change: &Change) -> Result<HashMap<ChunkId, Vec<f32>>> {
        let Some(known) = &change.replaces else {
            return Ok(HashMap::new());
        };
        if self.snapshot.is_none() {
            self.snapshot = Some(self.inner.snapshot()?);
        }
        let Some(snapshot) = &self.snapshot else {
            return Ok(HashMap::new());
        };
        let before: HashMap<ChunkId, (Place, String)> = self
            .inner
            .catalogue()
            .chunk_places(known.id)?
            .into_iter()
            .map(|(id, place, indexed)| (id, (place, indexed)))
            .collect();
        let same = change.chunks.iter().filter_map(|chunk| {
            let (place, indexed) = before.get(&chunk.id)?;
            let unchanged = *indexed == format!("{}\n{}", chunk.context, chunk.text);
            unchanged.then(|| snapshot.vector(*place).map(|vector| (chunk.id.clone(), vector))).flatten()
        });
        Ok(same.collect())
    }

    /// Writes segments and commits.
    pub(super) fn commit(&mut self) -> Result<()> {
        if self.changes.is_empty() && self.removed.is_empty() && self.touched.is_empty() {
            return Ok(());
        }
        let dimensions = self.vectors.dimensions();
        let vectors = std::mem::replace(&mut self.vectors, Vectors::new(dimensions));
        let keywords = std::mem::take(&mut self.keywords);
        let files = if vectors.is_empty() {
            None
        } else {
            let store = &self.inner.store;
            let names =
                (store.write(&write_vectors(&vectors), "vectors")?, store.write(&keywords.finish(), "keywords")?);
            store.sync()?;
            Some(names)
        };
        let (changes, removed, touched) =
            (std::mem::take(&mut self.changes), std::mem::take(&mut self.removed), std::mem::take(&mut self.touched));
        let chunker = self.inner.pipeline.chunker.fingerprint();
        self.inner.catalogue().commit(|catalogue| {
            let segment = match &files {
                Some((vector_file, keyword_file)) => {
                    catalogue.add_segment(vectors.len() as u32, vector_file, keyword_file)?
                }
                None => 0,
            };
            let mut row = 0;
            for change in &changes {
                let document = match (&change.place, &change.replaces, &change.state) {
                    (Some((source, path)), replaces, Some(state)) => {
                        if let Some(known) = replaces {
                            catalogue.remove_document(known.id)?;
                        }
                        catalogue.add_document(
                            *source,
                            path,
                            &change.document,
                            state,
                            &change.parser,
                            chunker.as_str(),
                        )?
                    }
                    (_, Some(known), state) => {
                        catalogue.set_chunker(known.id, chunker.as_str())?;
                        if let Some(state) = state {
                            catalogue.touch(known.id, state)?;
                        }
                        known.id
                    }
                    _ => continue,
                };
                for (ordinal, chunk) in change.chunks.iter().enumerate() {
                    catalogue.add_chunk(document, ordinal, chunk, Place { segment, row })?;
                    row += 1;
                }
            }
            for id in &removed {
                catalogue.remove_document(*id)?;
            }
            for (id, state) in &touched {
                catalogue.touch(*id, state)?;
            }
            Ok(())
        })?;
        self.snapshot = None;
        self.inner.refresh();
        Ok(())
    }

    /// Commits the rest, merges segments when there are many or much of them is dead, and sweeps files that nobody names.
    pub(super) fn finish(mut self) -> Result<()> {
        self.commit()?;
        let snapshot = self.inner.snapshot()?;
        let rows: u64 = snapshot.segments.iter().map(|segment| u64::from(segment.entry.rows)).sum();
        let live: u64 = snapshot.segments.iter().map(|segment| u64::from(segment.live.len())).sum();
        if snapshot.segments.len() > MOST_SEGMENTS || live * 2 < rows {
            self.merge(&snapshot)?;
        }
        let entries = self.inner.catalogue().segments()?;
        let named: HashSet<String> = entries.into_iter().flat_map(|entry| [entry.vectors, entry.keywords]).collect();
        self.inner.store.sweep(&named)
    }

    /// Writes the live rows of all segments as one.
    fn merge(&self, snapshot: &Snapshot) -> Result<()> {
        let mut vectors = Vectors::new(self.vectors.dimensions());
        let mut keywords = KeywordWriter::new();
        let mut moved = Vec::new();
        for segment in &snapshot.segments {
            for row in (0..segment.entry.rows).filter(|&row| segment.live.contains(row)) {
                let place = Place { segment: segment.entry.id, row };
                let Some(vector) = segment.vectors.row(row) else {
                    continue;
                };
                vectors.push(&vector)?;
                keywords.push(&self.inner.catalogue().indexed_text(place)?);
                moved.push(place);
            }
        }
        let store = &self.inner.store;
        let files = if moved.is_empty() {
            None
        } else {
            let names =
                (store.write(&write_vectors(&vectors), "vectors")?, store.write(&keywords.finish(), "keywords")?);
            store.sync()?;
            Some(names)
        };
        self.inner.catalogue().commit(|catalogue| {
            if let Some((vector_file, keyword_file)) = &files {
                let segment = catalogue.add_segment(moved.len() as u32, vector_file, keyword_file)?;
                for (row, from) in moved.iter().enumerate() {
                    catalogue.move_chunk(*from, Place { segment, row: row as u32 })?;
                }
            }
            for segment in &snapshot.segments {
                catalogue.remove_segment(segment.entry.id)?;
            }
            Ok(())
        })?;
        self.inner.refresh();
        Ok(())
    }
}
