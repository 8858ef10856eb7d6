//! Collecting changes and committing them: what is missing is encoded, then new segments first, then one transaction that names them.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use logothete_core::Result;
use logothete_core::chunk::{Chunk, ChunkId, Review, Sentence};
use logothete_core::document::{Document, Span, Value};
use logothete_core::keyword::KeywordWriter;
use logothete_core::search::RowSet;
use logothete_core::vector::{Vectors, write_vectors};

use super::contexts::Written;
use super::encoding::{self, Encoded, Wanted};
use super::languages::Languages;
use super::merge;
use super::repeats::{Compared, Repeat, Repeats};
use super::spending::Spending;
use super::{BuildReport, Failure, Meter, StopToken};
use crate::corpus::{FileState, IndexEntry, Indexed, Inner, Known, Place, SegmentFiles, Snapshot, indexed_language};

/// Changes are committed when they hold so many chunks,
const MOST_CHUNKS: u64 = 20_000;
/// or so many as fit into the memory that a build may hold, with so many bytes each: a chunk has its text, its document's, its
/// sentences, its vector, and the places of its words.
const CHUNK_BYTES: u64 = 25_000;
/// Changes are committed when the first of them is so old, so that a build that is killed loses little.
const LONGEST: Duration = Duration::from_secs(5);

/// A document that is new, or is to replace what is there.
pub(super) struct Change {
    pub replaces: Option<Known>,
    /// The source and the path of a document that was read; nothing for one that was only cut again.
    pub place: Option<(i64, String)>,
    pub document: Document,
    pub state: Option<FileState>,
    pub parser: String,
    /// What cut it, where that was not the pipeline's chunker.
    pub chunker: Option<String>,
    /// A document with the same content at another place.
    pub like: Option<Known>,
    pub chunks: Vec<Chunk>,
    /// The same chunks as they are compared with others.
    pub compared: Vec<Compared>,
    /// What was written to the contexts of its chunks.
    pub written: Written,
}

/// A document, and what of it has to be encoded.
struct Prepared {
    change: Change,
    entries: Vec<IndexEntry>,
    wanted: Vec<Wanted>,
    /// The vectors of chunks that it had before.
    kept: HashMap<ChunkId, Vec<f32>>,
}

/// What is to be committed next.
pub(super) struct Batch<'a> {
    inner: &'a Inner,
    spending: &'a Spending,
    snapshot: Option<Arc<Snapshot>>,
    changes: Vec<Change>,
    /// How each chunk of each change is indexed. The segment is not known yet.
    entries: Vec<Vec<IndexEntry>>,
    repeats: Repeats,
    /// The vectors of what is indexed, in the order of the rows.
    vectors: Vectors,
    keywords: KeywordWriter,
    removed: Vec<i64>,
    /// Documents whose content was found at another place, and how many chunks there repeat theirs.
    moved: HashMap<i64, usize>,
    touched: Vec<(i64, FileState)>,
    since: Instant,
    review: Review,
    languages: Languages,
}

impl<'a> Batch<'a> {
    pub(super) fn new(inner: &'a Inner, spending: &'a Spending) -> Self {
        let vectors = Vectors::new(inner.pipeline.encoder.dimensions());
        Self {
            inner,
            spending,
            snapshot: None,
            changes: Vec::new(),
            entries: Vec::new(),
            repeats: Repeats::default(),
            vectors,
            keywords: KeywordWriter::new(inner.pipeline.settings.fields),
            removed: Vec::new(),
            moved: HashMap::new(),
            touched: Vec::new(),
            since: Instant::now(),
            review: Review::default(),
            languages: Languages::default(),
        }
    }

    /// What can be said of how the documents were cut and encoded.
    pub(super) fn advice(&self) -> Vec<String> {
        let mut advice = self.review.advice(self.inner.chunking.chunker.limit());
        advice.extend(self.languages.advice(&*self.inner.pipeline.encoder));
        advice
    }

    /// Notes that a file was seen unchanged.
    pub(super) fn touch(&mut self, touched: Option<(i64, FileState)>) {
        self.touched.extend(touched);
    }

    /// Whether the content of a document was found at another place.
    pub(super) fn is_moved(&self, document: i64) -> bool {
        self.moved.contains_key(&document)
    }

