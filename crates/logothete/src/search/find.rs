//! Finding passages: legs, fusion, and the passages of the best rows.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use logothete_core::chunk::ChunkId;
use logothete_core::document::Value;
use logothete_core::keyword::Query;
use logothete_core::query::{Wording, reworded};
use logothete_core::rerank::normalised;
use logothete_core::search::{
    Adjusted, ExpansionKind, Filter, Fused, LegPlan, LegScore, Part, Passage, Plan, Ranking, Standpoint, TransformKind,
    adjust, fuse, merged,
};
use logothete_core::trace::{LegRecord, Misspelt, PassageRecord, Trace, TraceDetails};
use logothete_core::{Error, ErrorKind, Result, round_milliseconds};
use serde::{Serialize, Serializer};

use super::ahead::Ahead;
use super::expand::expand;
use super::expect::{Expected, Watch};
use super::fields::Fields;
use super::language;
use super::legs::{LegInput, leg, misspelt, names};
use super::request::{SearchRequest, Sort, unknown_leg};
use super::rerank::{Judged, Reordered};
use super::scope::{scope, visible};
use super::transform::Transformed;
use super::wording::wordings;
use crate::opened::Opened;
use crate::storage::{CatalogueReader, Place, RowId, Scope, View};
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
    /// What a transform made of the query, and what each found when it was searched alone.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
    /// What was searched for besides the words of the query.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub wordings: Vec<Wording>,
    /// What did not work and was left out, in sentences.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// What became of the passages that the request [expected](SearchRequest::expecting).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<Expected>,
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
    pub ahead: &'a Ahead,
    pub stop: &'a StopToken,
}

/// Returns the rank and the score of an item at a position.
fn place(at: usize, score: f32) -> LegScore {
    LegScore { rank: at + 1, score }
}

/// The result of a query.
pub(crate) struct Found {
    pub passages: Vec<Passage>,
    pub misspelt: Vec<Misspelt>,
    /// What the user's own transform made of the query.
    pub parts: Vec<Part>,
    pub wordings: Vec<Wording>,
    pub notes: Vec<String>,
    pub expected: Option<Expected>,
    /// How long services took before the search.
    pub waited_ms: f64,
}

/// Searches for some requests.
pub(crate) fn search_all(
    opened: &Opened,
    view: &View,
    requests: &[SearchRequest],
    ahead: &Ahead,
    stop: &StopToken,
) -> Result<Vec<SearchResult>> {
    let searcher = Searcher { opened, view, ahead, stop };
    requests.iter().map(|request| searcher.search(request)).collect()
}

