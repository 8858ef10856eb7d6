//! Answers without a model: each part of a question is answered from sentences or tables, and it is said how sure that is.

use logothete_core::Result;
use logothete_core::evidence::{
    Candidate, Certainty, EvidenceSettings, Extraction, FACT_NAMES, SelectedSentence, day_asked, extract,
};
use logothete_core::keyword::Query;
use logothete_core::query::{Question, Term, question_parts, question_terms};
use logothete_core::search::Passage;
use logothete_core::trace::{CandidateRecord, ClaimRecord, SentenceRecord, TermRecord, TraceDetails};

use crate::checking::object_to_answer;
use crate::opened::Opened;
use crate::search::{Ahead, Found, SearchRequest, Searcher};
use crate::storage::View;
use crate::threads::StopToken;
use crate::trace::Recorder;

use super::cite::{Draft, pinpoint};
use super::model::settle;
use super::tables::{self, TableAnswer};
use super::whole;
use super::{Answer, AnsweredPart, Claim, Reply, Status};

/// The number of candidates that a trace shows.
const MAX_CONSIDERED: usize = 8;

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
        recorder.step(start, || TraceDetails::Split {
            parts: parts.iter().map(|part| part.question.to_string()).collect(),
        });
    }
    let mut draft = Draft::default();
    let mut text = Vec::new();
    let (mut answered, mut nearest, mut by_part) = (Vec::new(), Vec::new(), Vec::new());
    for part in &parts {
        let Found { passages, notes, .. } = searcher.find(&Query::plain(&part.question), request, recorder)?;
        add_notes(&mut findings.notes, notes);
        let first = draft.claims.len();
        let mut found = answer_part(searcher, request, &part.question, &passages, &mut draft, recorder)?;
        let lines = draft.lines(first);
        if found.certainty == Certainty::Closest && lines.is_empty() {
            // What comes closest was said of another part.
            found.certainty = Certainty::Nothing;
        }
        match found.certainty {
            Certainty::Nothing => {
                nearest.extend(passages.iter().take(MAX_NEAREST).cloned());
                text.push(format!("The corpus holds no clear answer to this part: {}", part.said));
            }
            Certainty::Closest if parts.len() > 1 => {
                text.push(format!("Closest to this part, and not sure: {}", part.said));
            }
            _ => {}
        }
        let status = match found.certainty {
            Certainty::Sure => Status::Answered,
            Certainty::Closest => Status::Closest,
            Certainty::Nothing => Status::Refused,
        };
        by_part.push(AnsweredPart::new(part.said, status, lines.join("\n")));
        text.extend(lines);
        answered.push(found);
        if part.question == question {
            findings.passages = Some(passages);
        }
    }
    let certainties = || answered.iter().map(|found| found.certainty);
    if certainties().all(|certainty| certainty == Certainty::Nothing) {
        let mut answer = refusal(question, nearest);
        // The part that came nearest says why.
        let best =
            answered.into_iter().max_by(|a, b| a.confidence.unwrap_or(0.0).total_cmp(&b.confidence.unwrap_or(0.0)));
        (answer.confidence, answer.reason) = best.map_or((None, None), |best| (best.confidence, best.reason));
        if let Some(reason) = answer.reason.as_ref().filter(|_| !answer.nearest.is_empty()) {
            answer.answer = format!("The corpus holds no clear answer to this: {reason}. These passages come nearest:");
        }
        return Ok(answer);
    }
    let start = recorder.start("extract");
    pinpoint(searcher.view, &mut draft.sources)?;
    recorder.step(start, || {
        let record = |claim: &Claim| ClaimRecord {
            verdict: claim.verdict,
            support: claim.support,
            reason: claim.reason.clone(),
        };
        TraceDetails::Check { claims: draft.claims.iter().map(record).collect() }
    });
    let is_sure = certainties().any(|certainty| certainty == Certainty::Sure);
    let status = if is_sure { Status::Answered } else { Status::Closest };
    let mut answer = Answer::new(question, status, text.join("\n"));
    (answer.claims, answer.sources) = (draft.claims, draft.sources);
    if parts.len() > 1 {
        answer.parts = by_part;
    }
    answer.note =
        answered.iter().find_map(|found| found.disagreement.as_ref()).map(|why| format!("Sources disagree: {why}."));
    // An answer of several parts is as sure as the least sure of those that it answers.
    let least = answered
        .into_iter()
        .filter(|found| found.certainty != Certainty::Nothing)
        .min_by(|a, b| a.confidence.unwrap_or(1.0).total_cmp(&b.confidence.unwrap_or(1.0)));
    (answer.confidence, answer.reason) = least.map_or((None, None), |least| (least.confidence, least.reason));
    let objections = object_to_answer(searcher.opened.pipeline.checks(), &mut answer);
    if objections > 0 {
        settle(searcher.opened.config().answer.unsupported, &mut answer, objections);
    }
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

