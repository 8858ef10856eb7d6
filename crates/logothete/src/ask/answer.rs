//! Making the answer: picking sentences, citing them, checking what is claimed.

use logothete_core::Result;
use logothete_core::cite::{
    AlsoThere, Answer, Claim, Picked, Question, SourceLine, Status, Tokens, check, extract, question_parts,
};
use logothete_core::document::Span;
use logothete_core::keyword::{Query, query_terms};
use logothete_core::search::Passage;
use serde_json::json;

use super::find::{Found, find};
use super::request::SearchRequest;
use crate::corpus::{Inner, View};
use crate::trace::{Trace, score};

/// How many passages a refusal names.
const NEAREST: usize = 3;

/// Answers each of some questions from the corpus as it is now.
pub(crate) fn ask(inner: &Inner, requests: &[SearchRequest]) -> Result<Vec<Answer>> {
    let view = inner.view()?;
    requests.iter().map(|request| answer(inner, &view, request)).collect()
}

/// Answers a question part by part, or refuses.
fn answer(inner: &Inner, view: &View<'_>, request: &SearchRequest) -> Result<Answer> {
    let mut trace = Trace::start();
    let question = request.query.as_str();
    let parts = question_parts(question);
    if parts.len() > 1 {
        trace.stage("split", json!({ "parts": parts }));
    }
    let mut written = Written::default();
    let mut unanswered = Vec::new();
    let mut nearest = Vec::new();
    for part in &parts {
        let Found { passages, .. } = find(inner, view, &Query::plain(part), request, &mut trace)?;
        if !answer_part(inner, view, part, &passages, &mut written, &mut trace)? {
            unanswered.push(*part);
            nearest.extend(passages.into_iter().take(NEAREST));
        }
    }
    if unanswered.len() == parts.len() {
        return Ok(refusal(question, nearest, trace));
    }
    point(view, &mut written.sources)?;
    let verdicts: Vec<_> = written
        .claims
        .iter()
        .map(|claim| json!({ "verdict": claim.verdict, "support": score(claim.support) }))
        .collect();
    trace.stage("check", json!({ "claims": verdicts }));
    let mut text: Vec<String> = written
        .claims
        .iter()
        .map(|claim| {
            let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
            format!("{} {markers}", claim.text)
        })
        .collect();
    text.extend(unanswered.iter().map(|part| format!("The corpus holds no clear answer to this part: {part}")));
    Ok(Answer {
        question: question.to_owned(),
        status: Status::Answered,
        answer: text.join("\n"),
        claims: written.claims,
        sources: written.sources,
        nearest: Vec::new(),
        tokens: Tokens::default(),
        trace: trace.finish(),
    })
}

/// The claims and sources so far.
#[derive(Default)]
struct Written {
    claims: Vec<Claim>,
    sources: Vec<SourceLine>,
}

/// Picks the sentences that answer a part, and writes them down with their sources. Says whether they were enough.
fn answer_part(
    inner: &Inner,
    view: &View<'_>,
    part: &str,
    passages: &[Passage],
    written: &mut Written,
    trace: &mut Trace,
) -> Result<bool> {
    let statistics = view.snapshot.statistics(&query_terms(part));
    let question = Question::new(part, |term| statistics.weight(term));
    let least = inner.pipeline.settings.least_coverage;
    let extraction = extract(&question, passages, least);
    trace.stage(
        "extract",
        json!({
            "terms": question.terms.iter().map(|term| json!({ "term": term.term, "weight": score(term.weight) })).collect::<Vec<_>>(),
            "coverage": score(extraction.coverage),
            "asked": score(extraction.asked),
            "least_coverage": score(least),
            "missing": extraction.missing,
            "picked": extraction.picked.iter()
                .map(|picked| json!({ "chunk": passages[picked.passage].chunk, "text": picked.text, "coverage": score(picked.coverage) }))
                .collect::<Vec<_>>(),
        }),
    );
    let enough = extraction.is_enough(least);
    if enough {
        for picked in &extraction.picked {
            cite(&question, &passages[picked.passage], picked, written);
        }
    }
    Ok(enough)
}

