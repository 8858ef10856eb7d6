//! The indexes of a corpus as of one commit.

use std::sync::{Arc, Mutex};

use logothete_core::keyword::{KeywordIndex, LiveCounts, LiveKeywords, PreparedQuery, Query, Statistics};
use logothete_core::search::{Hit, RowSet};
use logothete_core::vector::{Graph, Lists, VectorIndex};
use logothete_core::{Error, ErrorKind, Result};

use super::catalogue::{Catalogue, Place, SegmentEntry};
use super::lock;
use super::near::{GRAPH, LISTS};
use super::store::{Bytes, Store};

/// How the vectors of a segment are searched.
pub(crate) enum Near {
    /// One after the other.
    Scan,
    Graph(Graph<Bytes>),
    Lists(Lists<Bytes>),
}

/// One segment with the rows of it that are live.
pub(crate) struct Segment {
    pub entry: SegmentEntry,
    pub vectors: VectorIndex<Bytes>,
    pub keywords: KeywordIndex<Bytes>,
    pub near: Near,
    counts: LiveCounts,
}

impl Segment {
    fn open(entry: SegmentEntry, store: &Store) -> Result<Self> {
        let named = |name: &str, error: Error| if error.place().is_some() { error } else { error.at(name) };
        let files = &entry.files;
        let vectors = store.open_file(&files.vectors).and_then(VectorIndex::open);
        let vectors = vectors.map_err(|error| named(&files.vectors, error))?;
        let keywords = store.open_file(&files.keywords).and_then(KeywordIndex::open);
        let keywords = keywords.map_err(|error| named(&files.keywords, error))?;
        let near = match &files.near {
            None => Near::Scan,
            Some(name) => {
                let bytes = store.open_file(name)?;
                let opened = match name.rsplit('.').next() {
                    Some(GRAPH) => Graph::open(bytes).map(Near::Graph),
                    Some(LISTS) => Lists::open(bytes).map(Near::Lists),
                    _ => Err(Error::new(ErrorKind::Corpus, "the kind of this index file is not known")),
                };
                opened.map_err(|error| named(name, error))?
            }
        };
        let near_rows = match &near {
            Near::Scan => files.rows,
            Near::Graph(graph) => graph.rows(),
            Near::Lists(lists) => lists.rows(),
        };
        if [vectors.rows(), keywords.rows(), near_rows] != [files.rows; 3] {
            let message = "an index segment does not fit corpus.db; remove the corpus and build again";
            return Err(Error::new(ErrorKind::Corpus, message).at(&files.vectors));
        }
        let counts = LiveCounts::new(&keywords, &entry.live);
        Ok(Self { entry, vectors, keywords, near, counts })
    }

    fn keywords(&self) -> LiveKeywords<'_, Bytes> {
        LiveKeywords { index: &self.keywords, live: &self.entry.live, counts: &self.counts }
    }

    fn search_vectors(&self, query: &[f32], among: &RowSet, count: usize) -> Vec<Hit> {
        match &self.near {
            Near::Scan => self.vectors.search(query, among, count),
            Near::Graph(graph) => graph.search(&self.vectors, query, among, count),
            Near::Lists(lists) => lists.search(&self.vectors, query, among, count),
        }
    }
}

/// Rows that a search is confined to, a set for each segment.
pub(crate) type Scope = Vec<RowSet>;

/// All segments.
pub(crate) struct Snapshot {
    /// The number of the commit.
    pub commit: i64,
    pub segments: Vec<Segment>,
    /// What filters left, the latest last.
    scopes: Mutex<Vec<(String, Arc<Scope>)>>,
}

/// So many filters are remembered.
const SCOPES: usize = 16;

impl Snapshot {
    /// Opens the segments that the catalogue names. Reads headers only.
    pub(crate) fn open(catalogue: &Catalogue, store: &Store) -> Result<Self> {
        let entries = catalogue.segments()?.into_iter();
        let segments = entries.map(|entry| Segment::open(entry, store)).collect::<Result<_>>()?;
        Ok(Self { commit: catalogue.commit_number()?, segments, scopes: Mutex::default() })
    }

    /// Whether its rows are those of some segments, whatever files these have.
    pub(crate) fn has_the_rows_of(&self, entries: &[SegmentEntry]) -> bool {
        let same = |(segment, entry): (&Segment, &SegmentEntry)| {
            (segment.entry.id, &segment.entry.live) == (entry.id, &entry.live)
        };
        self.segments.len() == entries.len() && self.segments.iter().zip(entries).all(same)
    }

