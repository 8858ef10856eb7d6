//! The rows that a filter leaves, and which of several places that say the same is shown then.

use std::sync::Arc;

use logothete_core::Result;
use logothete_core::document::Metadata;
use logothete_core::search::{ChunkFacts, DocumentFacts, Filter, Passage};

use super::fields::Fields;
use crate::corpus::{Catalogue, Scope, View};

/// The rows of the chunks for which a filter holds, a set a segment. Kept for the next question while the corpus stays as it is.
///
/// The first time it costs a look at every document's metadata, and at the chunks of those for which it holds.
pub(super) fn scope(view: &View<'_>, filter: &Filter) -> Result<Arc<Scope>> {
    let written = filter.to_string();
    if let Some(scope) = view.snapshot.kept_scope(&written) {
        return Ok(scope);
    }
    let catalogue = view.catalogue();
    Fields::for_filter(&catalogue, filter)?.check_filter(filter)?;
    let mut scope = view.snapshot.empty_scope();
    catalogue.each_document(|id, facts| {
        let whole = filter.holds_for_all(facts);
        if whole == Some(false) {
            return Ok(());
        }
        catalogue.each_place(id, |place, pages, section| {
            let holds = whole.unwrap_or_else(|| filter.holds(&ChunkFacts { document: *facts, pages, section }));
            if let Some(at) = view.snapshot.place_of(place.segment).filter(|_| holds) {
                scope[at].insert(place.row);
            }
        })
    })?;
    for (rows, segment) in scope.iter_mut().zip(&view.snapshot.segments) {
        rows.keep(&segment.entry.live);
    }
    let scope = Arc::new(scope);
    view.snapshot.keep_scope(written, &scope);
    Ok(scope)
}

/// A passage as a filter lets it be seen: of several places that say the same, those for which it holds.
pub(super) fn seen_through(catalogue: &Catalogue, filter: &Filter, passage: Passage) -> Result<Passage> {
    let holds = |document: &str, pages, section: &[String]| -> Result<bool> {
        let Some((title, media_type, metadata)) = catalogue.facts_of(document)? else { return Ok(false) };
        let metadata: Metadata = metadata;
        let facts = DocumentFacts { document, title: title.as_deref(), media_type: &media_type, metadata: &metadata };
        Ok(filter.holds(&ChunkFacts { document: facts, pages, section }))
    };
    if passage.also.is_empty() {
        return Ok(passage);
    }
    let mut others = Vec::new();
    for other in &passage.also {
        if holds(&other.document, other.pages, &other.section)? {
            others.push(other.chunk.clone());
        }
    }
    let mut seen = if holds(&passage.document, passage.pages, &passage.section)? || others.is_empty() {
        passage
    } else {
        // Another place that says the same is allowed to: it is shown.
        catalogue.passage_of(&others[0])?.unwrap_or(passage)
    };
    seen.also.retain(|other| others.contains(&other.chunk));
    Ok(seen)
}
