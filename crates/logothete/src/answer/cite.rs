//! The claims of an answer and the places that they cite.

use logothete_core::Result;
use logothete_core::chunk::Sentence;
use logothete_core::document::Location;
use logothete_core::evidence::SelectedSentence;
use logothete_core::query::Question;
use logothete_core::search::Passage;
use logothete_core::verify::check;

use super::{CitedSource, Claim, OtherSource};
use crate::storage::View;

/// The claims and sources so far.
#[derive(Default)]
pub(super) struct Draft {
    pub claims: Vec<Claim>,
    pub sources: Vec<CitedSource>,
}

impl Draft {
    /// Adds a claim for a sentence, with its source. A sentence that is cited already is not cited again.
    pub(super) fn cite(&mut self, question: &Question, passage: &Passage, selected: &SelectedSentence) {
        let span = selected.sentence.span;
        let here = |location: &Location| location.document == passage.location.document && location.span == span;
        let stands =
            |source: &CitedSource| here(&source.location) || source.also.iter().any(|other| here(&other.location));
        if self.sources.iter().any(stands) {
            return;
        }
        // The passage has the names of a table's columns, or its context has them if the table was cut below them.
        let support = match selected.sentence.row {
            Some(_) => check(&selected.text, &format!("{}\n{}", passage.context, passage.text)),
            None => check(&selected.text, &passage.text),
        };
        let marker = self.sources.len() + 1;
        self.claims.push(Claim::new(&selected.text, support.verdict, support.share, vec![marker]));
        self.sources.push(source(question, passage, selected, marker));
    }

    /// Returns the claims from one on as lines with their markers.
    pub(super) fn lines(&self, from: usize) -> Vec<String> {
        let line = |claim: &Claim| {
            let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
            format!("{} {markers}", claim.text)
        };
        self.claims[from..].iter().map(line).collect()
    }
}

/// Returns the source of a sentence. If several documents say the same, the latest of them comes first.
fn source(question: &Question, passage: &Passage, selected: &SelectedSentence, marker: usize) -> CitedSource {
    let narrowed = |location: &Location, sentence: &Sentence| {
        let mut location = location.clone();
        (location.pages, location.span) = (sentence.pages, sentence.span);
        location
    };
    let own = OtherSource::new(narrowed(&passage.location, &selected.sentence), passage.slice(selected.sentence.span));
    let index = passage.sentences.iter().position(|sentence| sentence.span == selected.sentence.span);
    let others = passage.also.iter().filter_map(|other| {
        let counterpart = other.sentences.get(index?)?.as_ref()?;
        Some(OtherSource::new(narrowed(&other.location, &counterpart.sentence), &counterpart.text))
    });
    let mut all: Vec<OtherSource> = std::iter::once(own).chain(others).collect();
    all.sort_by(|a, b| b.location.date.cmp(&a.location.date));
    let first = all.remove(0);
    let mut source = CitedSource::new(marker, first.location, first.quotation);
    source.matches = question.matches(&source.quotation);
    source.also = all;
    source
}

/// Fills in where each source stands on its page or in its recording, and its own headings: those of a chunk that holds several
/// sections are not those of every sentence in it.
pub(super) fn pinpoint(view: &View, sources: &mut [CitedSource]) -> Result<()> {
    let own = sources.iter_mut().flat_map(|source| {
        let others = source.also.iter_mut().chain(&mut source.more).map(|other| &mut other.location);
        std::iter::once(&mut source.location).chain(others)
    });
    view.catalogue().pinpoint(&mut own.collect::<Vec<_>>())
}
