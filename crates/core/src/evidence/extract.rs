//! The extractive answer: the exact sentences of passages that answer a question.
//!
//! The score of a sentence is the share of the question that it covers. A question term counts fully if the sentence has it, in
//! part if the headings above have it, and little if it is elsewhere in the passage. Terms are weighted by how rare they are in
//! the corpus. A term that the corpus lacks weighs most, so that a question about something else cannot be covered. A question
//! with too little coverage is refused.

use crate::chunk::Sentence;
use crate::document::BlockKind;
use crate::query::{Question, TermSet};
use crate::search::Passage;
use crate::text::list_marker;

/// The weight of a term that only the headings above the sentence have.
const IN_HEADINGS: f32 = 0.75;
/// The weight of a term that only the rest of the passage has.
const NEARBY: f32 = 0.4;
/// The factor for the score of a sentence without the kind of answer asked for.
const UNEXPECTED: f32 = 0.75;
/// The weight of the passage's own score.
const PASSAGE_SHARE: f32 = 0.2;
/// The share of the best score from which a sentence with a later date goes first.
const LATER_WINS: f32 = 0.8;
/// The lowest share of the question that a further sentence must add.
const MIN_GAIN: f32 = 0.15;
/// The highest number of sentences in an answer.
const MAX_SELECTED: usize = 3;

/// The lowest share of the question that an answer must cover.
pub const MIN_COVERAGE: f32 = 0.65;

/// The lowest share of the terms besides the subject that the best sentence must cover. A passage about the right ship that
/// says nothing about the rest of the question is no answer.
const MIN_ASKED: f32 = 0.5;

/// A sentence selected for an answer.
#[derive(Clone, Debug, PartialEq)]
pub struct SelectedSentence {
    /// The index of its passage in the given list.
    pub passage: usize,
    /// The sentence.
    pub sentence: Sentence,
    /// The text to show: the sentence, or a table row that can be read alone.
    pub text: String,
    /// The share of the question that it covers alone, from 0 to 1.
    pub coverage: f32,
}

/// The evidence in the passages.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Extraction {
    /// The sentences of the answer, best first; empty if no passage has a word of the question.
    pub picked: Vec<SelectedSentence>,
    /// The share of the question that they cover together, from 0 to 1.
    pub coverage: f32,
    /// The share of the terms besides the subject that the best sentence covers, from 0 to 1.
    pub asked: f32,
    /// The question's terms that neither the sentences nor the headings above them have.
    pub missing: Vec<String>,
}

impl Extraction {
    /// Returns `true` if the coverage suffices for an answer.
    pub fn is_enough(&self, least: f32) -> bool {
        !self.picked.is_empty() && self.coverage >= least && self.asked >= MIN_ASKED
    }
}

struct Candidate<'a> {
    passage: usize,
    sentence: &'a Sentence,
    text: String,
    levels: Vec<f32>,
    coverage: f32,
    score: f32,
    date: &'a str,
}

