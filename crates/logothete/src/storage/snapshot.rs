//! The indexes of a corpus as of one commit.

use std::sync::{Arc, Mutex, OnceLock};

use logothete_core::keyword::{KeywordIndex, Languages, LiveCounts, LiveKeywords, PreparedQuery, Query, Statistics};
use logothete_core::segment::{Hit, RowSet};
use logothete_core::text::Language;
use logothete_core::tree::StoredTree;
use logothete_core::vector::{AnnGraph, IvfLists, TokenIndex, VectorIndex, Vectors};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use super::blobs::{Blob, BlobStore};
use super::catalogue::{CatalogueReader, FileKind, RowId, SegmentEntry};
use super::{HeadingsIndex, Places, lock};

/// The number of filters whose rows are remembered.
const MAX_SCOPES: usize = 16;

/// The approximate index over the vectors of a segment.
pub(crate) enum Ann {
    /// There is none: the vectors are scanned.
    Scan,
    Graph(AnnGraph<Blob>),
    Lists(IvfLists<Blob>),
}

/// One segment, with the rows of it that are live.
pub(crate) struct Segment {
    pub entry: SegmentEntry,
    pub vectors: VectorIndex<Blob>,
    pub keywords: KeywordIndex<Blob>,
    pub ann: Ann,
    /// The vectors of tokens, if they are indexed.
    pub tokens: Option<TokenIndex<Blob>>,
    counts: LiveCounts,
}

impl Segment {
    fn open(entry: SegmentEntry, blobs: &dyn BlobStore) -> Result<Self> {
        let named = |name: &str, error: Error| if error.place().is_some() { error } else { error.at(name) };
        let files = &entry.files;
        let (vectors, keywords) = (files.name(FileKind::Vectors), files.name(FileKind::Keywords));
        let vectors = blobs.open(vectors).and_then(VectorIndex::open).map_err(|error| named(vectors, error))?;
        let keywords = blobs.open(keywords).and_then(KeywordIndex::open).map_err(|error| named(keywords, error))?;
        let ann = match files.ann() {
            None => Ann::Scan,
            Some((kind, name)) => {
                let bytes = blobs.open(name)?;
                let opened = match kind {
                    FileKind::Graph => AnnGraph::open(bytes).map(Ann::Graph),
                    _ => IvfLists::open(bytes).map(Ann::Lists),
                };
                opened.map_err(|error| named(name, error))?
            }
        };
        let tokens = match files.name(FileKind::Tokens) {
            "" => None,
            name => Some(blobs.open(name).and_then(TokenIndex::open).map_err(|error| named(name, error))?),
        };
        let token_rows = tokens.as_ref().map_or(files.rows, TokenIndex::rows);
        let ann_rows = match &ann {
            Ann::Scan => files.rows,
            Ann::Graph(graph) => graph.rows(),
            Ann::Lists(lists) => lists.rows(),
        };
        if [vectors.rows(), keywords.rows(), ann_rows, token_rows] != [files.rows; 4] {
            let message = "a segment of the index does not fit the catalogue; build a new corpus";
            return Err(Error::new(ErrorKind::Corpus, message).at(files.name(FileKind::Vectors)));
        }
        let counts = LiveCounts::new(&keywords, &entry.live);
        Ok(Self { entry, vectors, keywords, ann, tokens, counts })
    }

    fn keywords(&self) -> LiveKeywords<'_, Blob> {
        LiveKeywords { index: &self.keywords, live: &self.entry.live, counts: &self.counts }
    }

    fn search_vectors(&self, query: &[f32], among: &RowSet, count: usize) -> Vec<Hit> {
        match &self.ann {
            Ann::Scan => self.vectors.search(query, among, count),
            Ann::Graph(graph) => graph.search(&self.vectors, query, among, count),
            Ann::Lists(lists) => lists.search(&self.vectors, query, among, count),
        }
    }
}

/// The rows that a search may return, a set for each segment.
pub(crate) type Scope = Vec<RowSet>;

/// All segments of a corpus.
pub(crate) struct Snapshot {
    /// The number of the commit.
    pub commit: i64,
    pub segments: Vec<Segment>,
    /// The rows that filters leave, the latest last.
    scopes: Mutex<Vec<(String, Arc<Scope>)>>,
    places: OnceLock<Places>,
    headings: OnceLock<HeadingsIndex>,
    /// The file with the tree of summaries.
    tree_file: Option<Blob>,
    tree: OnceLock<Arc<StoredTree>>,
}

