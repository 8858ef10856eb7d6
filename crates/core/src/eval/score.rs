//! Scoring one question.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::answers::{only_repeats, token_f1};
use super::questions::plain;
use super::ranking::{JudgedPlace, JudgedRanking};
use super::{Relevant, SetQuestion};
use crate::answer::{Answer, CitedSource, Status};
use crate::document::Location;
use crate::round::serialize_score;
use crate::search::{Duplicate, Passage};
use crate::text::without_markers;
use crate::trace::{Trace, TraceDetails};
use crate::usage::TokenUsage;

/// Scores by name, such as `ndcg@10`.
pub type Metrics = BTreeMap<String, f64>;

/// The result of one question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct QuestionScore {
    /// The question's id.
    pub id: String,
    /// The question as it was searched for.
    pub question: String,
    /// The kind of question, as the set says; `None` if it says nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// The type of the documents with the answer, such as `pdf`; `None` for a question that should be refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document_type: Option<String>,
    /// Whether it should be refused.
    pub refuse: bool,
    /// Whether it was refused.
    pub refused: bool,
    /// Whether a citation of the answer points to a right place; `None` for a question that should be refused.
    pub cited: Option<bool>,
    /// Whether the answer says the expected value; `None` if none is expected.
    pub said: Option<bool>,
    /// The rank of the first right passage; `None` if it was not found.
    pub first_rank: Option<usize>,
    /// The measures that are defined for it.
    pub metrics: Metrics,
    /// What the answer says of how it came about, such as that the model failed and the documents answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The rank of each right place; `None` for one that was not found.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub place_ranks: Vec<Option<usize>>,
    /// Whether the answer was only the closest that there is.
    #[serde(default)]
    pub closest: bool,
    /// The probability that the evidence answers the question, as an answer without a model has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    /// The probability below which an answer is not sure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_confidence: Option<f64>,
    /// What was found and answered, for pages and tables; it is no part of the JSON.
    #[serde(skip)]
    pub details: QuestionDetails,
    /// The milliseconds of each stage.
    #[serde(skip)]
    pub stages: BTreeMap<String, f64>,
}

impl QuestionScore {
    /// Returns whether the evidence answers the question: its first citation is in a right place. `None` for an answerable question that was refused, of
    /// which no evidence is known.
    pub fn evidence_answers(&self) -> Option<bool> {
        match self.refuse {
            true => Some(false),
            false if self.refused => None,
            false => self.metrics.get("first_cited").map(|value| *value > 0.0),
        }
    }
}

/// What was wanted of a question, what was found, and what was answered, for people.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct QuestionDetails {
    /// The right places.
    pub wanted: Vec<Relevant>,
    /// The text that a right answer contains.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected: Option<String>,
    /// The passages, in order.
    pub passages: Vec<FoundPassage>,
    /// The answer with its markers, or the reason of a refusal.
    pub answer: String,
    /// The sources of the answer.
    pub sources: Vec<FoundSource>,
}

/// A passage that was found for a question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FoundPassage {
    /// The name of its document.
    pub document: String,
    /// Its place, as it is printed.
    pub place: String,
    /// Its score; the higher, the better.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
    /// The beginning of its text.
    pub text: String,
    /// Whether it is in a right place.
    pub right: bool,
}

/// A source that an answer cites.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FoundSource {
    /// Its number in the answer.
    pub marker: usize,
    /// Its place, as it is printed.
    pub place: String,
    /// The beginning of what it says.
    pub quotation: String,
    /// Whether it is in a right place.
    pub right: bool,
}

/// The length of a text in the details, in characters.
const MAX_DETAIL: usize = 280;