    /// Notes that a document is gone, or that it is at another place now.
    pub(super) fn remove(&mut self, known: &Known, report: &mut BuildReport) {
        if let Some(repeated) = self.moved.remove(&known.id) {
            report.moved += 1;
            report.added = report.added.saturating_sub(1);
            // What they repeated is they themselves.
            report.repeated = report.repeated.saturating_sub(repeated);
        } else {
            report.removed += 1;
        }
        self.removed.push(known.id);
        self.repeats.leave_out(known.id);
    }

    /// Encodes the chunks of some documents and adds them. Chunks that were there before keep their vectors. When it is
    /// stopped, or would spend too much, the documents that are not all encoded are left out.
    pub(super) fn add(
        &mut self,
        changes: Vec<Change>,
        stop: &StopToken,
        report: &mut BuildReport,
        meter: &mut Meter<'_>,
    ) -> Result<()> {
        let prepared: Vec<Prepared> = changes.into_iter().map(|change| self.prepare(change)).collect::<Result<_>>()?;
        let wanted = prepared.iter().map(|one| (one.change.document.name.as_str(), one.wanted.as_slice()));
        let known: Vec<Option<&Vec<f32>>> =
            prepared.iter().flat_map(|one| one.wanted.iter().map(|wanted| one.kept.get(&wanted.chunk))).collect();
        let encoding = encoding::Encoding { inner: self.inner, spending: self.spending, stop };
        let encoded = encoding.run(&wanted.collect::<Vec<_>>(), &known, meter)?;
        report.encoded_tokens += encoded.tokens;
        let mut vectors = encoded.vectors.into_iter();
        let mut left_out = false;
        for one in prepared {
            let vectors: Option<Vec<Encoded>> = vectors.by_ref().take(one.wanted.len()).collect();
            left_out |= vectors.is_none();
            let Some(vectors) = vectors.filter(|_| !left_out) else {
                // Those behind it may say what it says, and would point to it.
                one.change.replaces.iter().for_each(|known| self.repeats.take_back(known.id));
                continue;
            };
            let name = one.change.document.name.clone();
            self.add_encoded(one, vectors, report)?;
            meter.next(&name);
        }
        let most = (self.inner.pipeline.settings.memory / CHUNK_BYTES).min(MOST_CHUNKS);
        if self.vectors.len() as u64 >= most || self.since.elapsed() >= LONGEST {
            self.commit()?;
        }
        Ok(())
    }

    /// Finds out what of a document has to be encoded.
    fn prepare(&mut self, change: Change) -> Result<Prepared> {
        if let Some(known) = &change.replaces {
            self.repeats.leave_out(known.id);
        }
        let mut entries = Vec::with_capacity(change.chunks.len());
        let mut bodies: Vec<Option<String>> = Vec::with_capacity(change.chunks.len());
        for (chunk, compared) in change.chunks.iter().zip(&change.compared) {
            let held = (chunk.text.as_str(), chunk.span, chunk.sentences.as_slice());
            let (entry, body) = self.entry(&chunk.id, held, compared)?;
            entries.push(entry);
            bodies.push(body);
        }
        let language = match change.document.metadata.get("language") {
            Some(Value::Text(tag)) => indexed_language(Some(tag)),
            _ => indexed_language(None),
        };
        let each = change.chunks.iter().zip(bodies).enumerate();
        let wanted = each.filter_map(|(at, (chunk, body))| {
            let (document, title) = (change.document.name.clone(), change.document.title.clone());
            let (section, context) = (chunk.section.clone(), chunk.context.clone());
            let indexed = Indexed { document, title, section, context, body: body?, language };
            Some(Wanted { at, chunk: chunk.id.clone(), text: indexed.text(), indexed })
        });
        let wanted: Vec<Wanted> = wanted.collect();
        let kept = self.kept_vectors(&change, &wanted)?;
        Ok(Prepared { change, entries, wanted, kept })
    }

