//! Finding passages: a keyword leg and a vector leg, fused.

use std::time::Instant;

use logothete_core::keyword::query_terms;
use logothete_core::search::{Leg, Passage, fuse};
use logothete_core::vector::Role;
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;
use serde_json::{Value, json};

use crate::corpus::{Inner, Place};
use crate::trace::{Trace, milliseconds, score};

/// Each leg looks at least at so many candidates.
const CANDIDATES: usize = 50;

/// What a search found.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SearchResult {
    /// The query as it was given.
    pub query: String,
    /// The passages, best first.
    pub passages: Vec<Passage>,
    /// How long it took, in milliseconds.
    pub took_ms: f64,
}

/// Searches a corpus.
pub(crate) fn search(inner: &Inner, query: &str) -> Result<SearchResult> {
    let started = Instant::now();
    let passages = passages(inner, query, &mut Trace::start())?;
    Ok(SearchResult { query: query.to_owned(), passages, took_ms: milliseconds(started) })
}

/// The best passages, with a stage in the trace for each step.
pub(crate) fn passages(inner: &Inner, query: &str, trace: &mut Trace) -> Result<Vec<Passage>> {
    if query.trim().is_empty() {
        return Err(Error::new(ErrorKind::Configuration, "the question is empty; ask something"));
    }
    let settings = &inner.pipeline.settings;
    let count = settings.passages.max(CANDIDATES);
    let snapshot = inner.snapshot()?;

    let terms = query_terms(query);
    let statistics = snapshot.statistics(&terms);
    let found = snapshot.search_keywords(&terms, &statistics, count);
    let keyword = Leg { name: "keyword".to_owned(), weight: settings.keyword_weight, hits: found };
    trace.stage("keyword", leg_details(&keyword, json!({ "terms": terms })));

    let vectors = inner.pipeline.encoder.encode(&[query], Role::Query)?;
    let found = vectors.iter().next().map(|vector| snapshot.search_vectors(vector, count)).unwrap_or_default();
    let vector = Leg { name: "vector".to_owned(), weight: settings.vector_weight, hits: found };
    trace.stage("vector", leg_details(&vector, json!({ "encoder": inner.pipeline.encoder.name() })));

    let fused = fuse(&[keyword, vector]);
    let considered = fused.len();
    let catalogue = inner.catalogue();
    let mut passages = Vec::with_capacity(settings.passages);
    for (index, item) in fused.into_iter().take(settings.passages).enumerate() {
        let mut passage = catalogue.passage(item.key)?;
        passage.rank = index + 1;
        passage.score = item.score;
        passage.legs = item.legs.into_iter().collect();
        passages.push(passage);
    }
    let kept: Vec<Value> = passages
        .iter()
        .map(|passage| json!({ "chunk": passage.chunk, "document": passage.document, "score": score(passage.score) }))
        .collect();
    trace.stage("fusion", json!({ "considered": considered, "passages": kept }));
    Ok(passages)
}

fn leg_details(leg: &Leg<Place>, mut details: Value) -> Value {
    details["weight"] = json!(score(leg.weight));
    details["found"] = json!(leg.hits.len());
    details["best"] = json!(leg.hits.first().map(|hit| score(hit.1)));
    details
}