/// Selects the sentences that answer a question. Costs one pass over the words of the passages.
///
/// Further sentences are added only while the best alone covers less than `enough` of the question.
pub fn extract(question: &Question, passages: &[Passage], enough: f32) -> Extraction {
    let total = question.total_weight();
    if total <= 0.0 {
        return Extraction::default();
    }
    let asked = |levels: &[f32]| {
        let terms = || levels.iter().zip(&question.terms).filter(|(_, term)| !term.subject);
        let all: f32 = terms().map(|(_, term)| term.weight).sum();
        if all > 0.0 { terms().map(|(level, term)| level * term.weight).sum::<f32>() / all } else { 1.0 }
    };
    let share = |levels: &[f32]| {
        levels.iter().zip(&question.terms).map(|(level, term)| level * term.weight).sum::<f32>() / total
    };
    let mut candidates: Vec<Candidate<'_>> = Vec::new();
    for (index, passage) in passages.iter().enumerate() {
        let headings = TermSet::new(&passage.context);
        let nearby = TermSet::new(&passage.text);
        let says = |kind: BlockKind| !matches!(kind, BlockKind::Heading | BlockKind::Contents);
        let quotable = passage.sentences.iter().enumerate().filter(|(_, sentence)| says(sentence.kind));
        for (place, sentence) in quotable {
            let Some(text) = spoken(passage, sentence) else {
                continue;
            };
            let own = TermSet::new(&text);
            let levels: Vec<f32> = question
                .terms
                .iter()
                .map(|term| match term {
                    term if own.has(term) => 1.0,
                    term if headings.has(term) => IN_HEADINGS,
                    term if nearby.has(term) => NEARBY,
                    _ => 0.0,
                })
                .collect();
            let coverage = share(&levels);
            let expected = if question.expects.is_met(&text) { 1.0 } else { UNEXPECTED };
            let score = coverage * expected + PASSAGE_SHARE * passage.score;
            let date = passage.date_of(place).unwrap_or_default();
            candidates.push(Candidate { passage: index, sentence, text, levels, coverage, score, date });
        }
    }
    let Some(best) = first_pick(&candidates) else {
        return Extraction::default();
    };

    let mut covered = candidates[best].levels.clone();
    let mut chosen = vec![best];
    while chosen.len() < MAX_SELECTED && share(&covered) < enough {
        let gain = |candidate: &Candidate<'_>| {
            let gained: Vec<f32> =
                candidate.levels.iter().zip(&covered).map(|(level, had)| (level - had).max(0.0)).collect();
            share(&gained)
        };
        let further = candidates
            .iter()
            .enumerate()
            .filter(|(index, candidate)| {
                !chosen.contains(index) && !chosen.iter().any(|&other| candidates[other].text == candidate.text)
            })
            .map(|(index, candidate)| (index, gain(candidate), candidate.score))
            .filter(|&(_, gain, _)| gain >= MIN_GAIN)
            .max_by(|a, b| (a.1 + a.2).total_cmp(&(b.1 + b.2)).then_with(|| b.0.cmp(&a.0)));
        let Some((index, _, _)) = further else { break };
        for (had, level) in covered.iter_mut().zip(&candidates[index].levels) {
            *had = had.max(*level);
        }
        chosen.push(index);
    }
    let missing = question
        .terms
        .iter()
        .zip(&covered)
        .filter(|(_, level)| **level < IN_HEADINGS)
        .map(|(term, _)| term.term.clone());
    Extraction {
        coverage: share(&covered),
        asked: asked(&candidates[best].levels),
        missing: missing.collect(),
        picked: chosen
            .into_iter()
            .map(|index| {
                let candidate = &candidates[index];
                SelectedSentence {
                    passage: candidate.passage,
                    sentence: candidate.sentence.clone(),
                    text: candidate.text.clone(),
                    coverage: candidate.coverage,
                }
            })
            .collect(),
    }
}

/// Returns the best candidate. Among those close to it, the one of the latest document goes first, so that a correction
/// precedes the text that it corrects.
fn first_pick(candidates: &[Candidate<'_>]) -> Option<usize> {
    let best = candidates.iter().map(|candidate| candidate.score).max_by(f32::total_cmp)?;
    (0..candidates.len())
        .filter(|&index| candidates[index].score >= best * LATER_WINS && candidates[index].coverage > 0.0)
        .max_by(|&a, &b| {
            let (a, b) = (&candidates[a], &candidates[b]);
            a.date.cmp(b.date).then_with(|| a.score.total_cmp(&b.score)).then_with(|| b.passage.cmp(&a.passage))
        })
}

/// Returns a sentence as it can be read alone; `None` for the header of a table.
fn spoken(passage: &Passage, sentence: &Sentence) -> Option<String> {
    if sentence.kind == BlockKind::Table {
        return sentence.row.clone();
    }
    let text = passage.slice(sentence.span).trim_start();
    // The number or bullet of an item is left out.
    let text = list_marker(text).map_or(text, |marker| text[marker.len()..].trim_start());
    (!text.is_empty()).then(|| text.split_whitespace().collect::<Vec<_>>().join(" "))
}
