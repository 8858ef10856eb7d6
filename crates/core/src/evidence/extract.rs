//! The extractive answer: the exact sentences of passages that answer a question.

use super::candidate::{Candidate, candidates, share};
use super::compose::{AnswerLength, around};
use super::confidence::Facts;
use super::force::{InForce, in_force};
use super::model::EvidenceModel;
use crate::chunk::Sentence;
use crate::document::Date;
use crate::query::{Expectation, Question};
use crate::search::Passage;

/// The lowest share of the question that a further sentence must add.
const MIN_GAIN: f32 = 0.15;
/// The share of the question from which no further sentence is looked for.
const ENOUGH: f32 = 0.65;
/// The highest number of places that an answer is taken from.
const MAX_PLACES: usize = 3;
/// The lowest share of the terms besides the subject that a sure answer covers. A passage about the right ship that says nothing of the rest of the
/// question may be no answer.
const MIN_ASKED: f32 = 0.5;
/// The least degree to which the kind of thing asked for must be there for a sure answer.
const MIN_EXPECTED: f32 = 0.4;
/// The level from which a term counts as found.
const FOUND: f32 = 0.75;

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

/// How sure an answer is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Certainty {
    /// The evidence answers the question.
    Sure,
    /// It is the nearest that there is, and may not be the answer.
    Closest,
    /// Nothing is said of it.
    #[default]
    Nothing,
}

/// The evidence in the passages.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Extraction {
    /// The sentences of the answer, in the order of the answer; empty if no passage has a sentence.
    pub picked: Vec<SelectedSentence>,
    /// The probability that they answer the question.
    pub confidence: f32,
    /// The probability that the corpus says something of what is asked.
    pub related: f32,
    /// What that was told from.
    pub facts: Facts,
    /// The share of the question that they cover together, from 0 to 1.
    pub coverage: f32,
    /// Whether a numbered thing that is asked about, such as Berth 12, is nowhere in the evidence, or little of what is asked of a thing that is named.
    pub lacks: bool,
    /// The question's terms that neither the sentences nor the headings above them have.
    pub missing: Vec<String>,
    /// If sources disagree, why the first goes first.
    pub disagreement: Option<String>,
    /// The best candidates with their scores, the best first, whether they were chosen or not.
    pub considered: Vec<(Candidate, f32)>,
}

/// How evidence is chosen.
#[derive(Clone, Copy, Debug)]
pub struct EvidenceSettings<'a> {
    /// The weights.
    pub model: &'a EvidenceModel,
    /// How long an answer is.
    pub length: AnswerLength,
    /// The day that counts if sources disagree; `None` means that the latest counts.
    pub as_of: Option<&'a Date>,
    /// The number of chunks of the corpus.
    pub chunks: u64,
    /// The number of candidates that are kept to be shown.
    pub shown: usize,
}

impl Default for EvidenceSettings<'_> {
    fn default() -> Self {
        Self { model: EvidenceModel::learned(), length: AnswerLength::default(), as_of: None, chunks: 1_000, shown: 8 }
    }
}

impl Extraction {
    /// Returns how sure the answer is, by the least probability of a sure one.
    pub fn certainty(&self, min_confidence: f32, model: &EvidenceModel) -> Certainty {
        match self {
            _ if self.picked.is_empty() || self.related < model.min_related => Certainty::Nothing,
            _ if self.confidence < min_confidence || self.lacks || self.facts.expected < MIN_EXPECTED => {
                Certainty::Closest
            }
            _ => Certainty::Sure,
        }
    }
}

/// Selects the sentences that answer a question.
///
/// Costs one pass over the words of the passages.
pub fn extract(question: &Question, passages: &[Passage], settings: &EvidenceSettings<'_>) -> Extraction {
    choose(question, passages, &candidates(question, passages), settings)
}

