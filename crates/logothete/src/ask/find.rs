//! Finding passages: a keyword leg and a vector leg, fused.

use std::ops::RangeBounds;
use std::sync::Arc;
use std::time::Instant;

use logothete_core::document::Value;
use logothete_core::keyword::Query;
use logothete_core::search::{Filter, Fused, Leg, Passage, fuse};
use logothete_core::vector::Role;
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;
use serde_json::{Value as Json, json};

use super::fields::Fields;
use super::request::{ScoreRange, SearchRequest, Sort};
use super::scope::{scope, seen_through};
use crate::corpus::{Catalogue, Inner, Place, View};
use crate::trace::{Trace, milliseconds, score};

/// Each leg looks at least at so many candidates.
const CANDIDATES: usize = 50;
/// The names of the legs.
const LEGS: [&str; 2] = ["keyword", "vector"];

/// What a search found.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SearchResult {
    /// The query as it was given.
    pub query: String,
    /// The filter that it was confined by.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Words that stand nowhere, and the terms one slip away that were taken for them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub misspelt: Vec<Misspelt>,
    /// The passages, best first.
    pub passages: Vec<Passage>,
    /// How long it took, in milliseconds.
    pub took_ms: f64,
}

/// A word that stands nowhere in the corpus.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Misspelt {
    /// The word.
    pub word: String,
    /// The terms that were taken for it: stems of words.
    pub taken_for: Vec<String>,
}

/// Searches a corpus as it is now, for each of some requests.
pub(crate) fn search(inner: &Inner, requests: &[SearchRequest]) -> Result<Vec<SearchResult>> {
    let view = inner.view()?;
    let one = |request: &SearchRequest| {
        let started = Instant::now();
        let query = if request.plain { Query::plain(&request.query) } else { Query::parse(&request.query) };
        let Found { passages, misspelt } = find(inner, &view, &query, request, &mut Trace::start())?;
        let filter = combined(inner, request).map(|filter| filter.to_string());
        Ok(SearchResult { query: request.query.clone(), filter, misspelt, passages, took_ms: milliseconds(started) })
    };
    requests.iter().map(one).collect()
}

/// What was found for a query.
pub(super) struct Found {
    pub passages: Vec<Passage>,
    pub misspelt: Vec<Misspelt>,
}

/// The filter of the settings and that of a request.
fn combined(inner: &Inner, request: &SearchRequest) -> Option<Filter> {
    match (inner.pipeline.settings.filter.clone(), request.filter.clone()) {
        (Some(always), Some(now)) => Some(always.and(now)),
        (one, other) => one.or(other),
    }
}

/// The best passages, with a stage in the trace for each step.
pub(super) fn find(
    inner: &Inner,
    view: &View<'_>,
    query: &Query,
    request: &SearchRequest,
    trace: &mut Trace,
) -> Result<Found> {
    let text = query.text();
    if text.trim().is_empty() {
        return Err(Error::new(ErrorKind::Configuration, "the question is empty; ask something"));
    }
    check(request)?;
    let settings = &inner.pipeline.settings;
    let wanted = request.passages.unwrap_or(settings.passages);
    let count = wanted.max(CANDIDATES);
    let snapshot = &view.snapshot;
    let filter = combined(inner, request);
    let rows = filter.as_ref().map(|filter| scope(view, filter)).transpose()?;
    if let (Some(filter), Some(rows)) = (&filter, &rows) {
        let left: u64 = rows.iter().map(|rows| u64::from(rows.len())).sum();
        trace.stage("filter", json!({ "filter": filter.to_string(), "rows": left }));
    }

    let prepared = snapshot.prepare(query);
    let found = snapshot.search_keywords(&prepared, rows.as_deref(), count);
    let keyword = Leg { name: LEGS[0].to_owned(), weight: settings.keyword_weight, hits: found };
    let misspelt: Vec<Misspelt> = prepared
        .misspelt()
        .iter()
        .map(|(word, taken_for)| Misspelt { word: word.clone(), taken_for: taken_for.clone() })
        .collect();
    let mut details = json!({ "terms": prepared.terms().collect::<Vec<_>>() });
    if !prepared.missing().is_empty() {
        details["missing"] = json!(prepared.missing());
    }
    if !misspelt.is_empty() {
        details["misspelt"] = json!(misspelt);
    }
    trace.stage(LEGS[0], leg_details(&keyword, details));

    let allowed = if prepared.is_strict() {
        snapshot.allowed(&prepared, rows.map(Arc::unwrap_or_clone)).map(Arc::new)
    } else {
        rows
    };
    let vectors = inner.pipeline.encoder.encode(&[&text], Role::Query)?;
    let hits = vectors.iter().next().map(|vector| snapshot.search_vectors(vector, allowed.as_deref(), count));
    let vector = Leg { name: LEGS[1].to_owned(), weight: settings.vector_weight, hits: hits.unwrap_or_default() };
    trace.stage(LEGS[1], leg_details(&vector, json!({ "encoder": inner.pipeline.encoder.name() })));

    let fused = fuse(&[keyword, vector]);
    let considered = fused.len();
    let catalogue = view.catalogue();
    let mut passages = Vec::with_capacity(wanted.min(considered));
    let asked_for = fused.into_iter().filter(|item| request.scores.iter().all(|range| range.admits(item)));
    for item in asked_for.take(wanted) {
        let mut passage = catalogue.passage(item.key)?;
        if let Some(filter) = &filter {
            passage = seen_through(&catalogue, filter, passage)?;
        }
        passage.rank = passages.len() + 1;
        passage.score = item.score;
        passage.legs = item.legs.into_iter().collect();
        passages.push(passage);
    }
    if let Some(sort) = &request.sort {
        sort.apply(&catalogue, &mut passages)?;
    }
    let kept: Vec<Json> = passages
        .iter()
        .map(|passage| json!({ "chunk": passage.chunk, "document": passage.document, "score": score(passage.score) }))
        .collect();
    trace.stage("fusion", json!({ "considered": considered, "passages": kept }));
    Ok(Found { passages, misspelt })
}

