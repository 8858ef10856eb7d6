//! Finding passages: legs, fusion, and the passages of the best rows.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use logothete_core::document::Value;
use logothete_core::keyword::{PreparedQuery, Query};
use logothete_core::search::{Filter, Fused, LegScore, Passage, Plan, Ranking, fuse};
use logothete_core::trace::{LegRecord, Misspelt, PassageRecord, RerankRecord, Trace, TraceDetails};
use logothete_core::{Error, ErrorKind, Result, round_milliseconds};
use serde::{Serialize, Serializer};

use super::diversity::spread;
use super::fields::Fields;
use super::legs::{LEGS, LegInput, leg, misspelt};
use super::request::{SearchRequest, Sort, unknown_leg};
use super::rerank::{LEARNED, Measuring, Reranked};
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

/// Returns the rank and the score of an item at a position.
fn place(at: usize, score: f32) -> LegScore {
    LegScore { rank: at + 1, score }
}

/// The result of a query.
pub(crate) struct Found {
    pub passages: Vec<Passage>,
    /// The best passages, however many of them a section has. An answer is written from these: what it needs may stand beside what was found.
    pub to_read: Vec<Passage>,
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
        let found = self.stages(&query, request, false, &mut recorder);
        let (Found { passages, misspelt, .. }, trace) = recorder.attach(found)?;
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

    /// Returns the best passages for a query, and those to read for an answer, with a step in the trace for each stage.
    pub(crate) fn find(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        self.stages(query, request, true, recorder)
    }

    fn stages(&self, query: &Query, request: &SearchRequest, reads: bool, recorder: &mut Recorder) -> Result<Found> {
        recorder.begin("search", || TraceDetails::Search { query: query.text() });
        let found = self.find_in(query, request, reads, recorder);
        // A search that failed stays open, so that the trace shows where.
        if found.is_ok() {
            recorder.end();
        }
        found
    }

    fn find_in(&self, query: &Query, request: &SearchRequest, reads: bool, recorder: &mut Recorder) -> Result<Found> {
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

        let recorded = if request.explained { plan.passages.max(plan.rerank.depth) } else { plan.passages };
        let start = recorder.start("fusion");
        let fused = fuse(&rankings);
        let fused_places: HashMap<RowId, LegScore> = match plan.reranks() {
            false => HashMap::new(),
            true => fused.iter().enumerate().map(|(at, item)| (item.key, place(at, item.score))).collect(),
        };
        if recorder.is_on() {
            let shown: Vec<&Fused<RowId>> = fused.iter().take(recorded).collect();
            let passages = self.view.catalogue().passages_at(&shown.iter().map(|item| item.key).collect::<Vec<_>>())?;
            let record = |(item, passage): (&&Fused<RowId>, Passage)| PassageRecord {
                chunk: passage.chunk,
                document: passage.location.document,
                score: item.score,
                legs: item.legs.iter().cloned().collect(),
            };
            let passages = shown.iter().zip(passages).map(record).collect();
            recorder.step(start, || TraceDetails::Fusion { considered: fused.len(), passages });
        }
        self.check_stop()?;
        let reranked = self.reranked(&plan, (&prepared, &text), fused, recorded, recorder)?;
        self.check_stop()?;

        let start = recorder.start("choose");
        let catalogue = self.view.catalogue();
        let admitted = reranked.into_iter().filter(|item| plan.admits(item)).collect::<Vec<_>>();
        let read = if reads { &admitted[..plan.passages.min(admitted.len())] } else { &[] };
        let read: Vec<RowId> = read.iter().map(|item| item.key).collect();
        let (order, later) = spread(&plan.diversity, snapshot, &**catalogue, admitted)?;
        let shown = plan.passages.min(order.len());
        let beside = order[shown..].iter().filter(|item| read.contains(&item.key));
        let best: Vec<&Fused<RowId>> = order[..shown].iter().chain(beside).collect();
        let rows: Vec<RowId> = best.iter().map(|item| item.key).collect();
        let mut passages = catalogue.passages_at(&rows)?;
        if passages.len() != rows.len() {
            let message = "the index has rows that the catalogue does not know; build a new corpus";
            return Err(Error::new(ErrorKind::Corpus, message));
        }
        if let Some(filter) = &filter {
            passages = visible(&**catalogue, filter, passages)?;
        }
        for (at, (passage, item)) in passages.iter_mut().zip(&best).enumerate() {
            (passage.rank, passage.score) = (at + 1, item.score);
            passage.legs = item.legs.iter().cloned().collect();
            passage.fused = fused_places.get(&item.key).copied();
        }
        let place_of = |row: &RowId| rows.iter().position(|other| other == row);
        let to_read = read.iter().filter_map(place_of).filter_map(|at| passages.get(at).cloned()).collect();
        passages.truncate(shown);
        if let Some(sort) = &request.sort {
            sort.apply(&**catalogue, &mut passages)?;
        }
        drop(catalogue);
        let chunks = || passages.iter().map(|passage| passage.chunk.clone()).collect();
        recorder.step(start, || TraceDetails::Choose { later, passages: chunks() });
        Ok(Found { passages, to_read, misspelt: misspelt(&prepared) })
    }

    /// Puts the best candidates in the order of the plan's reranker.
    fn reranked(
        &self,
        plan: &Plan,
        (query, text): (&PreparedQuery, &str),
        mut fused: Vec<Fused<RowId>>,
        recorded: usize,
        recorder: &mut Recorder,
    ) -> Result<Vec<Fused<RowId>>> {
        if !plan.reranks() || fused.is_empty() {
            return Ok(fused);
        }
        let start = recorder.start("rerank");
        let rest = fused.split_off(plan.rerank.depth.min(fused.len()));
        let vector = self.vectors.of(text, &*self.opened.encoder)?;
        let catalogue = self.view.catalogue();
        let measuring =
            Measuring { snapshot: &self.view.snapshot, catalogue: &**catalogue, query, text, vector: &vector };
        let order = measuring.rerank(&fused, recorder.is_on())?;
        if recorder.is_on() {
            let rows: Vec<RowId> = order.iter().take(recorded).map(|one| fused[one.from].key).collect();
            let passages = catalogue.passages_at(&rows)?;
            let record = |(one, passage): (&Reranked, Passage)| RerankRecord {
                chunk: passage.chunk,
                document: passage.location.document,
                from: one.from + 1,
                score: one.score,
                shares: one.notable_shares().collect(),
                features: one.features.clone(),
            };
            let candidates = order.iter().zip(passages).map(record).collect();
            recorder.step(start, || TraceDetails::Rerank { reranker: LEARNED.to_owned(), candidates });
        }
        drop(catalogue);
        let mut kept: Vec<Option<Fused<RowId>>> = fused.into_iter().map(Some).collect();
        let order = order.into_iter().filter_map(|one| {
            let before = kept[one.from].take()?;
            Some(Fused { score: one.score, ..before })
        });
        Ok(order.chain(rest.into_iter().map(|item| Fused { score: 0.0, ..item })).collect())
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
