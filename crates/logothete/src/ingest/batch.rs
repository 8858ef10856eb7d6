//! Collecting changes and committing them: what is missing is encoded, then new segments first, then one transaction that names them.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use logothete_core::chunk::{Chunk, ChunkId, Review, Sentence};
use logothete_core::document::{Document, Span, Value};
use logothete_core::keyword::KeywordWriter;
use logothete_core::segment::RowSet;
use logothete_core::vector::Vectors;
use logothete_core::{Error, ErrorKind, Result};

use super::contexts::Written;
use super::duplicates::{Compared, DuplicateOf, Duplicates};
use super::encode::{self, Text, Vector};
use super::languages::Languages;
use super::{BuildReport, Failure, Meter};
use crate::maintenance;
use crate::opened::Opened;
use crate::pipeline::Pipeline;
use crate::spending::Spending;
use crate::storage::{
    CatalogueReader, FileState, IndexEntry, Indexed, KnownDocument, Lease, NewChunk, NewDocument, RowId, SegmentFiles,
    Snapshot, indexed_language,
};
use crate::threads::{Driver, StopToken};

/// Changes are committed when they hold so many chunks,
const MAX_CHUNKS: u64 = 20_000;
/// or so many as fit into the memory that a build may hold, with so many bytes each: a chunk has its text, its document's, its
/// sentences, its vector, and the places of its words.
const CHUNK_BYTES: u64 = 25_000;
/// Changes are committed when the first of them is so old, so that a build that is killed loses little.
const MAX_AGE: Duration = Duration::from_secs(5);

/// A document that is new or changed.
pub(super) struct Change {
    pub replaces: Option<KnownDocument>,
    /// The source and the path of a document that was read; `None` for one that was only cut again.
    pub place: Option<(i64, String)>,
    pub document: Document,
    pub state: Option<FileState>,
    pub parser: String,
    /// The fingerprint of its chunker, if that was not the pipeline's.
    pub chunker: Option<String>,
    /// The metadata that the source and the request gave, as JSON.
    pub given: String,
    /// A document with the same content at another place.
    pub like: Option<KnownDocument>,
    pub chunks: Vec<Chunk>,
    /// The statements of the chunks, for comparison with others.
    pub compared: Vec<Compared>,
    /// The written contexts of its chunks.
    pub written: Written,
}

/// What of a document has to be encoded.
struct Prepared {
    entries: Vec<IndexEntry>,
    wanted: Vec<Text>,
    /// The vectors of chunks that it had before.
    kept: HashMap<ChunkId, Vec<f32>>,
}

/// Returns `true` for an error that says something of one document. Others, such as a full disk, stand in the way of all.
fn is_of_a_document(error: &Error) -> bool {
    matches!(
        error.kind(),
        ErrorKind::Unreadable | ErrorKind::Unsupported | ErrorKind::Limit | ErrorKind::InvalidRequest
    )
}

/// Where the content of a document was found.
struct Moved {
    name: String,
    /// The number of chunks there that repeat its chunks.
    repeated: usize,
}

/// The counts of a report that a discarded batch takes back.
#[derive(Clone, Copy, Default)]
struct Done {
    added: usize,
    changed: usize,
    moved: usize,
    removed: usize,
    repeated: usize,
    warnings: usize,
}

impl Done {
    fn of(report: &BuildReport) -> Self {
        let BuildReport { added, changed, moved, removed, repeated, .. } = *report;
        Self { added, changed, moved, removed, repeated, warnings: report.warnings.len() }
    }
}

/// A chunk that is indexed again.
enum Place {
    /// By its change, and its position there.
    Change(usize, usize),
    /// By its position among the updates.
    Update(usize),
}

