//! Answers without a model: selecting sentences, citing them, verifying what is claimed.

use logothete_core::Result;
use logothete_core::document::Location;
use logothete_core::evidence::{SelectedSentence, extract};
use logothete_core::keyword::{Query, query_terms};
use logothete_core::query::{Question, question_parts};
use logothete_core::search::Passage;
use logothete_core::trace::{ClaimRecord, SentenceRecord, TermRecord, TraceDetails};
use logothete_core::verify::check;

use crate::opened::Opened;
use crate::search::{Ahead, Found, SearchRequest, Searcher};
use crate::storage::View;
use crate::threads::StopToken;
use crate::trace::Recorder;

use super::{Answer, CitedSource, Claim, OtherSource, Reply, Status};

/// The number of passages that a refusal names.
pub(super) const MAX_NEAREST: usize = 3;

/// Answers some questions from the corpus as of a view.
pub(crate) fn ask_all(
    opened: &Opened,
    view: &View,
    requests: &[SearchRequest],
    ahead: &Ahead,
    stop: &StopToken,
) -> Result<Vec<Reply>> {
    let searcher = Searcher { opened, view, ahead, stop };
    requests.iter().map(|request| reply(&searcher, request, Recorder::new(request.traced))).collect()
}

/// Answers a question, or refuses.
pub(crate) fn reply(searcher: &Searcher<'_>, request: &SearchRequest, mut recorder: Recorder) -> Result<Reply> {
    recorder.begin("ask", || TraceDetails::Ask { question: request.query.clone() });
    let mut findings = Findings::default();
    let answered = answer_from(searcher, request, &mut recorder, &mut findings);
    let (answer, trace) = recorder.attach(answered)?;
    Ok(Reply { notes: findings.notes, ..Reply::new(answer, trace) })
}

/// Answers a question with a trace, and returns the passages that were found for all of it too.
pub(crate) fn reply_with_passages(searcher: &Searcher<'_>, request: &SearchRequest) -> Result<Reply> {
    let mut recorder = Recorder::new(true);
    recorder.begin("ask", || TraceDetails::Ask { question: request.query.clone() });
    let mut findings = Findings::default();
    let answered = answer_from(searcher, request, &mut recorder, &mut findings);
    let (answer, trace) = recorder.attach(answered)?;
    let passages = match findings.passages {
        Some(passages) => passages,
        None => searcher.search(request)?.passages,
    };
    Ok(Reply { passages, notes: findings.notes, ..Reply::new(answer, trace) })
}

/// Answers a question part by part.
pub(super) fn answer(searcher: &Searcher<'_>, request: &SearchRequest, recorder: &mut Recorder) -> Result<Answer> {
    answer_from(searcher, request, recorder, &mut Findings::default())
}

/// What the searches for an answer found besides it.
#[derive(Default)]
struct Findings {
    /// The passages for the whole question; `None` if only its parts were searched for.
    passages: Option<Vec<Passage>>,
    notes: Vec<String>,
}

/// Answers a question part by part.
fn answer_from(
    searcher: &Searcher<'_>,
    request: &SearchRequest,
    recorder: &mut Recorder,
    findings: &mut Findings,
) -> Result<Answer> {
    let question = request.query.as_str();
    let start = recorder.start("split");
    let parts = question_parts(question);
    if parts.len() > 1 {
        recorder.step(start, || TraceDetails::Split { parts: parts.iter().map(|part| (*part).to_owned()).collect() });
    }
    let mut draft = Draft::default();
    let mut unanswered = Vec::new();
    let mut nearest = Vec::new();
    for part in &parts {
        let Found { passages, notes, .. } = searcher.find(&Query::plain(part), request, recorder)?;
        add_notes(&mut findings.notes, notes);
        if !answer_part(searcher, part, &passages, &mut draft, recorder) {
            unanswered.push(*part);
            nearest.extend(passages.iter().take(MAX_NEAREST).cloned());
        }
        if *part == question {
            findings.passages = Some(passages);
        }
    }
    if unanswered.len() == parts.len() {
        return Ok(refusal(question, nearest));
    }
    let start = recorder.start("extract");
    pinpoint(searcher.view, &mut draft.sources)?;
    recorder.step(start, || {
        let record = |claim: &Claim| ClaimRecord { verdict: claim.verdict, support: claim.support };
        TraceDetails::Check { claims: draft.claims.iter().map(record).collect() }
    });
    let mut text: Vec<String> = draft
        .claims
        .iter()
        .map(|claim| {
            let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
            format!("{} {markers}", claim.text)
        })
        .collect();
    text.extend(unanswered.iter().map(|part| format!("The corpus holds no clear answer to this part: {part}")));
    let mut answer = Answer::new(question, Status::Answered, text.join("\n"));
    (answer.claims, answer.sources) = (draft.claims, draft.sources);
    Ok(answer)
}