fn check(request: &SearchRequest) -> Result<()> {
    let unknown = request.scores.iter().filter_map(|range| range.leg.as_deref()).find(|leg| !LEGS.contains(leg));
    match unknown {
        Some(leg) => {
            let message = format!("there is no leg “{leg}”; there are {}", LEGS.join(" and "));
            Err(Error::new(ErrorKind::Configuration, message).at("score"))
        }
        None => Ok(()),
    }
}

impl ScoreRange {
    fn admits<K>(&self, item: &Fused<K>) -> bool {
        let own = match &self.leg {
            None => Some(item.score),
            Some(leg) => item.legs.iter().find(|(name, _)| name == leg).map(|(_, leg)| leg.score),
        };
        own.is_some_and(|own| self.range.contains(&own))
    }
}

impl Sort {
    /// Sorts passages by the field; ties stay in their order.
    fn apply(&self, catalogue: &Catalogue, passages: &mut Vec<Passage>) -> Result<()> {
        let mut keyed = Vec::with_capacity(passages.len());
        for passage in passages.drain(..) {
            keyed.push((self.key(catalogue, &passage)?, passage));
        }
        if keyed.iter().all(|(key, _)| key.is_none()) {
            Fields::of(catalogue)?.check_name(&self.field, "sort")?;
        }
        keyed.sort_by(|(a, _), (b, _)| match (a, b) {
            (Some(a), Some(b)) if self.descending => order(b, a),
            (Some(a), Some(b)) => order(a, b),
            (a, b) => b.is_some().cmp(&a.is_some()),
        });
        passages.extend(keyed.into_iter().enumerate().map(|(at, (_, passage))| Passage { rank: at + 1, ..passage }));
        Ok(())
    }

    fn key(&self, catalogue: &Catalogue, passage: &Passage) -> Result<Option<Value>> {
        Ok(match self.field.as_str() {
            "document" => Some(Value::Text(passage.document.clone())),
            "title" => passage.title.clone().map(Value::Text),
            "page" => passage.pages.map(|pages| Value::Number(pages.first.into())),
            "section" => Some(Value::Text(passage.section.join(" › "))),
            field => {
                let facts = catalogue.facts_of(&passage.document)?;
                facts.and_then(|(_, media_type, mut metadata)| match field {
                    "type" => Some(Value::Text(media_type)),
                    _ => metadata.remove(field),
                })
            }
        })
    }
}

/// Numbers by size, all else as it is written.
fn order(a: &Value, b: &Value) -> std::cmp::Ordering {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a.total_cmp(b),
        _ => a.to_string().cmp(&b.to_string()),
    }
}

fn leg_details(leg: &Leg<Place>, mut details: Json) -> Json {
    details["weight"] = json!(score(leg.weight));
    details["found"] = json!(leg.hits.len());
    details["best"] = json!(leg.hits.first().map(|hit| score(hit.1)));
    details
}