impl Searcher<'_> {
    /// Searches for one request.
    pub(crate) fn search(&self, request: &SearchRequest) -> Result<SearchResult> {
        let started = Instant::now();
        let query = if request.plain { Query::plain(&request.query) } else { Query::parse(&request.query) };
        let mut recorder = Recorder::new(request.traced);
        let found = self.find_all(&query, request, &mut recorder);
        let (found, trace) = recorder.attach(found)?;
        let Found { passages, misspelt, parts, wordings, notes, expected, waited_ms } = found;
        let filter = self.filter(request).map(|filter| filter.to_string());
        let took_ms = milliseconds(started) + waited_ms;
        let query = request.query.clone();
        Ok(SearchResult { query, filter, misspelt, passages, parts, wordings, notes, expected, took_ms, trace })
    }

    /// Returns the best passages for a query and for what its transform made of it.
    fn find_all(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        let transform = request.transform(&self.opened.config().search.plan());
        let start = recorder.start("transform");
        let made = self.ahead.transforms.get(&(transform, request.query.clone()));
        let Some(made) = made.filter(|_| transform != TransformKind::Own) else {
            return self.find(query, request, recorder);
        };
        recorder.spent_step(start, made.usage, || TraceDetails::Transform {
            kind: transform.name().to_owned(),
            queries: made.queries.clone(),
        });
        let found = self.find(query, request, recorder)?;
        let find = |part: &str, recorder: &mut Recorder| self.find(&Query::plain(part), request, recorder);
        self.joined(found, made, transform, request, |part| find(part, recorder))
    }

    /// Returns what was found for a question, together with what is found for each query that a transform made of it.
    fn joined(
        &self,
        mut found: Found,
        made: &Transformed,
        transform: TransformKind,
        request: &SearchRequest,
        mut find: impl FnMut(&str) -> Result<Found>,
    ) -> Result<Found> {
        found.notes.extend(made.note.clone());
        found.waited_ms += made.took_ms;
        if made.queries.is_empty() {
            return Ok(found);
        }
        let mut lists = vec![std::mem::take(&mut found.passages)];
        for part in &made.queries {
            let Found { passages, notes, waited_ms, .. } = find(part)?;
            found.waited_ms += waited_ms;
            let new = notes.into_iter().filter(|note| !found.notes.contains(note)).collect::<Vec<_>>();
            found.notes.extend(new);
            found.parts.push(Part::new(part, &passages));
            lists.push(passages);
        }
        let count = request.resolved(self.opened.config().search.plan())?.passages;
        found.passages = merged(lists, transform, count);
        Ok(found)
    }

    /// Returns the filter of the configuration and that of a request.
    fn filter(&self, request: &SearchRequest) -> Option<Filter> {
        both(self.opened.config().search.filter.clone(), request.filter.clone())
    }

    /// Returns the best passages for a query, with a step in the trace for each stage.
    pub(crate) fn find(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        recorder.begin("search", || TraceDetails::Search { query: query.text() });
        let found = self.find_with_own(query, request, recorder);
        // A search that failed stays open, so that the trace shows where.
        if found.is_ok() {
            recorder.end();
        }
        found
    }

    /// Returns the best passages for a query and for what the user's own transform made of it.
    fn find_with_own(&self, query: &Query, request: &SearchRequest, recorder: &mut Recorder) -> Result<Found> {
        let kind = TransformKind::Own;
        let start = recorder.start("transform");
        let Some(made) = self.ahead.transforms.get(&(kind, query.text())) else {
            return self.find_in(query, request, recorder);
        };
        recorder.spent_step(start, made.usage, || TraceDetails::Transform {
            kind: self.opened.pipeline.transform().map_or(kind.name(), |own| own.name()).to_owned(),
            queries: made.queries.clone(),
        });
        let found = self.find_in(query, request, recorder)?;
        self.joined(found, made, kind, request, |part| self.find_in(&Query::plain(part), request, recorder))
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
        let mut plan = request.resolved(self.opened.config().search.plan())?;
        let snapshot = &self.view.snapshot;
        let filter = both(self.view.access.clone(), self.filter(request));
        self.look_at_the_whole(&mut plan, &text);
        let start = recorder.start("filter");
        let filtered = filter.as_ref().map(|filter| scope(self.view, filter)).transpose()?;
        if let (Some(filter), Some(rows)) = (&filter, &filtered) {
            let left: u64 = rows.iter().map(|rows| u64::from(rows.len())).sum();
            recorder.step(start, || TraceDetails::Filter { filter: filter.to_string(), rows: left });
        }

        let start = recorder.start("transform");
        let wordings = wordings(&text, &self.opened.config().search, self.view, filtered.as_deref())?;
        let mut worded = query.clone();
        wordings.iter().for_each(|wording| worded.add(&wording.to));
        // A service has encoded the question as it was asked; a search must not wait for another call.
        let read = if self.opened.encoder.is_remote() { text.clone() } else { reworded(&text, &wordings) };
        let query = &worded;
        if !wordings.is_empty() {
            let queries = || wordings.iter().map(|wording| wording.to.clone()).collect();
            recorder.step(start, || TraceDetails::Transform { kind: "wording".to_owned(), queries: queries() });
        }
        let prepared = snapshot.prepare(query);
        let allowed = if prepared.is_strict() {
            snapshot.allowed(&prepared, filtered.clone().map(Arc::unwrap_or_clone)).map(Arc::new)
        } else {
            filtered.clone()
        };
        let watched = |expected: &Filter| -> Result<Watch> {
            let rows = Scope::clone(&*scope(self.view, expected)?);
            Ok(Watch::new(expected, rows, allowed.as_deref()))
        };
        let mut watch = request.expected.as_ref().map(watched).transpose()?;
        let mut notes: Vec<String> = language::note(&text, snapshot, &*self.opened.encoder).into_iter().collect();
        let input = LegInput {
            snapshot,
            view: self.view,
            query,
            prepared: &prepared,
            text: &text,
            read: &read,
            encoder: &*self.opened.encoder,
            vectors: &self.ahead.vectors,
            filtered: filtered.as_deref(),
            allowed: allowed.as_deref(),
            width: self.opened.config().tree.width,
            found: &[],
        };
        let rankings = self.run_legs(&plan, request, input, &mut notes, recorder)?;

        let recorded = if request.explained { plan.passages.max(plan.rerank.depth) } else { plan.passages };
        let start = recorder.start("fusion");
        let fused = fuse(plan.fusion, &rankings);
        if let Some(watch) = &mut watch {
            watch.legs(snapshot, &rankings);
            watch.fused(snapshot, &fused);
        }
        let fused_places: HashMap<RowId, LegScore> = match plan.reranks() {
            false => HashMap::new(),
            true => fused.iter().enumerate().map(|(at, item)| (item.key, place(at, item.score))).collect(),
        };
        let shown: Vec<&Fused<RowId>> = fused.iter().take(if recorder.is_on() { recorded } else { 0 }).collect();
        let chunks = self.chunks_at(shown.iter().map(|item| item.key))?;
        recorder.step(start, || {
            let record = |(item, (chunk, document)): (&&Fused<RowId>, _)| PassageRecord {
                chunk,
                document,
                score: item.score,
                legs: item.legs.iter().cloned().collect(),
            };
            TraceDetails::Fusion { considered: fused.len(), passages: shown.iter().zip(chunks).map(record).collect() }
        });
        self.check_stop()?;
        let mut waited_ms = 0.0;
        let mut order = fused;
        if plan.reranks() {
            let judged = Judged { prepared: &prepared, text: &text, read: &read, recorded };
            Reordered { order, waited_ms } = self.reranked(&plan.rerank, &judged, order, &mut notes, recorder)?;
            self.check_stop()?;
            if let Some(watch) = &mut watch {
                watch.reranked(snapshot, &order);
            }
        }

        let (passages, rows) = self.choose(&plan, request, filter.as_ref(), order, &fused_places, recorder)?;
        let expected = watch.map(|watch| watch.shown(snapshot, rows.into_iter(), plan.passages));
        // What a word was taken for may stand in documents that the asker does not see.
        let misspelt = if self.view.access.is_some() { Vec::new() } else { misspelt(&prepared) };
        Ok(Found { passages, misspelt, parts: Vec::new(), wordings, notes, expected, waited_ms })
    }

    /// Runs the legs of a plan, one after the other. A leg of the user's own that fails finds nothing, and a note says why.
    fn run_legs(
        &self,
        plan: &Plan,
        request: &SearchRequest,
        input: LegInput<'_>,
        notes: &mut Vec<String>,
        recorder: &mut Recorder,
    ) -> Result<Vec<Ranking<RowId>>> {
        let own = self.opened.pipeline.legs();
        let mut rankings: Vec<Ranking<RowId>> = Vec::with_capacity(plan.legs.len());
        for planned in &plan.legs {
            self.check_stop()?;
            let input = LegInput { found: &rankings, ..input };
            let found = leg(&planned.leg, own).ok_or_else(|| unknown_leg(&planned.leg, &names(own)))?;
            let leg = found.rows();
            let start = recorder.start(leg.stage());
            if !planned.runs_for(input.text, request.filter.as_ref()) {
                recorder.step(start, || TraceDetails::LeftOut { note: not_for_this(planned) });
                continue;
            }
            let hits = match leg.find(&input, plan.passages.max(planned.depth)) {
                Ok(hits) => hits,
                Err(error) if found.may_fail() => {
                    let note = format!("The leg “{}” failed and was left out: {error}.", planned.leg);
                    recorder.step(start, || TraceDetails::LeftOut { note: note.clone() });
                    notes.push(note);
                    continue;
                }
                Err(error) => return Err(error),
            };
            let best = hits.first().map(|hit| hit.1);
            let record = LegRecord { weight: planned.weight, found: hits.len(), best };
            recorder.step(start, || leg.details(&input, record));
            rankings.push(Ranking { name: planned.leg.clone(), weight: planned.weight, hits });
        }
        Ok(rankings)
    }

    /// Returns the passages of the first items, after those that are too alike have moved down, and the rows of these items.
    fn choose(
        &self,
        plan: &Plan,
        request: &SearchRequest,
        filter: Option<&Filter>,
        reranked: Vec<Fused<RowId>>,
        fused_places: &HashMap<RowId, LegScore>,
        recorder: &mut Recorder,
    ) -> Result<(Vec<Passage>, Vec<RowId>)> {
        let start = recorder.start("choose");
        let catalogue = self.view.catalogue();
        let snapshot = &self.view.snapshot;
        let places = snapshot.places(&**catalogue)?;
        let standpoint = |row| {
            let Place { section, document, is_contents, span, .. } = places.of(row)?;
            Some(Standpoint { section, document, span, is_contents })
        };
        let vectors: HashMap<RowId, Vec<f32>> = match plan.diversity.novelty > 0.0 {
            true => reranked
                .iter()
                .map(|item| (item.key, normalised(snapshot.vector(item.key).unwrap_or_default())))
                .collect(),
            false => HashMap::new(),
        };
        let likeness = |a: RowId, b: RowId| match (vectors.get(&a), vectors.get(&b)) {
            (Some(a), Some(b)) => a.iter().zip(b).map(|(a, b)| a * b).sum(),
            _ => 0.0,
        };
        let Adjusted { order, later, left_out } = adjust(&plan.adjustments(), reranked, standpoint, likeness);
        let best: Vec<_> = order.into_iter().filter(|item| plan.admits(item)).take(plan.passages).collect();
        let rows: Vec<RowId> = best.iter().map(|item| item.key).collect();
        let mut passages = catalogue.passages_at(&rows)?;
        if passages.len() != rows.len() {
            let message = "the index has rows that the catalogue does not know; build a new corpus";
            return Err(Error::new(ErrorKind::Corpus, message));
        }
        if let Some(filter) = filter {
            passages = visible(&**catalogue, filter, passages)?;
        }
        for (at, (passage, item)) in passages.iter_mut().zip(best).enumerate() {
            (passage.rank, passage.score) = (at + 1, item.score);
            passage.fused = fused_places.get(&item.key).copied();
            passage.legs = item.legs.into_iter().collect();
        }
        if let Some(sort) = &request.sort {
            sort.apply(&**catalogue, &mut passages)?;
        }
        let chunks = || passages.iter().map(|passage| passage.chunk.clone()).collect();
        recorder.step(start, || TraceDetails::Choose { later, left_out, passages: chunks() });
        if plan.expand.kind != ExpansionKind::None {
            let start = recorder.start("expand");
            let merged = expand(&**catalogue, &plan.expand, &mut passages)?;
            recorder.step(start, || TraceDetails::Expand { kind: plan.expand.kind, merged, passages: passages.len() });
        }
        Ok((passages, rows))
    }

    /// Returns the chunk of each of some rows and the name of its document, for a trace.
    pub(super) fn chunks_at(&self, rows: impl Iterator<Item = RowId>) -> Result<Vec<(ChunkId, String)>> {
        let rows: Vec<RowId> = rows.collect();
        if rows.is_empty() { Ok(Vec::new()) } else { self.view.catalogue().chunks_at(&rows) }
    }

    fn check_stop(&self) -> Result<()> {
        match self.stop.is_stopped() {
            true => Err(Error::new(ErrorKind::Cancelled, "the search was stopped")),
            false => Ok(()),
        }
    }
}

fn both(one: Option<Filter>, other: Option<Filter>) -> Option<Filter> {
    match (one, other) {
        (Some(one), Some(other)) => Some(one.and(other)),
        (one, other) => one.or(other),
    }
}

/// Returns why a leg does not run.
fn not_for_this(leg: &LegPlan) -> String {
    let rules: Vec<String> = leg.when.iter().map(ToString::to_string).collect();
    format!("The leg “{}” runs only when {}.", leg.leg, rules.join(", or "))
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