/// Adds notes that are not there yet.
pub(super) fn add_notes(to: &mut Vec<String>, notes: Vec<String>) {
    for note in notes {
        if !to.contains(&note) {
            to.push(note);
        }
    }
}

/// The claims and sources so far.
#[derive(Default)]
struct Draft {
    claims: Vec<Claim>,
    sources: Vec<CitedSource>,
}

/// Adds the sentences that answer a part, with their sources. Returns `false` if they do not cover enough of it.
fn answer_part(
    searcher: &Searcher<'_>,
    part: &str,
    passages: &[Passage],
    draft: &mut Draft,
    recorder: &mut Recorder,
) -> bool {
    let start = recorder.start("check");
    let statistics = searcher.view.snapshot.statistics(&query_terms(part));
    let question = Question::new(part, |term| statistics.weight(term));
    let min_coverage = searcher.opened.config().generator.min_coverage;
    let extraction = extract(&question, passages, min_coverage);
    recorder.step(start, || {
        let term = |term: &logothete_core::query::Term| TermRecord { term: term.term.clone(), weight: term.weight };
        let sentence = |selected: &SelectedSentence| SentenceRecord {
            chunk: passages[selected.passage].chunk.clone(),
            text: selected.text.clone(),
            coverage: selected.coverage,
        };
        TraceDetails::Extract {
            terms: question.terms.iter().map(term).collect(),
            coverage: extraction.coverage,
            asked: extraction.asked,
            min_coverage,
            missing: extraction.missing.clone(),
            picked: extraction.picked.iter().map(sentence).collect(),
        }
    });
    let enough = extraction.is_enough(min_coverage);
    if enough {
        for selected in &extraction.picked {
            cite(&question, &passages[selected.passage], selected, draft);
        }
    }
    enough
}

/// Adds a claim for a sentence, with its source. A sentence that is cited already is not cited again.
fn cite(question: &Question, passage: &Passage, selected: &SelectedSentence, draft: &mut Draft) {
    let span = selected.sentence.span;
    let here = |location: &Location| location.document == passage.location.document && location.span == span;
    let stands = |source: &CitedSource| here(&source.location) || source.also.iter().any(|other| here(&other.location));
    if draft.sources.iter().any(stands) {
        return;
    }
    // The passage has the names of a table's columns, or its context has them if the table was cut below them.
    let support = match selected.sentence.row {
        Some(_) => check(&selected.text, &format!("{}\n{}", passage.context, passage.text)),
        None => check(&selected.text, &passage.text),
    };
    let marker = draft.sources.len() + 1;
    draft.claims.push(Claim::new(&selected.text, support.verdict, support.share, vec![marker]));
    draft.sources.push(source(question, passage, selected, marker));
}

/// Returns the source of a sentence. If several documents say the same, the latest of them comes first.
fn source(question: &Question, passage: &Passage, selected: &SelectedSentence, marker: usize) -> CitedSource {
    let narrowed = |location: &Location, sentence: &logothete_core::chunk::Sentence| {
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

pub(super) fn refusal(question: &str, mut passages: Vec<Passage>) -> Answer {
    passages.truncate(MAX_NEAREST);
    let text = if passages.is_empty() {
        "The corpus holds no answer to this, and nothing that comes near."
    } else {
        "The corpus holds no clear answer to this. These passages come nearest:"
    };
    let mut answer = Answer::new(question, Status::Refused, text);
    answer.nearest = passages;
    answer
}