/// Scores one question: the ranking of its passages, its answer, and the trace of that.
///
/// Of the ranking of an answerable question: `recall@1`, `@5`, `@10`, `precision@1`, `@5`, `hit@1`, `@3`, `@10`, `mrr`, `map`, `ndcg@10`. Of
/// its answer: `cited` and `first_cited`, whether any or the first citation is in a right place; `said`, whether the expected value is in
/// it; `f1`, the words that it shares with the expected answer; `wrongly_refused`; `closest`, whether it is not sure. Of each question: `right`, whether its first citation is in a right
/// place, or it was rightly refused or not sure. Of each answer: `supported`, the share of its claims
/// that are; `repeats`, whether it only repeats the question; `tokens`. Of an unanswerable question: `refused`, and
/// `doubted`, whether it was refused or not sure; the same as `refused_near`, `doubted_far` and so on if the kind of question begins with one of these words. Of what has a probability: `brier`, its squared
/// error (Brier, 1950).
pub fn score_question(question: &SetQuestion, passages: &[Passage], answer: &Answer, trace: &Trace) -> QuestionScore {
    let flag = |flag: bool| f64::from(u8::from(flag));
    let refused = answer.is_refusal();
    let kind = question.other.get("kind").and_then(|kind| kind.as_str()).map(str::to_owned);
    let mut score = QuestionScore {
        id: question.id.clone(),
        question: question.searched(),
        document_type: document_type(question),
        refuse: question.refuse,
        refused,
        cited: None,
        said: None,
        first_rank: None,
        metrics: Metrics::new(),
        note: answer.note.clone(),
        place_ranks: Vec::new(),
        closest: answer.status == Status::Closest,
        confidence: answer.confidence.map(f64::from),
        min_confidence: None,
        details: details(question, passages, answer),
        stages: stage_times(trace),
        kind,
    };
    score.min_confidence = trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Extract { min_confidence, .. } => Some(f64::from(*min_confidence)),
        _ => None,
    });
    let mut put = |name: &str, value: f64| score.metrics.insert(name.to_owned(), value);
    if question.refuse {
        put("refused", flag(refused));
        put("doubted", flag(refused || score.closest));
        for kind in ["near", "far"] {
            if score.kind.as_ref().is_some_and(|known| known.starts_with(kind)) {
                put(&format!("refused_{kind}"), flag(refused));
                put(&format!("doubted_{kind}"), flag(refused || score.closest));
            }
        }
    } else {
        let ranking = judged(question, passages);
        for (name, value) in ranking_metrics(&ranking) {
            put(&name, value);
        }
        let first = answer.claims.iter().find_map(|claim| claim.citations.first());
        let first = first.and_then(|marker| answer.sources.iter().find(|source| source.marker == *marker));
        let cited = !refused && answer.sources.iter().any(|source| is_right(question, source));
        put("cited", flag(cited));
        put("first_cited", flag(!refused && first.is_some_and(|source| is_right(question, source))));
        put("wrongly_refused", flag(refused));
        put("closest", flag(score.closest));
        (score.cited, score.first_rank) = (Some(cited), ranking.first_rank());
        score.place_ranks = place_ranks(&ranking);
    }
    if let Some(wanted) = &question.answer {
        let said = !refused && plain(&answer.answer).contains(&plain(wanted));
        put("said", flag(said));
        put("f1", if refused { 0.0 } else { token_f1(&text(answer), wanted) });
        score.said = Some(said);
    }
    if !refused {
        let supported = answer.claims.iter().filter(|claim| claim.verdict.is_borne_out()).count();
        put("supported", supported as f64 / answer.claims.len().max(1) as f64);
        put("repeats", flag(only_repeats(&text(answer), &question.question)));
    }
    let first_cited = score.metrics.get("first_cited").is_some_and(|value| *value > 0.0);
    let right = if question.refuse { refused || score.closest } else { first_cited };
    if let Some(answers) = score.evidence_answers()
        && let Some(confidence) = score.confidence
    {
        score.metrics.insert("brier".to_owned(), (confidence - flag(answers)).powi(2));
    }
    score.metrics.insert("right".to_owned(), flag(right));
    let TokenUsage { sent, received } = answer.tokens;
    score.metrics.insert("tokens".to_owned(), (sent + received) as f64);
    score
}

/// Returns the measures of the ranking of an answerable question.
fn ranking_metrics(ranking: &JudgedRanking) -> Metrics {
    let mut metrics = Metrics::new();
    for count in [1, 5, 10] {
        metrics.insert(format!("recall@{count}"), ranking.recall(count));
    }
    for count in [1, 5] {
        metrics.insert(format!("precision@{count}"), ranking.precision(count));
    }
    for count in [1, 3, 10] {
        let is_hit = ranking.first_rank().is_some_and(|rank| rank <= count);
        metrics.insert(format!("hit@{count}"), f64::from(u8::from(is_hit)));
    }
    metrics.insert("mrr".to_owned(), ranking.reciprocal_rank());
    metrics.insert("map".to_owned(), ranking.average_precision());
    metrics.insert("ndcg@10".to_owned(), ranking.ndcg(10));
    metrics
}