    /// Adds a document whose chunks are encoded.
    fn add_encoded(&mut self, prepared: Prepared, vectors: Vec<Encoded>, report: &mut BuildReport) -> Result<()> {
        let Prepared { change, mut entries, wanted, .. } = prepared;
        match &change.replaces {
            Some(_) => report.changed += 1,
            None => report.added += 1,
        }
        let repeated = || entries.iter().filter_map(|entry| entry.same_as.as_ref());
        if let Some(like) = &change.like {
            let catalogue = self.inner.catalogue();
            let mut own = 0;
            for chunk in repeated() {
                own += usize::from(catalogue.document_of(chunk.as_str())?.is_some_and(|(name, _)| name == like.name));
            }
            self.moved.entry(like.id).or_insert(own);
        }
        report.contexts += change.written.asked;
        report.contexts_cached += change.written.cached;
        report.tokens.sent += change.written.tokens.sent;
        report.tokens.received += change.written.tokens.received;
        report.repeated += repeated().count();
        self.inner.pipeline.review(&mut self.review, &change.chunks);
        self.languages.add(&change.document);
        let name = &change.document.name;
        let warnings = change.document.warnings.iter();
        report.warnings.extend(warnings.map(|reason| Failure { document: name.clone(), reason: reason.clone() }));
        for (Wanted { at, indexed, .. }, encoded) in wanted.iter().zip(vectors) {
            match encoded.fresh {
                true => report.encoded += 1,
                false => report.cached += 1,
            }
            entries[*at].place = Some(self.push_row(indexed, &encoded.vector)?);
        }
        if self.changes.is_empty() {
            self.since = Instant::now();
        }
        self.changes.push(change);
        self.entries.push(entries);
        Ok(())
    }

    /// How a chunk is indexed, and the text that is, if any: all of it, or what only it says.
    fn entry(
        &mut self,
        id: &ChunkId,
        held: (&str, Span, &[Sentence]),
        compared: &Compared,
    ) -> Result<(IndexEntry, Option<String>)> {
        let sketch = compared.sketch.clone();
        let found = self.repeats.find(&self.inner.catalogue(), held, compared)?;
        Ok(match found {
            None => {
                self.repeats.add(id, compared);
                (IndexEntry { sketch, ..IndexEntry::default() }, Some(held.0.to_owned()))
            }
            Some(Repeat { of, beyond }) => {
                (IndexEntry { same_as: Some(of), indexed: beyond.clone(), place: None, sketch }, beyond)
            }
        })
    }

    /// Adds a row to the segment to be written. Its segment is not known yet.
    fn push_row(&mut self, indexed: &Indexed, vector: &[f32]) -> Result<Place> {
        let row = self.vectors.len() as u32;
        self.vectors.push(vector)?;
        indexed.write(&mut self.keywords);
        Ok(Place { segment: 0, row })
    }

    /// Looks again at chunks that said what a chunk said that is about to go: another may say it, or they are indexed
    /// themselves now. Returns how those are indexed that are in the catalogue already.
    fn resettle(&mut self) -> Result<Vec<(ChunkId, IndexEntry)>> {
        let mut gone: HashSet<ChunkId> = HashSet::new();
        let mut left: Vec<ChunkId> = Vec::new();
        {
            let catalogue = self.inner.catalogue();
            for document in self.repeats.gone() {
                for id in catalogue.chunk_ids(document)?.into_iter().filter(|id| !self.repeats.holds(id)) {
                    let same = catalogue.same_as(&id)?.into_iter();
                    left.extend(same.filter(|(_, document)| !self.repeats.is_gone(*document)).map(|(id, _)| id));
                    gone.insert(id);
                }
            }
        }
        if gone.is_empty() {
            return Ok(Vec::new());
        }
        for change in 0..self.changes.len() {
            for at in 0..self.entries[change].len() {
                if self.entries[change][at].same_as.as_ref().is_some_and(|same| gone.contains(same)) {
                    let Change { document, chunks, compared, .. } = &self.changes[change];
                    let (chunk, compared) = (chunks[at].clone(), compared[at].clone());
                    let held = (chunk.text.as_str(), chunk.span, chunk.sentences.as_slice());
                    let indexed = Indexed {
                        title: document.title.clone(),
                        section: chunk.section.clone(),
                        context: chunk.context.clone(),
                        ..Indexed::default()
                    };
                    let language = document.metadata.get("language").and_then(Value::as_text).map(str::to_owned);
                    let indexed = Indexed { language: indexed_language(language.as_deref()), ..indexed };
                    self.entries[change][at] = self.index_anew(&chunk.id, indexed, held, &compared)?;
                }
            }
        }
        let mut updates = Vec::new();
        for id in left {
            let Some(passage) = self.inner.catalogue().chunk(&id)? else { continue };
            let held = (passage.text.as_str(), passage.span, passage.sentences.as_slice());
            let indexed = Indexed {
                title: passage.title.clone(),
                section: passage.section.clone(),
                context: passage.context.clone(),
                language: self.inner.catalogue().language_of(&id)?,
                ..Indexed::default()
            };
            let entry = self.index_anew(&id, indexed, held, &Compared::of_passage(&passage))?;
            updates.push((id, entry));
        }
        Ok(updates)
    }