/// What came of a part of a question.
struct PartAnswer {
    certainty: Certainty,
    confidence: Option<f32>,
    reason: Option<String>,
    /// If sources disagree, why the first goes first.
    disagreement: Option<String>,
}

/// Adds what answers a part, with its sources.
fn answer_part(
    searcher: &Searcher<'_>,
    request: &SearchRequest,
    part: &str,
    passages: &[Passage],
    draft: &mut Draft,
    recorder: &mut Recorder,
) -> Result<PartAnswer> {
    let statistics = searcher.view.snapshot.statistics(&question_terms(part));
    let question = Question::new(part, |term| statistics.weight(term));
    if let Some(computed) = tables::answer(searcher, request, part, &question, passages, draft, recorder)? {
        let TableAnswer { reason, disagreement } = computed;
        return Ok(PartAnswer { certainty: Certainty::Sure, confidence: None, reason: Some(reason), disagreement });
    }
    let start = recorder.start("check");
    let config = &searcher.opened.config().answer;
    let shown = if request.explained { usize::MAX } else { MAX_CONSIDERED };
    let as_of = request.as_of.clone().or_else(|| day_asked(part));
    let settings = EvidenceSettings {
        length: config.length,
        as_of: as_of.as_ref(),
        chunks: statistics.rows(),
        shown,
        ..EvidenceSettings::default()
    };
    let extraction = extract(&question, passages, &settings);
    let certainty = extraction.certainty(config.min_confidence, settings.model);
    // What a passage says of a part of it is no answer about the whole.
    if request.filter.is_none()
        && let Some(reason) = whole::answer(searcher, part, &question, passages, &settings, draft)?
    {
        recorder.step(start, || {
            record(&question, passages, &extraction, config.min_confidence, &settings, request.explained)
        });
        return Ok(PartAnswer {
            certainty: Certainty::Sure,
            confidence: None,
            reason: Some(reason),
            disagreement: None,
        });
    }
    recorder
        .step(start, || record(&question, passages, &extraction, config.min_confidence, &settings, request.explained));
    if certainty != Certainty::Nothing {
        for selected in &extraction.picked {
            draft.cite(&question, &passages[selected.passage], selected);
        }
    }
    let reason = extraction.reason(part, &question, passages, certainty);
    let disagreement = extraction.disagreement.filter(|_| certainty != Certainty::Nothing);
    Ok(PartAnswer { certainty, confidence: Some(extraction.confidence), reason, disagreement })
}

/// Records how the sentences of an answer were chosen.
fn record(
    question: &Question,
    passages: &[Passage],
    extraction: &Extraction,
    min_confidence: f32,
    settings: &EvidenceSettings<'_>,
    explained: bool,
) -> TraceDetails {
    let term = |term: &Term| TermRecord { term: term.term.clone(), weight: term.weight };
    let sentence = |selected: &SelectedSentence| SentenceRecord {
        chunk: passages[selected.passage].chunk.clone(),
        text: selected.text.clone(),
        coverage: selected.coverage,
    };
    let candidate = |(candidate, score): &(Candidate, f32)| {
        let shares = settings.model.shares(&candidate.features);
        CandidateRecord {
            chunk: passages[candidate.passage].chunk.clone(),
            text: candidate.text.clone(),
            score: *score,
            shares: shares.into_iter().map(|(name, share)| (name.to_owned(), share)).collect(),
            features: if explained { candidate.features.to_vec() } else { Vec::new() },
            lost: extraction.why_lost(candidate, *score, settings.model),
        }
    };
    let facts = FACT_NAMES.iter().zip(extraction.facts.values());
    TraceDetails::Extract {
        terms: question.terms.iter().map(term).collect(),
        coverage: extraction.coverage,
        confidence: extraction.confidence,
        min_confidence,
        related: extraction.related,
        facts: facts.map(|(name, value)| ((*name).to_owned(), value)).collect(),
        missing: extraction.missing.clone(),
        candidates: extraction.considered.iter().map(candidate).collect(),
        picked: extraction.picked.iter().map(sentence).collect(),
    }
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
