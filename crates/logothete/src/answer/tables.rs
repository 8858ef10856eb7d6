//! Answers that are computed over the rows of tables.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::document::{Document, Location, Span};
use logothete_core::evidence::{NamedCell, SelectedSentence, correction, day_asked};
use logothete_core::keyword::Query;
use logothete_core::query::Question;
use logothete_core::search::Passage;
use logothete_core::table::{ColumnKind, Computed, Grid, Outcome, Request, compute, joined};
use logothete_core::trace::TraceDetails;
use logothete_core::verify::Verdict;

use super::cite::Draft;
use super::{CitedSource, Claim};
use crate::search::{SearchRequest, Searcher};
use crate::trace::Recorder;

/// The most documents whose tables are read for a question.
const MAX_DOCUMENTS: usize = 4;
/// The most rows of a result for which later texts are looked for.
const MAX_LOOKED_UP: usize = 3;
/// The most rows that are cited. The claim says of how many it is.
const MAX_CITED: usize = 12;

/// A table of a document, and where it stands.
struct Placed {
    grid: Grid,
    location: Location,
    /// The number of its document.
    document: i64,
}

/// What was computed for an answer.
pub(super) struct TableAnswer {
    /// Why it is sure.
    pub reason: String,
    /// What a later text says in place of cells.
    pub disagreement: Option<String>,
}

/// Adds what a question asks to be computed over tables of the passages, with the rows that it was computed from. Returns `None` if nothing of the kind
/// is asked, or no table fits.
///
/// Costs reading the documents of the tables, and a search for each of the first rows of a result, since a later text may correct them.
pub(super) fn answer(
    searcher: &Searcher<'_>,
    request: &SearchRequest,
    part: &str,
    question: &Question,
    passages: &[Passage],
    draft: &mut Draft,
    recorder: &mut Recorder,
) -> Result<Option<TableAnswer>> {
    let Some(wanted) = Request::of(part) else { return Ok(None) };
    let start = recorder.start("check");
    let (mut placed, documents) = tables(searcher, passages)?;
    let mut grids = joined(placed.iter_mut().map(|placed| std::mem::take(&mut placed.grid)).collect());
    let mut outcome = compute(&wanted, &grids);
    let corrections = correct(searcher, request, &wanted, &placed, &mut grids, &mut outcome)?;
    let statement = outcome.as_ref().map(|outcome| said(outcome, &grids));
    recorder.step(start, || TraceDetails::Compute {
        operation: format!("{:?}", wanted.operation),
        tables: grids.iter().map(|grid| grid.title.clone()).collect(),
        result: statement.clone(),
    });
    let Some(Outcome::Computed(computed)) = outcome else { return Ok(None) };
    let grid = &grids[computed.grid];
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
    for corrected in &corrections {
        draft.cite(question, &corrected.passage, &corrected.sentence);
    }
    let disagreement = corrections.iter().map(|corrected| corrected.said.as_str()).collect::<Vec<_>>().join("; ");
    let reason = format!("computed from {} rows of “{}”", computed.considered, grid.title);
    Ok(Some(TableAnswer { reason, disagreement: (!disagreement.is_empty()).then_some(disagreement) }))
}

/// A cell that a later text says otherwise than its table.
struct Corrected {
    passage: Passage,
    sentence: SelectedSentence,
    /// What it says in place of what.
    said: String,
}

/// Looks for later texts about the first rows of a result, puts what they say into the table, and computes again until the result stands.
fn correct(
    searcher: &Searcher<'_>,
    request: &SearchRequest,
    wanted: &Request,
    placed: &[Placed],
    grids: &mut [Grid],
    outcome: &mut Option<Outcome>,
) -> Result<Vec<Corrected>> {
    let as_of = request.as_of.clone().or_else(|| day_asked(&request.query));
    let (mut seen, mut corrections) = (Vec::new(), Vec::new());
    while let Some(Outcome::Computed(computed)) = outcome {
        let Some(column) = computed.column else { break };
        let grid = &mut grids[computed.grid];
        let next = computed.rows.iter().copied().take(MAX_LOOKED_UP).find(|row| !seen.contains(row));
        let Some(row) = next.filter(|_| seen.len() < MAX_LOOKED_UP) else { break };
        seen.push(row);
        let location = &placed[grid.rows[row].table].location;
        let dimension = match &grid.columns[column].kind {
            ColumnKind::Number(unit) => unit.as_ref().map(|unit| &unit.dimension),
            _ => break,
        };
        let name = computed.name(grid, row).to_owned();
        let cell = NamedCell { row: &name, column: &grid.columns[column].name, dimension, table: location };
        // The name of the column tells the text about this cell from others about the row.
        let about = Query::plain(&format!("{name} {}", cell.column));
        let passages = searcher.find(&about, &request.clone().untraced(), &mut Recorder::new(false))?.passages;
        let Some(found) = correction(cell, &passages, as_of.as_ref()) else { continue };
        let passage = passages[found.passage].clone();
        let sentence = passage.sentences[found.place].clone();
        let text = passage.slice(sentence.span).split_whitespace().collect::<Vec<_>>().join(" ");
        let cell = &mut grid.rows[row].cells[column];
        if cell.value == Some(found.value) {
            continue;
        }
        let title = |location: &Location| location.title.clone().unwrap_or_else(|| location.document.clone());
        let said = format!(
            "{} of {} says {} of {name}, and “{}” {}",
            title(&passage.location),
            passage.location.date.as_deref().unwrap_or("a later day"),
            found.written,
            title(location),
            cell.text
        );
        (cell.value, cell.text) = (Some(found.value), found.written);
        let sentence = SelectedSentence { passage: 0, sentence, text, coverage: 0.0 };
        corrections.push(Corrected { passage, sentence, said });
        *outcome = compute(wanted, grids);
    }
    Ok(corrections)
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
