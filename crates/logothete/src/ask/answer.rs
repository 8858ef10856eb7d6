//! Making the answer: picking sentences, citing them, checking what is claimed.

use logothete_core::Result;
use logothete_core::cite::{Answer, Claim, Extraction, Question, SourceLine, Status, Tokens, check, extract};
use logothete_core::search::Passage;
use serde_json::json;

use super::find::passages;
use crate::corpus::Inner;
use crate::trace::Trace;

/// How many passages a refusal names.
const NEAREST: usize = 3;

/// Answers a question, or refuses.
pub(crate) fn ask(inner: &Inner, question: &str) -> Result<Answer> {
    let mut trace = Trace::start();
    let passages = passages(inner, question, &mut trace)?;
    let parts = {
        let terms = logothete_core::keyword::query_terms(question);
        let statistics = inner.snapshot()?.statistics(&terms);
        Question::new(question, |term| statistics.weight(term))
    };
    let extraction = extract(&parts, &passages);
    let least = inner.pipeline.settings.least_coverage;
    trace.stage(
        "extract",
        json!({
            "terms": parts.terms.iter().map(|(term, weight)| json!({ "term": term, "weight": weight })).collect::<Vec<_>>(),
            "coverage": extraction.coverage,
            "least_coverage": least,
            "missing": extraction.missing,
            "picked": extraction.picked.iter()
                .map(|picked| json!({ "chunk": passages[picked.passage].chunk, "text": picked.text, "coverage": picked.coverage }))
                .collect::<Vec<_>>(),
        }),
    );
    if !extraction.is_enough(least) {
        return Ok(refusal(question, passages, trace));
    }
    let (claims, sources) = cite(&parts, &passages, &extraction);
    let verdicts: Vec<_> = claims.iter().map(|claim| json!({ "verdict": claim.verdict, "support": claim.support })).collect();
    trace.stage("check", json!({ "claims": verdicts }));
    let text: Vec<String> = claims
        .iter()
        .map(|claim| {
            let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
            format!("{} {markers}", claim.text)
        })
        .collect();
    Ok(Answer {
        question: question.to_owned(),
        status: Status::Answered,
        answer: text.join(" "),
        claims,
        sources,
        nearest: Vec::new(),
        tokens: Tokens::default(),
        trace: trace.finish(),
    })
}

/// A claim for each sentence, with its source.
fn cite(question: &Question, passages: &[Passage], extraction: &Extraction) -> (Vec<Claim>, Vec<SourceLine>) {
    let mut claims = Vec::new();
    let mut sources = Vec::new();
    for (index, picked) in extraction.picked.iter().enumerate() {
        let passage = &passages[picked.passage];
        let quotation = passage.slice(picked.sentence.span).to_owned();
        // The names of a table's columns stand in the passage, or in its context when it was cut below them.
        let support = match picked.sentence.row {
            Some(_) => check(&picked.text, &format!("{}\n{}", passage.context, passage.text)),
            None => check(&picked.text, &passage.text),
        };
        claims.push(Claim {
            text: picked.text.clone(),
            verdict: support.verdict,
            support: support.share,
            citations: vec![index + 1],
        });
        sources.push(SourceLine {
            marker: index + 1,
            document: passage.document.clone(),
            title: passage.title.clone(),
            date: passage.date.clone(),
            pages: picked.sentence.pages,
            section: passage.section.clone(),
            span: picked.sentence.span,
            matches: question.matches(&quotation),
            quotation,
        });
    }
    (claims, sources)
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
