//! The indexes of a corpus as of one commit.

use std::collections::HashMap;

use logothete_core::keyword::{self, KeywordIndex, Statistics};
use logothete_core::search::RowSet;
use logothete_core::vector::VectorIndex;
use logothete_core::{Error, ErrorKind, Result};

use super::catalogue::{Catalogue, Place, SegmentEntry};
use super::map::MappedFile;
use super::store::Store;

/// One segment with the rows of it that are live.
pub(crate) struct Segment {
    pub entry: SegmentEntry,
    pub vectors: VectorIndex<MappedFile>,
    pub keywords: KeywordIndex<MappedFile>,
    pub live: RowSet,
}

/// All segments.
pub(crate) struct Snapshot {
    pub segments: Vec<Segment>,
}

impl Snapshot {
    /// Opens the segments that the catalogue names. Reads headers only.
    pub(crate) fn open(catalogue: &Catalogue, store: &Store) -> Result<Self> {
        let (entries, places) = catalogue.read(|catalogue| Ok((catalogue.segments()?, catalogue.live_places()?)))?;
        let mut live: HashMap<i64, RowSet> = entries.iter().map(|entry| (entry.id, RowSet::new(entry.rows))).collect();
        for place in places {
            if let Some(set) = live.get_mut(&place.segment) {
                set.insert(place.row);
            }
        }
        let mut segments = Vec::with_capacity(entries.len());
        for entry in entries {
            let open = || -> Result<_> {
                Ok((VectorIndex::open(store.map(&entry.vectors)?)?, KeywordIndex::open(store.map(&entry.keywords)?)?))
            };
            let (vectors, keywords) = open().map_err(|error| match error.place() {
                Some(_) => error,
                None => error.at(&entry.vectors),
            })?;
            if vectors.rows() != entry.rows || keywords.rows() != entry.rows {
                return Err(Error::new(
                    ErrorKind::Corpus,
                    "an index segment does not fit corpus.db; remove the corpus and build again",
                ));
            }
            let live = live.remove(&entry.id).unwrap_or_default();
            segments.push(Segment { entry, vectors, keywords, live });
        }
        Ok(Self { segments })
    }

    /// The best places for a vector, best first.
    pub(crate) fn search_vectors(&self, query: &[f32], count: usize) -> Vec<(Place, f32)> {
        self.gather(count, |segment| segment.vectors.search(query, &segment.live, count))
    }

    /// The best places for some terms, best first.
    pub(crate) fn search_keywords(&self, terms: &[String], statistics: &Statistics, count: usize) -> Vec<(Place, f32)> {
        self.gather(count, |segment| keyword::search(&segment.keywords, &segment.live, terms, statistics, count))
    }

    /// How rare each term is.
    pub(crate) fn statistics(&self, terms: &[String]) -> Statistics {
        let segments: Vec<_> = self.segments.iter().map(|segment| (&segment.keywords, &segment.live)).collect();
        Statistics::gather(&segments, terms)
    }

    fn gather(&self, count: usize, search: impl Fn(&Segment) -> Vec<logothete_core::search::Hit>) -> Vec<(Place, f32)> {
        let mut all: Vec<(Place, f32)> = Vec::new();
        for segment in &self.segments {
            all.extend(
                search(segment).into_iter().map(|hit| (Place { segment: segment.entry.id, row: hit.row }, hit.score)),
            );
        }
        all.sort_unstable_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        all.truncate(count);
        all
    }

    /// The vector at a place.
    pub(crate) fn vector(&self, place: Place) -> Option<Vec<f32>> {
        self.segments.iter().find(|segment| segment.entry.id == place.segment)?.vectors.row(place.row)
    }

    /// Reads every byte of every segment and compares its checksums.
    pub(crate) fn verify(&self) -> Result<()> {
        for segment in &self.segments {
            segment.vectors.verify().map_err(|error| error.at(&segment.entry.vectors))?;
            segment.keywords.verify().map_err(|error| error.at(&segment.entry.keywords))?;
        }
        Ok(())
    }
}