impl Snapshot {
    /// Opens the segments that the catalogue names. Only their headers are read.
    pub(crate) fn open(catalogue: &dyn CatalogueReader, blobs: &dyn BlobStore) -> Result<Self> {
        let entries = catalogue.segments()?.into_iter();
        let segments = entries.map(|entry| Segment::open(entry, blobs)).collect::<Result<_>>()?;
        let commit = catalogue.manifest()?.commit;
        let (places, headings, tree) = (OnceLock::new(), OnceLock::new(), OnceLock::new());
        let tree_file = catalogue.tree()?.map(|name| blobs.open(&name)).transpose()?;
        Ok(Self { commit, segments, scopes: Mutex::default(), places, headings, tree_file, tree })
    }

    /// Returns `true` if its rows are those of `entries`, whatever files these have.
    pub(crate) fn has_the_rows_of(&self, entries: &[SegmentEntry]) -> bool {
        let same = |(segment, entry): (&Segment, &SegmentEntry)| {
            (segment.entry.id, &segment.entry.live) == (entry.id, &entry.live)
        };
        self.segments.len() == entries.len() && self.segments.iter().zip(entries).all(same)
    }

    /// Returns where its rows stand in their documents. Reads the catalogue the first time; the catalogue must be of the same commit.
    pub(crate) fn places(&self, catalogue: &dyn CatalogueReader) -> Result<&Places> {
        if let Some(places) = self.places.get() {
            return Ok(places);
        }
        let places = Places::new(catalogue.places()?);
        Ok(self.places.get_or_init(|| places))
    }

    /// Returns the index of titles and headings. Made the first time, of the same commit.
    pub(crate) fn headings(&self, catalogue: &dyn CatalogueReader) -> Result<&HeadingsIndex> {
        if let Some(headings) = self.headings.get() {
            return Ok(headings);
        }
        let headings = HeadingsIndex::new(&catalogue.section_headings()?)?;
        Ok(self.headings.get_or_init(|| headings))
    }

    /// Returns the tree of summaries; `None` if there is none. Read the first time.
    ///
    /// # Errors
    /// If its file is damaged.
    pub(crate) fn tree(&self) -> Result<Option<Arc<StoredTree>>> {
        let Some(file) = &self.tree_file else { return Ok(None) };
        if let Some(tree) = self.tree.get() {
            return Ok(Some(tree.clone()));
        }
        let tree = Arc::new(StoredTree::read(file.as_ref())?);
        Ok(Some(self.tree.get_or_init(|| tree).clone()))
    }

    /// Returns the rows nearest to a vector, best first.
    pub(crate) fn search_vectors(&self, query: &[f32], scope: Option<&Scope>, count: usize) -> Vec<(RowId, f32)> {
        self.gather(count, |at, segment| {
            segment.search_vectors(query, scope.map_or(&segment.entry.live, |scope| &scope[at]), count)
        })
    }

    /// Returns the languages of its documents that have a name, once each.
    pub(crate) fn languages(&self) -> impl Iterator<Item = Language> {
        let all = self.segments.iter().fold(Languages::default(), |all, segment| all.and(segment.keywords.languages()));
        all.iter().flatten()
    }

    /// Looks up the terms of a query in all segments.
    pub(crate) fn prepare(&self, query: &Query) -> PreparedQuery {
        PreparedQuery::new(query, &self.segments.iter().map(Segment::keywords).collect::<Vec<_>>())
    }

    /// Returns the rows that fit a query best, best first.
    pub(crate) fn search_keywords(
        &self,
        query: &PreparedQuery,
        scope: Option<&Scope>,
        count: usize,
    ) -> Vec<(RowId, f32)> {
        self.gather(count, |at, segment| query.search(segment.keywords(), scope.map(|scope| &scope[at]), count))
    }

    /// Returns the live rows of a scope that a query does not rule out; `None` means all.
    pub(crate) fn allowed(&self, query: &PreparedQuery, scope: Option<Scope>) -> Option<Scope> {
        if !query.is_strict() {
            return scope;
        }
        let mut allowed: Scope = Vec::with_capacity(self.segments.len());
        for (at, segment) in self.segments.iter().enumerate() {
            let mut rows = query.allowed(segment.keywords()).unwrap_or_else(|| segment.entry.live.clone());
            if let Some(scope) = &scope {
                rows.intersect_with(&scope[at]);
            }
            allowed.push(rows);
        }
        Some(allowed)
    }

    /// Returns a scope without rows.
    pub(crate) fn empty_scope(&self) -> Scope {
        self.segments.iter().map(|segment| RowSet::new(segment.entry.files.rows)).collect()
    }