    /// Indexes a chunk that another stood for; its body is filled in.
    fn index_anew(
        &mut self,
        id: &ChunkId,
        indexed: Indexed,
        held: (&str, Span, &[Sentence]),
        compared: &Compared,
    ) -> Result<IndexEntry> {
        let (mut entry, body) = self.entry(id, held, compared)?;
        if let Some(body) = body {
            let indexed = Indexed { body, ..indexed };
            let vector = encoding::encode(self.inner, &[&indexed.text()])?.pop().unwrap_or_default();
            entry.place = Some(self.push_row(&indexed, &vector)?);
        }
        Ok(entry)
    }

    /// The vectors of chunks that a document had before and has again, here or at another place, with the same context.
    fn kept_vectors(&mut self, change: &Change, wanted: &[Wanted]) -> Result<HashMap<ChunkId, Vec<f32>>> {
        let Some(known) = change.replaces.as_ref().or(change.like.as_ref()) else {
            return Ok(HashMap::new());
        };
        if self.snapshot.is_none() {
            self.snapshot = Some(self.inner.snapshot()?);
        }
        let Some(snapshot) = &self.snapshot else {
            return Ok(HashMap::new());
        };
        let before: HashMap<String, Place> = self
            .inner
            .catalogue()
            .chunk_places(known.id)?
            .into_iter()
            .map(|(place, indexed)| (indexed, place))
            .collect();
        let same = wanted.iter().filter_map(|wanted| {
            let place = before.get(&wanted.text)?;
            snapshot.vector(*place).map(|vector| (wanted.chunk.clone(), vector))
        });
        Ok(same.collect())
    }

    /// Writes segments and commits.
    pub(super) fn commit(&mut self) -> Result<()> {
        if self.changes.is_empty() && self.removed.is_empty() && self.touched.is_empty() {
            return Ok(());
        }
        let updates = self.resettle()?;
        let dimensions = self.vectors.dimensions();
        let vectors = std::mem::replace(&mut self.vectors, Vectors::new(dimensions));
        let settings = &self.inner.pipeline.settings;
        let files = if vectors.is_empty() {
            None
        } else {
            let store = &self.inner.store;
            let names = SegmentFiles {
                rows: vectors.len() as u32,
                vectors: store.write("vectors", |to| write_vectors(&vectors, settings.distance, to))?,
                keywords: store.write("keywords", |to| self.keywords.write(to))?,
                near: None,
            };
            store.sync()?;
            Some(names)
        };
        let entries = std::mem::take(&mut self.entries);
        self.repeats = Repeats::default();
        let (changes, removed, touched) =
            (std::mem::take(&mut self.changes), std::mem::take(&mut self.removed), std::mem::take(&mut self.touched));
        let chunker = self.inner.chunking.fingerprint();
        self.inner.catalogue().commit(|catalogue| {
            let segment = match &files {
                Some(files) => catalogue.add_segment(files)?,
                None => 0,
            };
            let placed = |entry: &IndexEntry| IndexEntry {
                place: entry.place.map(|place| Place { segment, ..place }),
                ..entry.clone()
            };
            for (change, entries) in changes.iter().zip(&entries) {
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
                            change.chunker.as_deref().unwrap_or(chunker.as_str()),
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
                for (ordinal, (chunk, entry)) in change.chunks.iter().zip(entries).enumerate() {
                    catalogue.add_chunk(document, ordinal, chunk, &placed(entry))?;
                }
            }
            for (chunk, entry) in &updates {
                catalogue.set_entry(chunk, &placed(entry))?;
            }
            if let Some(files) = &files {
                // A row that was written for a chunk that then got another is dead from the beginning.
                let mut placed = RowSet::new(files.rows);
                let places = entries.iter().flatten().chain(updates.iter().map(|(_, entry)| entry));
                places.filter_map(|entry| entry.place).for_each(|place| placed.insert(place.row));
                catalogue.note_dead(segment, placed.missing())?;
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
        Ok(())
    }

    /// Commits the rest, and merges segments where there are many or much of them is dead, unless it is stopped.
    pub(super) fn finish(mut self, stop: &StopToken) -> Result<()> {
        self.commit()?;
        merge::settle(self.inner, stop)
    }
}
