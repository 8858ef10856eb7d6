//! Answers that are computed over the rows of tables.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::document::{Document, Location, Span};
use logothete_core::query::Question;
use logothete_core::search::Passage;
use logothete_core::table::{Computed, Grid, Outcome, Request, compute, joined};
use logothete_core::trace::TraceDetails;
use logothete_core::verify::Verdict;

use super::cite::Draft;
use super::{CitedSource, Claim};
use crate::search::Searcher;
use crate::trace::Recorder;

/// The most documents whose tables are read for a question.
const MAX_DOCUMENTS: usize = 4;
/// The most rows that are cited. The claim says of how many it is.
const MAX_CITED: usize = 12;

/// A table of a document, and where it stands.
struct Placed {
    grid: Grid,
    location: Location,
    /// The number of its document.
    document: i64,
}

/// Adds what a question asks to be computed over tables of the passages, with the rows that it was computed from. Returns why it is sure; `None` if
/// nothing of the kind is asked, or no table fits.
pub(super) fn answer(
    searcher: &Searcher<'_>,
    part: &str,
    question: &Question,
    passages: &[Passage],
    draft: &mut Draft,
    recorder: &mut Recorder,
) -> Result<Option<String>> {
    let Some(request) = Request::of(part) else { return Ok(None) };
    let start = recorder.start("check");
    let (placed, documents) = tables(searcher, passages)?;
    let grids: Vec<Grid> = placed.iter().map(|placed| placed.grid.clone()).collect();
    let all = joined(&grids);
    let outcome = compute(&request, &all);
    let statement = outcome.as_ref().map(|outcome| said(outcome, &all));
    recorder.step(start, || TraceDetails::Compute {
        operation: format!("{:?}", request.operation),
        tables: all.iter().map(|grid| grid.title.clone()).collect(),
        result: statement.clone(),
    });
    let Some(Outcome::Computed(computed)) = outcome else { return Ok(None) };
    let grid = &all[computed.grid];
    let first = draft.sources.len();
    for row in cited(&computed) {
        let row = &grid.rows[row];
        let mut location = placed[row.table].location.clone();
        let document = documents.get(&placed[row.table].document);
        (location.span, location.pages) = (row.span, document.and_then(|document| document.pages(row.span)));
        let marker = draft.sources.len() + 1;
        let quotation = document.map_or("", |document| document.slice(row.span));
        let mut source = CitedSource::new(marker, location, quotation);
        source.matches = question.matches(&source.quotation);
        draft.sources.push(source);
    }
    let markers = (first + 1..=draft.sources.len()).collect();
    draft.claims.push(Claim::new(computed.in_words(grid), Verdict::Computed, 1.0, markers));
    let rows = computed.considered;
    Ok(Some(format!("computed from {rows} rows of “{}”", grid.title)))
}

/// Returns the rows to cite: those of the result.
fn cited(computed: &Computed) -> Vec<usize> {
    let mut rows = computed.rows.clone();
    rows.truncate(MAX_CITED);
    rows
}

/// Says what was computed, or what is unclear.
fn said(outcome: &Outcome, grids: &[Grid]) -> String {
    match outcome {
        Outcome::Computed(computed) => computed.in_words(&grids[computed.grid]),
        Outcome::Unclear { grid, columns } => {
            let names: Vec<&str> = columns.iter().map(|at| grids[*grid].columns[*at].name.as_str()).collect();
            format!("unclear which column is meant: {}", names.join(" or "))
        }
        _ => String::new(),
    }
}

/// Returns the tables of the documents of the passages that have rows of tables, in the order of the passages, and the documents.
fn tables(searcher: &Searcher<'_>, passages: &[Passage]) -> Result<(Vec<Placed>, HashMap<i64, Document>)> {
    let with_rows = passages.iter().filter(|passage| passage.sentences.iter().any(|sentence| sentence.row.is_some()));
    let with_rows: Vec<&Passage> = with_rows.collect();
    let chunks: Vec<_> = with_rows.iter().map(|passage| passage.chunk.clone()).collect();
    let (owners, documents) = {
        let catalogue = searcher.view.catalogue();
        let owners = catalogue.surroundings(&chunks)?;
        let mut ids: Vec<i64> = Vec::new();
        for chunk in &chunks {
            if let Some((id, _)) = owners.get(chunk)
                && !ids.contains(id)
                && ids.len() < MAX_DOCUMENTS
            {
                ids.push(*id);
            }
        }
        let documents: HashMap<i64, Document> = catalogue.documents(&ids)?;
        (owners, documents)
    };
    let mut found: Vec<(String, Span, Placed)> = Vec::new();
    for passage in with_rows {
        let Some((id, document)) = owners.get(&passage.chunk).and_then(|(id, _)| documents.get_key_value(id)) else {
            continue;
        };
        for block in document.blocks.iter().filter(|block| block.span.overlaps(passage.location.span)) {
            let Some(table) = &block.table else { continue };
            let known =
                |(name, span, _): &(String, Span, Placed)| *name == passage.location.document && *span == block.span;
            if found.iter().any(known) {
                continue;
            }
            let title = passage.location.section.last().or(passage.location.title.as_ref());
            let title = title.cloned().unwrap_or_else(|| passage.location.document.clone());
            let placed = Placed {
                grid: Grid::read(table, &document.text, &title),
                location: passage.location.clone(),
                document: *id,
            };
            found.push((passage.location.document.clone(), block.span, placed));
        }
    }
    Ok((found.into_iter().map(|(_, _, placed)| placed).collect(), documents))
}