    /// The best places for a vector, best first.
    pub(crate) fn search_vectors(&self, query: &[f32], scope: Option<&Scope>, count: usize) -> Vec<(Place, f32)> {
        self.gather(count, |at, segment| {
            segment.search_vectors(query, scope.map_or(&segment.entry.live, |scope| &scope[at]), count)
        })
    }

    /// A query made ready for these segments.
    pub(crate) fn prepare(&self, query: &Query) -> PreparedQuery {
        PreparedQuery::new(query, &self.segments.iter().map(Segment::keywords).collect::<Vec<_>>())
    }

    /// The best places for a query, best first.
    pub(crate) fn search_keywords(
        &self,
        query: &PreparedQuery,
        scope: Option<&Scope>,
        count: usize,
    ) -> Vec<(Place, f32)> {
        self.gather(count, |at, segment| query.search(segment.keywords(), scope.map(|scope| &scope[at]), count))
    }

    /// The live rows that a query does not rule out and that are in a scope; nothing when all are.
    pub(crate) fn allowed(&self, query: &PreparedQuery, scope: Option<Scope>) -> Option<Scope> {
        if !query.is_strict() {
            return scope;
        }
        let mut allowed: Scope = Vec::with_capacity(self.segments.len());
        for (at, segment) in self.segments.iter().enumerate() {
            let mut rows = query.allowed(segment.keywords()).unwrap_or_else(|| segment.entry.live.clone());
            if let Some(scope) = &scope {
                rows.keep(&scope[at]);
            }
            allowed.push(rows);
        }
        Some(allowed)
    }

    /// A scope without rows.
    pub(crate) fn empty_scope(&self) -> Scope {
        self.segments.iter().map(|segment| RowSet::new(segment.entry.files.rows)).collect()
    }

    /// What a filter left, if it was asked for before.
    pub(crate) fn kept_scope(&self, filter: &str) -> Option<Arc<Scope>> {
        lock(&self.scopes).iter().find(|(written, _)| written == filter).map(|(_, scope)| scope.clone())
    }

    /// Remembers what a filter left.
    pub(crate) fn keep_scope(&self, filter: String, scope: &Arc<Scope>) {
        let mut scopes = lock(&self.scopes);
        if scopes.len() == SCOPES {
            scopes.remove(0);
        }
        scopes.push((filter, scope.clone()));
    }

    /// How rare each term is.
    pub(crate) fn statistics(&self, terms: &[String]) -> Statistics {
        Statistics::gather(&self.segments.iter().map(Segment::keywords).collect::<Vec<_>>(), terms)
    }

    fn gather(&self, count: usize, search: impl Fn(usize, &Segment) -> Vec<Hit>) -> Vec<(Place, f32)> {
        let mut all: Vec<(Place, f32)> = Vec::new();
        for (at, segment) in self.segments.iter().enumerate() {
            let hits = search(at, segment).into_iter();
            all.extend(hits.map(|hit| (Place { segment: segment.entry.id, row: hit.row }, hit.score)));
        }
        all.sort_unstable_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        all.truncate(count);
        all
    }

    /// The place of a segment among the others.
    pub(crate) fn place_of(&self, segment: i64) -> Option<usize> {
        self.segments.binary_search_by_key(&segment, |segment| segment.entry.id).ok()
    }

    /// The vector at a place.
    pub(crate) fn vector(&self, place: Place) -> Option<Vec<f32>> {
        self.segments[self.place_of(place.segment)?].vectors.row(place.row)
    }

    /// Reads every byte of every segment and compares its checksums.
    pub(crate) fn verify(&self) -> Result<()> {
        for segment in &self.segments {
            let files = &segment.entry.files;
            segment.vectors.verify().map_err(|error| error.at(&files.vectors))?;
            segment.keywords.verify().map_err(|error| error.at(&files.keywords))?;
            match &segment.near {
                Near::Scan => Ok(()),
                Near::Graph(graph) => graph.verify(),
                Near::Lists(lists) => lists.verify(),
            }
            .map_err(|error| error.at(files.near.as_deref().unwrap_or_default()))?;
        }
        Ok(())
    }
}
