//! Finding passages: legs, fusion, and the passages of the best rows.

use std::sync::Arc;
use std::time::Instant;

use logothete_core::document::Value;
use logothete_core::keyword::Query;
use logothete_core::search::{Filter, Passage, Ranking, fuse};
use logothete_core::trace::{LegRecord, Misspelt, PassageRecord, Trace, TraceDetails};
use logothete_core::{Error, ErrorKind, Result, round_milliseconds};
use serde::{Serialize, Serializer};

use super::fields::Fields;
use super::legs::{LEGS, LegInput, leg, misspelt};
use super::request::{SearchRequest, Sort, unknown_leg};
use super::scope::{scope, visible};
use super::vectors::QueryVectors;
use crate::opened::Opened;
use crate::storage::{CatalogueReader, RowId, View};
use crate::threads::StopToken;
use crate::trace::{Recorder, milliseconds};

/// The result of a search.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct SearchResult {
    /// The query, as it was given.
    pub query: String,
    /// The filter.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Words that no document has, and the terms that were searched instead.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub misspelt: Vec<Misspelt>,
    /// The passages, best first.
    pub passages: Vec<Passage>,
    /// How long the search took, in milliseconds.
    #[serde(serialize_with = "to_microseconds")]
    pub took_ms: f64,
    /// The trace; empty unless the request [asked](SearchRequest::traced) for it.
    #[serde(skip_serializing_if = "Trace::is_empty")]
    pub trace: Trace,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
fn to_microseconds<S: Serializer>(value: &f64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(round_milliseconds(*value))
}

/// Searches the corpus as of one view.
pub(crate) struct Searcher<'a> {
    pub opened: &'a Opened,
    pub view: &'a View,
    pub vectors: &'a QueryVectors,
    pub stop: &'a StopToken,
}

/// The result of a query.
pub(crate) struct Found {
    pub passages: Vec<Passage>,
    pub misspelt: Vec<Misspelt>,
}

/// Searches for some requests.
pub(crate) fn search_all(
    opened: &Opened,
    view: &View,
    requests: &[SearchRequest],
    vectors: &QueryVectors,
    stop: &StopToken,
) -> Result<Vec<SearchResult>> {
    let searcher = Searcher { opened, view, vectors, stop };
    requests.iter().map(|request| searcher.search(request)).collect()
}