/// Adds a claim for a sentence, with its source. A sentence that is there already is not said twice.
fn cite(question: &Question, passage: &Passage, picked: &Picked, written: &mut Written) {
    let span = picked.sentence.span;
    let here = |document: &str, at: Span| document == passage.document && at == span;
    let stands = |source: &SourceLine| {
        here(&source.document, source.span) || source.also.iter().any(|other| here(&other.document, other.span))
    };
    if written.sources.iter().any(stands) {
        return;
    }
    // The names of a table's columns stand in the passage, or in its context when it was cut below them.
    let support = match picked.sentence.row {
        Some(_) => check(&picked.text, &format!("{}\n{}", passage.context, passage.text)),
        None => check(&picked.text, &passage.text),
    };
    let marker = written.sources.len() + 1;
    written.claims.push(Claim {
        text: picked.text.clone(),
        verdict: support.verdict,
        support: support.share,
        citations: vec![marker],
    });
    written.sources.push(source(question, passage, picked, marker));
}

/// The place of a picked sentence. Where it stands in several documents the latest of them goes first.
fn source(question: &Question, passage: &Passage, picked: &Picked, marker: usize) -> SourceLine {
    let own = AlsoThere {
        document: passage.document.clone(),
        title: passage.title.clone(),
        pages: picked.sentence.pages,
        section: passage.section.clone(),
        span: picked.sentence.span,
        quotation: passage.slice(picked.sentence.span).to_owned(),
    };
    let index = passage.sentences.iter().position(|sentence| sentence.span == picked.sentence.span);
    let others = passage.also.iter().filter_map(|other| {
        let (sentence, quotation) = other.sentences.get(index?)?.as_ref()?;
        let place = AlsoThere {
            document: other.document.clone(),
            title: other.title.clone(),
            pages: sentence.pages,
            section: other.section.clone(),
            span: sentence.span,
            quotation: quotation.clone(),
        };
        Some((other.date.clone(), place))
    });
    let mut places: Vec<(Option<String>, AlsoThere)> =
        [(passage.date.clone(), own)].into_iter().chain(others).collect();
    places.sort_by(|a, b| b.0.cmp(&a.0));
    let mut places = places.into_iter();
    let (date, first) = places.next().unwrap_or_default();
    SourceLine {
        marker,
        document: first.document,
        title: first.title,
        date,
        pages: first.pages,
        areas: Vec::new(),
        seconds: None,
        section: first.section,
        span: first.span,
        matches: question.matches(&first.quotation),
        quotation: first.quotation,
        also: places.map(|(_, place)| place).collect(),
    }
}

/// Adds where each source is: on its page, in its recording, under its own headings, which in a chunk over several sections
/// are not those of the chunk.
fn point(view: &View<'_>, sources: &mut [SourceLine]) -> Result<()> {
    let catalogue = view.catalogue();
    for source in sources {
        if let Some(layout) = catalogue.layout(&source.document)? {
            source.areas = layout.areas(source.span);
            source.seconds = layout.seconds(source.span);
            source.section = catalogue.section_at(&source.document, source.span.start)?;
        }
        for other in &mut source.also {
            other.section = catalogue.section_at(&other.document, other.span.start)?;
        }
    }
    Ok(())
}

fn refusal(question: &str, mut passages: Vec<Passage>, trace: Trace) -> Answer {
    passages.truncate(NEAREST);
    let answer = if passages.is_empty() {
        "The corpus holds no answer to this, and nothing that comes near."
    } else {
        "The corpus holds no clear answer to this. These passages come nearest:"
    };
    Answer {
        question: question.to_owned(),
        status: Status::Refused,
        answer: answer.to_owned(),
        claims: Vec::new(),
        sources: Vec::new(),
        nearest: passages,
        tokens: Tokens::default(),
        trace: trace.finish(),
    }
}