/// Scores the ranking of a question alone, such as one that was read from a file. It has the measures of a search.
pub fn score_ranking(id: impl Into<String>, ranking: &JudgedRanking) -> QuestionScore {
    QuestionScore {
        id: id.into(),
        question: String::new(),
        kind: None,
        document_type: None,
        refuse: false,
        refused: false,
        cited: None,
        said: None,
        first_rank: ranking.first_rank(),
        metrics: ranking_metrics(ranking),
        note: None,
        place_ranks: place_ranks(ranking),
        closest: false,
        confidence: None,
        min_confidence: None,
        details: QuestionDetails::default(),
        stages: BTreeMap::new(),
    }
}

fn place_ranks(ranking: &JudgedRanking) -> Vec<Option<usize>> {
    ranking.places.iter().map(|place| place.ranks.iter().copied().min()).collect()
}

/// Returns the places of a question with the ranks of the passages that have them.
fn judged(question: &SetQuestion, passages: &[Passage]) -> JudgedRanking {
    // A passage may have several sections: the one at its start, and those whose headings it contains.
    let locations: Vec<Location> = passages.iter().map(Passage::location_with_headings).collect();
    let places = question.relevant.iter().map(|relevant| {
        let ranked = passages.iter().zip(&locations).enumerate();
        let is_right = |passage: &Passage, location: &Location| is_in(relevant, passage, location);
        let ranks =
            ranked.filter(|(_, (passage, location))| is_right(passage, location)).map(|(at, _)| at + 1).collect();
        JudgedPlace { grade: relevant.grade, ranks }
    });
    JudgedRanking { places: places.collect() }
}

/// Returns `true` if a passage, or one with the same text, is at a place.
fn is_in(relevant: &Relevant, passage: &Passage, location: &Location) -> bool {
    let at_duplicate = |other: &Duplicate| relevant.is_at(&other.location, &passage.text);
    relevant.is_at(location, &passage.text) || passage.also.iter().any(at_duplicate)
}

/// Returns what people want to see of a question.
fn details(question: &SetQuestion, passages: &[Passage], answer: &Answer) -> QuestionDetails {
    let short = |text: &str| {
        let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
        match line.char_indices().nth(MAX_DETAIL) {
            Some((end, _)) => format!("{}…", &line[..end]),
            None => line,
        }
    };
    let passage = |passage: &Passage| FoundPassage {
        document: passage.location.document.clone(),
        place: passage.location.to_string(),
        score: passage.score,
        text: short(passage.body()),
        right: question.relevant.iter().any(|relevant| is_in(relevant, passage, &passage.location_with_headings())),
    };
    let source = |source: &CitedSource| FoundSource {
        marker: source.marker,
        place: source.location.to_string(),
        quotation: short(&source.quotation),
        right: is_right(question, source),
    };
    QuestionDetails {
        wanted: question.relevant.clone(),
        expected: question.answer.clone(),
        passages: passages.iter().map(passage).collect(),
        answer: answer.answer.clone(),
        sources: answer.sources.iter().map(source).collect(),
    }
}

/// Returns `true` if a source is in a right place.
fn is_right(question: &SetQuestion, source: &CitedSource) -> bool {
    let is_relevant = |location: &Location, quotation: &str| {
        question.relevant.iter().any(|relevant| relevant.is_at(location, quotation))
    };
    is_relevant(&source.location, &source.quotation)
        || source.also.iter().chain(&source.more).any(|other| is_relevant(&other.location, &other.quotation))
}

/// Returns the text of an answer without its markers.
fn text(answer: &Answer) -> String {
    answer.claims.iter().map(|claim| without_markers(&claim.text)).collect::<Vec<_>>().join(" ")
}

/// Returns the type of the documents with the answer by the ends of their names; several are joined.
fn document_type(question: &SetQuestion) -> Option<String> {
    let end = |name: &str| match name.rsplit_once('.') {
        Some((_, end)) if !end.contains('/') => end.to_lowercase(),
        _ => "other".to_owned(),
    };
    let mut types: Vec<String> = question.relevant.iter().map(|place| end(&place.document)).collect();
    types.sort();
    types.dedup();
    (!types.is_empty()).then(|| types.join("+"))
}

/// Returns the milliseconds of each stage of a trace, summed where it ran several times.
fn stage_times(trace: &Trace) -> BTreeMap<String, f64> {
    trace.records.iter().fold(BTreeMap::new(), |mut times, record| {
        *times.entry(record.details.stage().to_owned()).or_default() += record.took_ms;
        times
    })
}