/// Selects the sentences that answer a question among candidates, as [`extract`] does.
pub fn choose(
    question: &Question,
    passages: &[Passage],
    all: &[Candidate],
    settings: &EvidenceSettings<'_>,
) -> Extraction {
    let mut all: Vec<Candidate> = all.iter().filter(|candidate| candidate.says_something()).cloned().collect();
    let fitting = |candidate: &Candidate| candidate.has_what_is_asked(&question.expects);
    if all.iter().any(fitting) {
        all.retain(fitting);
    }
    let all = all.as_slice();
    let scores: Vec<f32> = all.iter().map(|candidate| settings.model.score(&candidate.features)).collect();
    let Some(InForce { first: best, other, reason }) = in_force(question, passages, all, &scores, settings.as_of)
    else {
        return Extraction::default();
    };
    let facts = Facts::measure(question, passages, all, &all[best], settings.chunks);

    let mut covered = all[best].levels.clone();
    let mut places = vec![best];
    places.extend(other);
    let wants_more = |covered: &[f32]| share(question, covered) < ENOUGH || question.expects == Expectation::Comparison;
    while places.len() < MAX_PLACES && wants_more(&covered) {
        let Some(further) = further(question, all, &scores, &places, &covered) else { break };
        covered.iter_mut().zip(&all[further].levels).for_each(|(had, level)| *had = had.max(*level));
        places.push(further);
    }
    let terms = || question.terms.iter().zip(&covered);
    let numbered_is_missing = terms().any(|(term, level)| term.behind.is_some() && term.subject && *level < FOUND);
    let names_something = question.is_asked && question.terms.iter().any(|term| term.subject);
    let missing = terms().filter(|(_, level)| **level < FOUND);
    let mut considered: Vec<usize> = (0..all.len()).collect();
    considered.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]));
    considered.truncate(settings.shown);
    Extraction {
        lacks: numbered_is_missing || (names_something && facts.asked < MIN_ASKED),
        confidence: settings.model.confidence(&facts),
        related: settings.model.relatedness(&facts),
        facts,
        coverage: share(question, &covered),
        missing: missing.map(|(term, _)| term.term.clone()).collect(),
        picked: composed(question, passages, all, &places, settings.length),
        disagreement: reason,
        considered: considered.into_iter().map(|at| (all[at].clone(), scores[at])).collect(),
    }
}

/// Returns the name of a row and those of its cells whose columns the question names; `None` if it names none.
fn asked_cells(question: &Question, row: &str) -> Option<String> {
    const BETWEEN: &str = " · ";
    let mut cells = row.split(BETWEEN);
    let name = cells.next()?;
    let is_asked = |cell: &&str| cell.split_once(": ").is_some_and(|(column, _)| !question.matches(column).is_empty());
    let asked: Vec<&str> = cells.filter(is_asked).collect();
    (!asked.is_empty()).then(|| [vec![name], asked].concat().join(BETWEEN))
}

/// Returns the candidate that adds most of the question to what is covered.
fn further(question: &Question, all: &[Candidate], scores: &[f32], places: &[usize], covered: &[f32]) -> Option<usize> {
    let least = scores.iter().fold(f32::INFINITY, |least, score| least.min(*score));
    let most = scores.iter().fold(f32::NEG_INFINITY, |most, score| most.max(*score));
    let relative = |at: usize| (scores[at] - least) / (most - least).max(1e-6);
    let gain = |candidate: &Candidate| {
        let gained: Vec<f32> =
            candidate.levels.iter().zip(covered).map(|(level, had)| (level - had).max(0.0)).collect();
        share(question, &gained)
    };
    let others = (0..all.len())
        .filter(|at| !places.contains(at) && !places.iter().any(|other| all[*other].text == all[*at].text));
    let gaining = others.map(|at| (at, gain(&all[at]))).filter(|(_, gain)| *gain >= MIN_GAIN);
    let value = |(at, gain): &(usize, f32)| gain + relative(*at);
    gaining.max_by(|a, b| value(a).total_cmp(&value(b)).then_with(|| b.0.cmp(&a.0))).map(|(at, _)| at)
}

/// Returns the sentences of the chosen places with what belongs to them. None comes twice, nor one whose text another has.
fn composed(
    question: &Question,
    passages: &[Passage],
    all: &[Candidate],
    places: &[usize],
    length: AnswerLength,
) -> Vec<SelectedSentence> {
    let mut picked: Vec<SelectedSentence> = Vec::new();
    for place in places {
        let Candidate { passage, place, .. } = all[*place];
        for at in around(&passages[passage], place, &question.expects, length) {
            let sentence = &passages[passage].sentences[at];
            let Some(text) = super::candidate::spoken(&passages[passage], sentence) else { continue };
            let text = match (length, &sentence.row) {
                (AnswerLength::Brief, Some(_)) => asked_cells(question, &text).unwrap_or(text),
                _ => text,
            };
            if picked.iter().any(|other| other.text.contains(&text)) {
                continue;
            }
            let known = all.iter().find(|candidate| (candidate.passage, candidate.place) == (passage, at));
            let coverage = known.map_or(0.0, |candidate| candidate.coverage(question));
            picked.push(SelectedSentence { passage, sentence: sentence.clone(), text, coverage });
        }
    }
    picked
}