impl Searcher<'_> {
    /// Searches for one request.
    pub(crate) fn search(&self, request: &SearchRequest) -> Result<SearchResult> {
        let started = Instant::now();
        let query = if request.plain { Query::plain(&request.query) } else { Query::parse(&request.query) };
        let mut recorder = Recorder::new(request.traced);
        let found = self.find(&query, request, &mut recorder);
        let (Found { passages, misspelt }, trace) = recorder.attach(found)?;
        let filter = self.filter(request).map(|filter| filter.to_string());
        let took_ms = milliseconds(started);
        Ok(SearchResult { query: request.query.clone(), filter, misspelt, passages, took_ms, trace })
    }

    /// Returns the filter of the configuration and that of a request.
    fn filter(&self, request: &SearchRequest) -> Option<Filter> {
        match (self.opened.config().search.filter.clone(), request.filter.clone()) {
            (Some(always), Some(now)) => Some(always.and(now)),
            (one, other) => one.or(other),
        }
    }

    /// Returns the best passages for a query, with a step in the trace for each stage.
    pub(crate) fn find(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        recorder.begin("search", || TraceDetails::Search { query: query.text() });
        let found = self.find_in(query, request, recorder);
        // A search that failed stays open, so that the trace shows where.
        if found.is_ok() {
            recorder.end();
        }
        found
    }

    fn find_in(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        let text = query.text();
        if !query.has_words() {
            let message = match text.trim() {
                "" => "the question is empty; ask something".to_owned(),
                text => format!("“{text}” has no word to search for; add one"),
            };
            return Err(Error::new(ErrorKind::InvalidRequest, message));
        }
        let plan = request.resolved(self.opened.config().search.plan())?;
        let snapshot = &self.view.snapshot;
        let filter = self.filter(request);
        let start = recorder.start("filter");
        let filtered = filter.as_ref().map(|filter| scope(self.view, filter)).transpose()?;
        if let (Some(filter), Some(rows)) = (&filter, &filtered) {
            let left: u64 = rows.iter().map(|rows| u64::from(rows.len())).sum();
            recorder.step(start, || TraceDetails::Filter { filter: filter.to_string(), rows: left });
        }

        let prepared = snapshot.prepare(query);
        let allowed = if prepared.is_strict() {
            snapshot.allowed(&prepared, filtered.clone().map(Arc::unwrap_or_clone)).map(Arc::new)
        } else {
            filtered.clone()
        };
        let input = LegInput {
            snapshot,
            query: &prepared,
            text: &text,
            encoder: &*self.opened.encoder,
            vectors: self.vectors,
            filtered: filtered.as_deref(),
            allowed: allowed.as_deref(),
        };
        let mut rankings: Vec<Ranking<RowId>> = Vec::with_capacity(plan.legs.len());
        for planned in &plan.legs {
            self.check_stop()?;
            let known = || LEGS.map(|leg| leg.name().to_owned());
            let leg = leg(planned).ok_or_else(|| unknown_leg(&planned.leg, &known()))?;
            let start = recorder.start(leg.name());
            let hits = leg.find(&input, plan.passages.max(planned.depth))?;
            let best = hits.first().map(|hit| hit.1);
            let record = LegRecord { weight: planned.weight, found: hits.len(), best };
            recorder.step(start, || leg.details(&input, record));
            rankings.push(Ranking { name: planned.leg.clone(), weight: planned.weight, hits });
        }

        let start = recorder.start("fusion");
        let fused = fuse(&rankings);
        let considered = fused.len();
        let mut best: Vec<_> = fused.into_iter().filter(|item| plan.admits(item)).take(plan.passages).collect();
        self.check_stop()?;
        let catalogue = self.view.catalogue();
        let rows: Vec<RowId> = best.iter().map(|item| item.key).collect();
        let mut passages = catalogue.passages_at(&rows)?;
        if passages.len() != rows.len() {
            let message = "the index has rows that the catalogue does not know; build a new corpus";
            return Err(Error::new(ErrorKind::Corpus, message));
        }
        if let Some(filter) = &filter {
            passages = visible(&**catalogue, filter, passages)?;
        }
        for (at, (passage, item)) in passages.iter_mut().zip(&mut best).enumerate() {
            (passage.rank, passage.score) = (at + 1, item.score);
            passage.legs = std::mem::take(&mut item.legs).into_iter().collect();
        }
        if let Some(sort) = &request.sort {
            sort.apply(&**catalogue, &mut passages)?;
        }
        drop(catalogue);
        recorder.step(start, || {
            let record = |passage: &Passage| PassageRecord {
                chunk: passage.chunk.clone(),
                document: passage.location.document.clone(),
                score: passage.score,
                legs: passage.legs.clone(),
            };
            TraceDetails::Fusion { considered, passages: passages.iter().map(record).collect() }
        });
        Ok(Found { passages, misspelt: misspelt(&prepared) })
    }

    fn check_stop(&self) -> Result<()> {
        match self.stop.is_stopped() {
            true => Err(Error::new(ErrorKind::Cancelled, "the search was stopped")),
            false => Ok(()),
        }
    }
}

impl Sort {
    /// Sorts passages by the field. Ties keep their order.
    fn apply(&self, catalogue: &dyn CatalogueReader, passages: &mut Vec<Passage>) -> Result<()> {
        let names: Vec<&str> = passages.iter().map(|passage| passage.location.document.as_str()).collect();
        let records = catalogue.records(&names)?;
        let key = |passage: &Passage| -> Option<Value> {
            let location = &passage.location;
            match self.field.as_str() {
                "document" => Some(Value::Text(location.document.clone())),
                "title" => location.title.clone().map(Value::Text),
                "page" => location.pages.map(|pages| Value::Number(pages.first.into())),
                "section" => Some(Value::Text(location.section.join(" › "))),
                "type" => records.get(&location.document).map(|record| Value::Text(record.media_type.clone())),
                field => records.get(&location.document).and_then(|record| record.metadata.get(field).cloned()),
            }
        };
        let mut keyed: Vec<(Option<Value>, Passage)> =
            std::mem::take(passages).into_iter().map(|passage| (key(&passage), passage)).collect();
        if keyed.iter().all(|(key, _)| key.is_none()) {
            Fields::of(catalogue)?.check_name(&self.field, "sort")?;
        }
        keyed.sort_by(|(a, _), (b, _)| match (a, b) {
            (Some(a), Some(b)) if self.descending => order(b, a),
            (Some(a), Some(b)) => order(a, b),
            (a, b) => b.is_some().cmp(&a.is_some()),
        });
        passages.extend(keyed.into_iter().map(|(_, passage)| passage));
        for (at, passage) in passages.iter_mut().enumerate() {
            passage.rank = at + 1;
        }
        Ok(())
    }
}

/// Numbers by size, all else as it is written.
fn order(a: &Value, b: &Value) -> std::cmp::Ordering {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a.total_cmp(b),
        _ => a.to_string().cmp(&b.to_string()),
    }
}
