//! The rows that a filter allows, and which of several duplicates is shown.

use std::collections::HashMap;
use std::sync::Arc;

use logothete_core::Result;
use logothete_core::document::Location;
use logothete_core::search::{ChunkFacts, DocumentFacts, Filter, Passage};

use super::fields::Fields;
use crate::storage::{CatalogueReader, RowFacts, Scope, View};

/// Returns the rows of the chunks that pass a filter, a set for each segment. They are remembered as long as the corpus does
/// not change.
///
/// The first call costs a look at the metadata of every document, and at the chunks of those that may pass.
pub(super) fn scope(view: &View, filter: &Filter) -> Result<Arc<Scope>> {
    let written = filter.to_string();
    if let Some(scope) = view.snapshot.kept_scope(&written) {
        return Ok(scope);
    }
    let catalogue = view.catalogue();
    let fields = Fields::for_filter(&**catalogue, filter)?;
    for (field, _) in view.access.iter().flat_map(Filter::tests) {
        fields.check_name(field, "[search] allow")?;
    }
    fields.check_filter(filter)?;
    /// What is known of a document whose chunks must be looked at: whether all pass, or what its chunks are judged by.
    enum Verdict {
        All,
        ByChunk(String, Option<String>, String, logothete_core::document::Metadata),
    }
    let mut candidates: HashMap<i64, Verdict> = HashMap::new();
    catalogue.each_document(&mut |id, facts| match filter.holds_for_all(facts) {
        Some(false) => {}
        Some(true) => {
            candidates.insert(id, Verdict::All);
        }
        None => {
            let DocumentFacts { document, title, media_type, metadata } = *facts;
            let title = title.map(str::to_owned);
            let facts = Verdict::ByChunk(document.to_owned(), title, media_type.to_owned(), metadata.clone());
            candidates.insert(id, facts);
        }
    })?;
    let mut scope = view.snapshot.empty_scope();
    let ids: Vec<i64> = candidates.keys().copied().collect();
    catalogue.each_row(&ids, &mut |RowFacts { document, row, pages, section }| {
        let holds = match candidates.get(&document) {
            None => false,
            Some(Verdict::All) => true,
            Some(Verdict::ByChunk(document, title, media_type, metadata)) => {
                let document = DocumentFacts { document, title: title.as_deref(), media_type, metadata };
                filter.holds(&ChunkFacts { document, pages, section })
            }
        };
        if let Some(at) = view.snapshot.position_of(row.segment).filter(|_| holds) {
            scope[at].insert(row.row);
        }
    })?;
    drop(catalogue);
    for (rows, segment) in scope.iter_mut().zip(&view.snapshot.segments) {
        rows.intersect_with(&segment.entry.live);
    }
    let scope = Arc::new(scope);
    view.snapshot.keep_scope(written, &scope);
    Ok(scope)
}

/// Passages as a filter lets them be seen: of several chunks that say the same, only those that pass it.
pub(super) fn visible(
    catalogue: &dyn CatalogueReader,
    filter: &Filter,
    passages: Vec<Passage>,
) -> Result<Vec<Passage>> {
    let locations = |passage: &Passage| -> Vec<Location> {
        let others = passage.also.iter().map(|other| other.location.clone());
        std::iter::once(passage.location.clone()).chain(others).collect()
    };
    let all: Vec<Location> = passages.iter().filter(|passage| !passage.also.is_empty()).flat_map(locations).collect();
    let names: Vec<&str> = all.iter().map(|location| location.document.as_str()).collect();
    let records = catalogue.records(&names)?;
    let holds = |location: &Location| {
        let Some(record) = records.get(&location.document) else { return false };
        let document = DocumentFacts {
            document: &location.document,
            title: record.title.as_deref(),
            media_type: &record.media_type,
            metadata: &record.metadata,
        };
        filter.holds(&ChunkFacts { document, pages: location.pages, section: &location.section })
    };
    // If the chunk itself does not pass, one that says the same and passes is shown in its place.
    let replaced = |passage: &Passage| !passage.also.is_empty() && !holds(&passage.location);
    let others = passages.iter().filter(|passage| replaced(passage)).filter_map(|passage| {
        passage.also.iter().find(|other| holds(&other.location)).map(|other| other.chunk.clone())
    });
    let others = catalogue.passages_with_duplicates(&others.collect::<Vec<_>>())?;
    let seen = passages.into_iter().map(|passage| {
        if passage.also.is_empty() {
            return passage;
        }
        let mut kept: Vec<_> =
            passage.also.iter().filter(|other| holds(&other.location)).map(|other| other.chunk.clone()).collect();
        let mut seen = match kept.first() {
            Some(first) if replaced(&passage) => {
                let other = others.iter().find(|other| other.chunk == *first).cloned();
                other.unwrap_or(passage)
            }
            _ => passage,
        };
        kept.retain(|chunk| *chunk != seen.chunk);
        seen.also.retain(|other| kept.contains(&other.chunk));
        seen
    });
    Ok(seen.collect())
}