/// The changes of the next commit.
pub(crate) struct Batch<'a> {
    opened: &'a Opened,
    driver: &'a Driver,
    lease: &'a Lease,
    spending: &'a Spending,
    snapshot: Option<Arc<Snapshot>>,
    changes: Vec<Change>,
    /// How each chunk of each change is indexed. The segment is not known yet.
    entries: Vec<Vec<IndexEntry>>,
    repeats: Duplicates,
    /// The vectors of what is indexed, in the order of the rows.
    vectors: Vectors,
    keywords: KeywordWriter,
    removed: Vec<i64>,
    /// Documents whose content was found at another place.
    moved: HashMap<i64, Moved>,
    /// The old and the new name of each document that has moved.
    renamed: Vec<(String, String)>,
    touched: Vec<(i64, FileState)>,
    since: Instant,
    review: Review,
    languages: Languages,
    /// Whether the encoder has encoded something.
    has_encoded: bool,
    /// What the report said at the last commit.
    committed: Done,
    /// Documents that could not be encoded and cannot be the next time, and why.
    hopeless: Vec<(String, String)>,
}

impl<'a> Batch<'a> {
    pub(crate) fn new(opened: &'a Opened, driver: &'a Driver, lease: &'a Lease, spending: &'a Spending) -> Self {
        let vectors = Vectors::new(opened.encoder.dimensions());
        Self {
            opened,
            driver,
            lease,
            spending,
            snapshot: None,
            changes: Vec::new(),
            entries: Vec::new(),
            repeats: Duplicates::default(),
            vectors,
            keywords: KeywordWriter::new(opened.config().index.fields),
            removed: Vec::new(),
            moved: HashMap::new(),
            renamed: Vec::new(),
            touched: Vec::new(),
            since: Instant::now(),
            review: Review::default(),
            languages: Languages::default(),
            has_encoded: false,
            committed: Done::default(),
            hopeless: Vec::new(),
        }
    }

    /// Remarks about the chunks and the encoding of the documents.
    pub(super) fn advice(&self) -> Vec<String> {
        let mut advice = self.review.advice(&*self.opened.chunking.chunker);
        advice.extend(self.languages.advice(&*self.opened.encoder));
        advice.extend(self.opened.pipeline.reading_advice());
        advice
    }

    /// Returns the documents that could not be encoded since the last call, and cannot be the next time, and why.
    pub(super) fn take_hopeless(&mut self) -> Vec<(String, String)> {
        std::mem::take(&mut self.hopeless)
    }

    /// Notes that a file was seen unchanged.
    pub(super) fn touch(&mut self, touched: Option<(i64, FileState)>) {
        self.touched.extend(touched);
    }

    /// Returns `true` if the content of a document was found at another place.
    pub(super) fn is_moved(&self, document: i64) -> bool {
        self.moved.contains_key(&document)
    }

    /// Records that a document is removed or moved.
    pub(crate) fn remove(&mut self, known: &KnownDocument, report: &mut BuildReport) {
        if let Some(Moved { name, repeated }) = self.moved.remove(&known.id) {
            self.renamed.push((known.name.clone(), name));
            report.moved += 1;
            report.added = report.added.saturating_sub(1);
            // The moved document does not repeat itself.
            report.repeated = report.repeated.saturating_sub(repeated);
        } else {
            report.removed += 1;
        }
        self.removed.push(known.id);
        self.repeats.leave_out(known.id);
    }

    /// Encodes the chunks of some documents and adds them. Chunks that were there before keep their vectors. When it is
    /// stopped, or would spend too much, the documents that are not all encoded are left out.
    ///
    /// A document that cannot be encoded or kept becomes a failure of the report. Any other error comes after a commit of what was added before.
    pub(super) fn add(
        &mut self,
        changes: Vec<Change>,
        stop: &StopToken,
        report: &mut BuildReport,
        meter: &mut Meter<'_>,
    ) -> Result<()> {
        if let Err(error) = self.add_all(changes, stop, report, meter) {
            self.commit(report)?;
            return Err(error);
        }
        let max = (self.opened.config().limits.memory_bytes() / CHUNK_BYTES).min(MAX_CHUNKS);
        if self.vectors.len() as u64 >= max || self.since.elapsed() >= MAX_AGE {
            self.commit(report)?;
        }
        Ok(())
    }

