//! The extractive answer: the sentences of the passages that answer a question, word for word.
//!
//! Each sentence is weighed by how much of the question it covers. A question term counts fully when the sentence has
//! it, in part when the headings above have it, and a little when it only stands nearby in the passage. Terms
//! count by how rare they are in the corpus; a term that the corpus lacks counts most, so that a question about
//! something else cannot be covered. Too little covered is a refusal.

use crate::chunk::Sentence;
use crate::document::BlockKind;
use crate::query::{Question, TermSet};
use crate::search::Passage;
use crate::text::list_marker;

/// How much a term counts that only the headings above the sentence have.
const IN_HEADINGS: f32 = 0.75;
/// How much a term counts that only stands elsewhere in the passage.
const NEARBY: f32 = 0.4;
/// What is left of a sentence's score when the kind of thing asked for is not in it.
const UNEXPECTED: f32 = 0.75;
/// How much the passage's own score adds.
const PASSAGE_SHARE: f32 = 0.2;
/// How close to the best a sentence must come for its later date to put it first.
const LATER_WINS: f32 = 0.8;
/// The least share of the question that a further sentence must add.
const MIN_GAIN: f32 = 0.15;
/// The most sentences in an answer.
const MAX_SELECTED: usize = 3;

/// The share of the question that must be covered for an answer to be given.
pub const MIN_COVERAGE: f32 = 0.65;

/// The share of what is asked, subject aside, that the best sentence must cover. A passage about the right ship that says
/// nothing of what is asked of her is no answer.
const MIN_ASKED: f32 = 0.5;

/// A sentence picked for an answer.
#[derive(Clone, Debug, PartialEq)]
pub struct SelectedSentence {
    /// The passage it is from, by its place in the list that was given.
    pub passage: usize,
    /// The sentence.
    pub sentence: Sentence,
    /// What to say: the sentence, or a table's row readable alone.
    pub text: String,
    /// The share of the question it covers alone, from 0 to 1.
    pub coverage: f32,
}

/// What was found in the passages.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Extraction {
    /// The sentences of the answer, best first; empty when no passage has a word of the question.
    pub picked: Vec<SelectedSentence>,
    /// The share of the question that they cover together, from 0 to 1.
    pub coverage: f32,
    /// The share of what is asked, subject aside, that the best sentence covers, from 0 to 1.
    pub asked: f32,
    /// The question's terms that none of them has, nor the headings above them.
    pub missing: Vec<String>,
}

impl Extraction {
    /// Returns `true` if enough of the question is covered to answer it.
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

/// Picks the sentences that answer a question. Costs one pass over the words of the passages.
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
        let quotable = passage.sentences.iter().enumerate().filter(|(_, sentence)| sentence.kind != BlockKind::Heading);
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

/// The best candidate; among those that come close to it, the one from the latest document, so that a correction goes
/// before what it corrects.
fn first_pick(candidates: &[Candidate<'_>]) -> Option<usize> {
    let best = candidates.iter().map(|candidate| candidate.score).max_by(f32::total_cmp)?;
    (0..candidates.len())
        .filter(|&index| candidates[index].score >= best * LATER_WINS && candidates[index].coverage > 0.0)
        .max_by(|&a, &b| {
            let (a, b) = (&candidates[a], &candidates[b]);
            a.date.cmp(b.date).then_with(|| a.score.total_cmp(&b.score)).then_with(|| b.passage.cmp(&a.passage))
        })
}

/// Returns a sentence as it reads alone; `None` for the header of a table.
fn spoken(passage: &Passage, sentence: &Sentence) -> Option<String> {
    if sentence.kind == BlockKind::Table {
        return sentence.row.clone();
    }
    let text = passage.slice(sentence.span).trim_start();
    // An item's number or bullet is not part of what it says.
    let text = list_marker(text).map_or(text, |marker| text[marker.len()..].trim_start());
    (!text.is_empty()).then(|| text.split_whitespace().collect::<Vec<_>>().join(" "))
}