    /// Returns the rows that a filter leaves, if they are remembered.
    pub(crate) fn kept_scope(&self, filter: &str) -> Option<Arc<Scope>> {
        lock(&self.scopes).iter().find(|(written, _)| written == filter).map(|(_, scope)| scope.clone())
    }

    /// Remembers the rows that a filter leaves.
    pub(crate) fn keep_scope(&self, filter: String, scope: &Arc<Scope>) {
        let mut scopes = lock(&self.scopes);
        if scopes.len() == MAX_SCOPES {
            scopes.remove(0);
        }
        scopes.push((filter, scope.clone()));
    }

    /// Returns the inverse document frequencies of terms.
    pub(crate) fn statistics(&self, terms: &[String]) -> Statistics {
        Statistics::gather(&self.segments.iter().map(Segment::keywords).collect::<Vec<_>>(), terms)
    }

    /// Searches each segment, on all threads of the current pool, and returns the best rows of all, best first.
    fn gather(&self, count: usize, search: impl Fn(usize, &Segment) -> Vec<Hit> + Sync) -> Vec<(RowId, f32)> {
        let of_segment = |(at, segment): (usize, &Segment)| {
            let id = segment.entry.id;
            search(at, segment).into_iter().map(|hit| (RowId { segment: id, row: hit.row }, hit.score)).collect()
        };
        let found: Vec<Vec<(RowId, f32)>> = self.segments.par_iter().enumerate().map(of_segment).collect();
        let mut all = found.concat();
        all.sort_unstable_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        all.truncate(count);
        all
    }

    /// Returns `true` if the tokens of every segment are indexed.
    pub(crate) fn has_tokens(&self) -> bool {
        self.segments.iter().all(|segment| segment.tokens.is_some())
    }

    /// Returns the rows whose tokens are most like those of a query, best first. Scores are sums of cosines.
    pub(crate) fn search_tokens(&self, query: &Vectors, scope: Option<&Scope>, count: usize) -> Vec<(RowId, f32)> {
        self.gather(count, |at, segment| {
            let among = scope.map_or(&segment.entry.live, |scope| &scope[at]);
            segment.tokens.as_ref().map(|tokens| tokens.search(query, None, Some(among), count)).unwrap_or_default()
        })
    }

    /// Returns the score of each of some rows by the tokens of a query; `None` for a row whose tokens are not indexed.
    pub(crate) fn token_scores(&self, query: &Vectors, rows: &[RowId]) -> Vec<Option<f32>> {
        let mut scores = vec![None; rows.len()];
        for segment in &self.segments {
            let Some(tokens) = &segment.tokens else { continue };
            let here: Vec<usize> = (0..rows.len()).filter(|at| rows[*at].segment == segment.entry.id).collect();
            let local: Vec<u32> = here.iter().map(|at| rows[*at].row).collect();
            for (at, score) in here.into_iter().zip(tokens.scores(query, None, &local)) {
                scores[at] = Some(score);
            }
        }
        scores
    }

    /// Returns the position of a segment among the others.
    pub(crate) fn position_of(&self, segment: i64) -> Option<usize> {
        self.segments.binary_search_by_key(&segment, |segment| segment.entry.id).ok()
    }

    /// Returns the vector of a row.
    pub(crate) fn vector(&self, row: RowId) -> Option<Vec<f32>> {
        self.segments[self.position_of(row.segment)?].vectors.row(row.row)
    }

    /// Reads every byte of every segment and compares its checksums, until `is_stopped` returns `true`.
    pub(crate) fn verify(&self, is_stopped: &dyn Fn() -> bool) -> Result<()> {
        for segment in &self.segments {
            let files = &segment.entry.files;
            let (_, ann) = files.ann().unwrap_or((FileKind::Graph, ""));
            segment.vectors.verify().map_err(|error| error.at(files.name(FileKind::Vectors)))?;
            segment.keywords.verify().map_err(|error| error.at(files.name(FileKind::Keywords)))?;
            match &segment.ann {
                Ann::Scan => Ok(()),
                Ann::Graph(graph) => graph.verify(),
                Ann::Lists(lists) => lists.verify(),
            }
            .map_err(|error| error.at(ann))?;
            if let Some(tokens) = &segment.tokens {
                tokens.verify().map_err(|error| error.at(files.name(FileKind::Tokens)))?;
            }
            if is_stopped() {
                return Err(Error::new(ErrorKind::Cancelled, "the verification was stopped"));
            }
        }
        self.tree()?;
        Ok(())
    }
}