    /// Encodes some documents together; if one of them is at fault, one by one. One that is at fault alone becomes a failure.
    fn add_all(
        &mut self,
        changes: Vec<Change>,
        stop: &StopToken,
        report: &mut BuildReport,
        meter: &mut Meter<'_>,
    ) -> Result<()> {
        match (self.encode(&changes, stop, meter), &changes[..]) {
            (Ok((prepared, encoded)), _) => return self.add_encoded(changes, prepared, encoded, report, meter),
            (Err(error), all) => {
                self.forget_prepared();
                // An encoder that has encoded nothing yet is at fault itself, unless it was not asked.
                if !is_of_a_document(&error) || !(self.has_encoded || error.kind() == ErrorKind::Limit) {
                    return Err(error);
                }
                if let [one] = all {
                    let (document, reason) = (one.document.name.clone(), error.to_string());
                    meter.next(&document);
                    if encode::fails_again(&error) {
                        self.hopeless.push((document.clone(), reason.clone()));
                    }
                    report.failed.push(Failure { document, reason });
                    return Ok(());
                }
            }
        }
        changes.into_iter().try_for_each(|change| self.add_all(vec![change], stop, report, meter))
    }

    /// Finds out what has to be encoded of some documents, and encodes it.
    fn encode(
        &mut self,
        changes: &[Change],
        stop: &StopToken,
        meter: &mut Meter<'_>,
    ) -> Result<(Vec<Prepared>, encode::Encoded)> {
        let prepared: Vec<Prepared> = changes.iter().map(|change| self.prepare(change)).collect::<Result<_>>()?;
        let names = changes.iter().map(|change| change.document.name.as_str());
        let wanted: Vec<(&str, &[Text])> = names.zip(prepared.iter().map(|one| one.wanted.as_slice())).collect();
        let known: Vec<Option<&Vec<f32>>> =
            prepared.iter().flat_map(|one| one.wanted.iter().map(|wanted| one.kept.get(&wanted.chunk))).collect();
        let (opened, driver) = (self.opened, self.driver);
        let encoding = encode::Encoding { opened, driver, spending: self.spending, stop: Some(stop) };
        let encoded = encoding.run(&wanted, &known, meter)?;
        Ok((prepared, encoded))
    }

    /// Adds documents with their vectors. From the first one on that lacks some, they are left out: later ones may say the same, and would point to it.
    fn add_encoded(
        &mut self,
        changes: Vec<Change>,
        prepared: Vec<Prepared>,
        encoded: encode::Encoded,
        report: &mut BuildReport,
        meter: &mut Meter<'_>,
    ) -> Result<()> {
        report.encoded_tokens += encoded.tokens;
        self.has_encoded |= encoded.tokens > 0;
        let mut vectors = encoded.vectors.into_iter();
        for (change, one) in changes.into_iter().zip(prepared) {
            let vectors: Option<Vec<Vector>> = vectors.by_ref().take(one.wanted.len()).collect();
            let Some(vectors) = vectors else {
                self.forget_prepared();
                break;
            };
            let name = change.document.name.clone();
            self.add_one(change, one, vectors, report)?;
            meter.next(&name);
        }
        Ok(())
    }

    /// Forgets the chunks of documents that were prepared and are not added after all. No other may point to them.
    fn forget_prepared(&mut self) {
        self.repeats = Duplicates::default();
        self.removed.iter().for_each(|document| self.repeats.leave_out(*document));
        for (change, entries) in self.changes.iter().zip(&self.entries) {
            change.replaces.iter().for_each(|known| self.repeats.leave_out(known.id));
            let chunks = change.chunks.iter().zip(&change.compared).zip(entries);
            for ((chunk, compared), _) in chunks.filter(|(_, entry)| entry.duplicate_of.is_none()) {
                self.repeats.add(&chunk.id, compared);
            }
        }
    }

    /// Finds out what of a document has to be encoded.
    fn prepare(&mut self, change: &Change) -> Result<Prepared> {
        if let Some(known) = &change.replaces {
            self.repeats.leave_out(known.id);
        }
        let catalogue = self.opened.storage.read()?;
        let mut entries = Vec::with_capacity(change.chunks.len());
        let mut bodies: Vec<Option<String>> = Vec::with_capacity(change.chunks.len());
        for (chunk, compared) in change.chunks.iter().zip(&change.compared) {
            let held = (chunk.text.as_str(), chunk.span, chunk.sentences.as_slice());
            let (entry, body) = self.entry(&*catalogue, &chunk.id, held, compared)?;
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
            Some(Text::new(at, chunk.id.clone(), indexed))
        });
        let wanted: Vec<Text> = wanted.collect();
        let kept = self.kept_vectors(change, &wanted)?;
        Ok(Prepared { entries, wanted, kept })
    }

    /// Adds a document whose chunks are encoded.
    fn add_one(
        &mut self,
        change: Change,
        prepared: Prepared,
        vectors: Vec<Vector>,
        report: &mut BuildReport,
    ) -> Result<()> {
        let Prepared { mut entries, wanted, .. } = prepared;
        match &change.replaces {
            Some(_) => report.changed += 1,
            None => report.added += 1,
        }
        let repeated = || entries.iter().filter_map(|entry| entry.duplicate_of.as_ref());
        if let Some(like) = &change.like {
            let repeated: Vec<ChunkId> = repeated().cloned().collect();
            let owners = self.opened.storage.read()?.owners(&repeated)?;
            let is_own = |chunk: &&ChunkId| owners.get(*chunk).is_some_and(|owner| owner.document == like.name);
            let repeated = repeated.iter().filter(is_own).count();
            self.moved.entry(like.id).or_insert(Moved { name: change.document.name.clone(), repeated });
        }
        report.contexts += change.written.asked;
        report.contexts_cached += change.written.cached;
        report.tokens += change.written.tokens;
        report.repeated += repeated().count();
        let (chunker, encoder) = (&*self.opened.chunking.chunker, &*self.opened.encoder);
        Pipeline::review(&mut self.review, &change.document, &change.chunks, chunker, encoder);
        self.languages.add(&change.document);
        let name = &change.document.name;
        let warnings = change.document.warnings.iter();
        report.warnings.extend(warnings.map(|reason| Failure { document: name.clone(), reason: reason.clone() }));
        for (Text { at, indexed, .. }, encoded) in wanted.iter().zip(vectors) {
            match encoded.fresh {
                true => report.encoded += 1,
                false => report.cached += 1,
            }
            entries[*at].row = Some(self.push_row(indexed, &encoded.vector)?);
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
        catalogue: &dyn CatalogueReader,
        id: &ChunkId,
        held: (&str, Span, &[Sentence]),
        compared: &Compared,
    ) -> Result<(IndexEntry, Option<String>)> {
        let sketch = compared.sketch.clone();
        let found = self.repeats.find(catalogue, held, compared)?;
        Ok(match found {
            None => {
                self.repeats.add(id, compared);
                (IndexEntry { sketch, ..IndexEntry::default() }, Some(held.0.to_owned()))
            }
            Some(DuplicateOf { of, beyond }) => {
                (IndexEntry { duplicate_of: Some(of), indexed: beyond.clone(), row: None, sketch }, beyond)
            }
        })
    }

    /// Adds a row to the segment to be written. Its segment is not known yet.
    fn push_row(&mut self, indexed: &Indexed, vector: &[f32]) -> Result<RowId> {
        let row = self.vectors.len() as u32;
        self.vectors.push(vector)?;
        indexed.write(&mut self.keywords);
        Ok(RowId { segment: 0, row })
    }

    /// Looks again at chunks that repeat a chunk that is about to go: another may say the same, or they are indexed themselves now.
    /// Returns the new entries of those in the catalogue; `None` if the budget is spent.
    fn resettle(&mut self, report: &mut BuildReport) -> Result<Option<Vec<(ChunkId, IndexEntry)>>> {
        let catalogue = self.opened.storage.read()?;
        let documents: Vec<i64> = self.repeats.gone().collect();
        if documents.is_empty() {
            return Ok(Some(Vec::new()));
        }
        let mut gone = catalogue.chunks_of(&documents)?;
        gone.retain(|id| !self.repeats.holds(id));
        let mut left = catalogue.duplicates_of(&gone)?;
        left.retain(|(_, document)| !self.repeats.is_gone(*document));
        let left: Vec<ChunkId> = left.into_iter().map(|(id, _)| id).collect();
        let gone: HashSet<ChunkId> = gone.into_iter().collect();
        if gone.is_empty() {
            return Ok(Some(Vec::new()));
        }
        let mut wanted: Vec<Text> = Vec::new();
        let mut places: Vec<Place> = Vec::new();
        for change in 0..self.changes.len() {
            for at in 0..self.entries[change].len() {
                if self.entries[change][at].duplicate_of.as_ref().is_some_and(|same| gone.contains(same)) {
                    let Change { document, chunks, compared, .. } = &self.changes[change];
                    let (chunk, compared) = (chunks[at].clone(), compared[at].clone());
                    let language = document.metadata.get("language").and_then(Value::as_text).map(str::to_owned);
                    let indexed = Indexed {
                        document: document.name.clone(),
                        title: document.title.clone(),
                        section: chunk.section.clone(),
                        context: chunk.context.clone(),
                        body: String::new(),
                        language: indexed_language(language.as_deref()),
                    };
                    let held = (chunk.text.as_str(), chunk.span, chunk.sentences.as_slice());
                    let (entry, body) = self.entry(&*catalogue, &chunk.id, held, &compared)?;
                    self.entries[change][at] = entry;
                    if let Some(body) = body {
                        wanted.push(Text::new(wanted.len(), chunk.id.clone(), Indexed { body, ..indexed }));
                        places.push(Place::Change(change, at));
                    }
                }
            }
        }
        let mut updates = Vec::new();
        let owners = catalogue.owners(&left)?;
        for passage in catalogue.passages(&left)? {
            let id = passage.chunk.clone();
            let held = (passage.text.as_str(), passage.location.span, passage.sentences.as_slice());
            let (entry, body) = self.entry(&*catalogue, &id, held, &Compared::of_passage(&passage))?;
            if let Some(body) = body {
                let indexed = Indexed {
                    document: passage.location.document.clone(),
                    title: passage.location.title.clone(),
                    section: passage.location.section.clone(),
                    context: passage.context.clone(),
                    body,
                    language: owners.get(&id).and_then(|owner| owner.language),
                };
                wanted.push(Text::new(wanted.len(), id.clone(), indexed));
                places.push(Place::Update(updates.len()));
            }
            updates.push((id, entry));
        }
        // A document that has moved has the vectors of its old place.
        let before = self.vectors_of(&*catalogue, &documents)?;
        drop(catalogue);
        let known: Vec<Option<&Vec<f32>>> = wanted.iter().map(|text| before.get(&text.text)).collect();
        let (opened, driver) = (self.opened, self.driver);
        // They are few, and without them what was read could not be kept when the work is stopped.
        let encoding = encode::Encoding { opened, driver, spending: self.spending, stop: None };
        // The limits apply to each text by itself.
        let texts: Vec<(&str, &[Text])> = wanted.chunks(1).map(|one| (one[0].indexed.document.as_str(), one)).collect();
        let encoded = encoding.run(&texts, &known, &mut Meter::silent())?;
        report.encoded_tokens += encoded.tokens;
        let Some(vectors) = encoded.vectors.into_iter().collect::<Option<Vec<Vector>>>() else { return Ok(None) };
        for ((text, vector), place) in wanted.iter().zip(vectors).zip(places) {
            match vector.fresh {
                true => report.encoded += 1,
                false => report.cached += 1,
            }
            let row = Some(self.push_row(&text.indexed, &vector.vector)?);
            match place {
                Place::Change(change, at) => self.entries[change][at].row = row,
                Place::Update(at) => updates[at].1.row = row,
            }
        }
        Ok(Some(updates))
    }

    /// Returns the vectors of chunks that a document had before and has again, here or at another place, with the same context.
    fn kept_vectors(&mut self, change: &Change, wanted: &[Text]) -> Result<HashMap<ChunkId, Vec<f32>>> {
        let Some(known) = change.replaces.as_ref().or(change.like.as_ref()) else {
            return Ok(HashMap::new());
        };
        let before = self.vectors_of(&*self.opened.storage.read()?, &[known.id])?;
        let same = wanted.iter().filter_map(|wanted| Some((wanted.chunk.clone(), before.get(&wanted.text)?.clone())));
        Ok(same.collect())
    }

    /// Returns the vectors of some documents in the catalogue, by the text that was encoded.
    fn vectors_of(&mut self, catalogue: &dyn CatalogueReader, documents: &[i64]) -> Result<HashMap<String, Vec<f32>>> {
        let snapshot = match &self.snapshot {
            Some(snapshot) => snapshot.clone(),
            None => self.snapshot.insert(self.opened.snapshot()?).clone(),
        };
        let texts = catalogue.encoded_texts(documents)?.into_iter();
        Ok(texts.filter_map(|(_, row, text)| Some((text, snapshot.vector(row?)?))).collect())
    }

    /// Writes a segment and commits. If the budget is spent before everything was encoded, the changes since the last commit are dropped. A document that
    /// the catalogue does not take becomes a failure of the report; the others are committed one by one.
    ///
    /// It does not look whether the work was stopped: what was read is kept.
    pub(crate) fn commit(&mut self, report: &mut BuildReport) -> Result<()> {
        match self.commit_together(report) {
            Err(error) if is_of_a_document(&error) && !self.changes.is_empty() => self.commit_each(report),
            committed => committed,
        }
    }

    fn commit_each(&mut self, report: &mut BuildReport) -> Result<()> {
        let (changes, removed) = (std::mem::take(&mut self.changes), std::mem::take(&mut self.removed));
        let touched = std::mem::take(&mut self.touched);
        let (moved_before, removed_before) = (report.moved, report.removed);
        self.discard(report);
        let (moved, gone) = (moved_before - report.moved, removed_before - report.removed);
        for change in changes {
            let document = change.document.name.clone();
            let added = self.add_all(vec![change], &StopToken::default(), report, &mut Meter::silent());
            if let Err(error) = added.and_then(|()| self.commit_together(report)) {
                if !is_of_a_document(&error) {
                    return Err(error);
                }
                self.discard(report);
                report.failed.push(Failure { document, reason: error.to_string() });
            }
        }
        (self.removed, self.touched) = (removed, touched);
        // What was committed just now may repeat what goes.
        self.forget_prepared();
        (report.moved, report.removed) = (report.moved + moved, report.removed + gone);
        self.commit_together(report)
    }

    /// Commits all changes in one transaction. They are still there if it fails.
    fn commit_together(&mut self, report: &mut BuildReport) -> Result<()> {
        if self.changes.is_empty() && self.removed.is_empty() && self.touched.is_empty() {
            return Ok(());
        }
        let Some(updates) = self.resettle(report)? else {
            self.discard(report);
            return Ok(());
        };
        // The cache follows a document to its new name before the catalogue does: a build that is killed in between does it again.
        for (from, to) in std::mem::take(&mut self.renamed) {
            self.opened.storage.cache.rename(&from, &to)?;
            self.opened.storage.conversations.rename_document(&from, &to)?;
        }
        let files = self.write_segment()?;
        let entries = std::mem::take(&mut self.entries);
        self.repeats = Duplicates::default();
        let (changes, removed, touched) =
            (std::mem::take(&mut self.changes), std::mem::take(&mut self.removed), std::mem::take(&mut self.touched));
        let chunker = self.opened.chunking.fingerprint();
        let chunker = chunker.as_str();
        let committed = self.opened.storage.commit(self.lease, |transaction| {
            let segment = match &files {
                Some(files) => transaction.add_segment(files)?,
                None => 0,
            };
            let placed =
                |entry: &IndexEntry| IndexEntry { row: entry.row.map(|row| RowId { segment, ..row }), ..entry.clone() };
            // Documents that are replaced go first: those that take their place have the same names.
            let replaced = changes.iter().filter(|change| change.place.is_some());
            let replaced: Vec<i64> = replaced.filter_map(|change| Some(change.replaces.as_ref()?.id)).collect();
            transaction.remove_documents(&replaced)?;
            let new: Vec<NewDocument<'_>> = changes.iter().filter_map(|change| change.new_document(chunker)).collect();
            let mut added = transaction.insert_documents(&new)?.into_iter();
            let recut: Vec<&Change> = changes.iter().filter(|change| change.place.is_none()).collect();
            let ids: Vec<i64> = recut.iter().filter_map(|change| Some(change.replaces.as_ref()?.id)).collect();
            transaction.clear_chunks(&ids, chunker)?;
            let seen = recut.iter().filter_map(|change| Some((change.replaces.as_ref()?.id, change.state.clone()?)));
            transaction.touch(&seen.collect::<Vec<_>>())?;
            for (change, entries) in changes.iter().zip(&entries) {
                let document = match &change.place {
                    Some(_) => added.next(),
                    None => change.replaces.as_ref().map(|known| known.id),
                };
                let Some(document) = document else { continue };
                let chunks = change.chunks.iter().zip(entries).enumerate();
                let chunks =
                    chunks.map(|(ordinal, (chunk, entry))| NewChunk { document, ordinal, chunk, entry: placed(entry) });
                transaction.add_chunks(&chunks.collect::<Vec<_>>())?;
            }
            let updated: Vec<_> = updates.iter().map(|(chunk, entry)| (chunk.clone(), placed(entry))).collect();
            transaction.set_entries(&updated)?;
            if let Some(files) = &files {
                // A row that was written for a chunk that then got another is dead from the beginning.
                let mut used = RowSet::new(files.rows);
                let all = entries.iter().flatten().chain(updates.iter().map(|(_, entry)| entry));
                all.filter_map(|entry| entry.row).for_each(|row| used.insert(row.row));
                transaction.mark_dead(segment, &used.missing().collect::<Vec<_>>())?;
            }
            transaction.remove_documents(&removed)?;
            transaction.touch(&touched)
        });
        if let Err(error) = committed {
            (self.changes, self.removed, self.touched) = (changes, removed, touched);
            return Err(error);
        }
        self.snapshot = None;
        self.committed = Done::of(report);
        Ok(())
    }

    /// Drops the changes since the last commit. What was encoded and generated for them is cached, and remains in the report.
    fn discard(&mut self, report: &mut BuildReport) {
        let Done { added, changed, moved, removed, repeated, warnings } = self.committed;
        (report.added, report.changed, report.moved) = (added, changed, moved);
        (report.removed, report.repeated) = (removed, repeated);
        report.warnings.truncate(warnings);
        self.changes.clear();
        self.entries.clear();
        self.repeats = Duplicates::default();
        self.vectors = Vectors::new(self.opened.encoder.dimensions());
        self.keywords = KeywordWriter::new(self.opened.config().index.fields);
        self.removed.clear();
        self.renamed.clear();
        self.touched.clear();
    }

    /// Writes what is indexed as a segment; `None` if nothing is.
    fn write_segment(&mut self) -> Result<Option<SegmentFiles>> {
        let vectors = std::mem::replace(&mut self.vectors, Vectors::new(self.opened.encoder.dimensions()));
        if vectors.is_empty() {
            return Ok(None);
        }
        self.opened.write_segment(&vectors, &mut self.keywords).map(Some)
    }

    /// Commits the rest, and merges segments if there are many, or much of them is dead, unless it is stopped or the time is over.
    pub(crate) fn finish(mut self, stop: &StopToken, report: &mut BuildReport) -> Result<()> {
        self.commit(report)?;
        // The next build does it.
        if self.spending.is_late() {
            return Ok(());
        }
        maintenance::settle(self.opened, self.driver, self.lease, stop)
    }
}

impl Change {
    /// Returns the document to be added; `None` for one that was only cut again.
    fn new_document<'a>(&'a self, chunker: &'a str) -> Option<NewDocument<'a>> {
        let (source, path) = self.place.as_ref()?;
        let chunker = self.chunker.as_deref().unwrap_or(chunker);
        let (document, state, parser, given) = (&self.document, self.state.as_ref()?, &self.parser, &self.given);
        Some(NewDocument { source: *source, path, document, state, parser, chunker, given })
    }
}
