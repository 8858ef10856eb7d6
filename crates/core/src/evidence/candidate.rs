//! What an answer can be made of: the quotable parts of passages, and what is measured of each.

use crate::chunk::Sentence;
use crate::document::BlockKind;
use crate::query::{Expectation, Question, TermSet, is_question};
use crate::search::Passage;
use crate::text::{fold, list_marker, words};

/// The number of features of a candidate.
pub const FEATURES: usize = 21;

/// What is measured of a candidate.
pub type CandidateFeatures = [f32; FEATURES];

/// The names of the features, in their order.
///
/// Of the passage: its score as a share of the best, and its rank. Of the question: the share that the words and headings cover, the share that only the rest of
/// the passage covers, and the share of names and figures. Of the kind of thing asked for: whether it is there, is not, and whether figures are. Of the text:
/// whether it asks, says nothing new, is short (four words) or long (46), its place among the sentences, whether it is a row, an item, code, or only points
/// somewhere. Those that end in `asked` are the same where a question is asked, and 0 where only a subject is named.
pub const FEATURE_NAMES: [&str; FEATURES] = [
    "passage",
    "passage_rank",
    "covered",
    "passage_asked",
    "nearby",
    "subject",
    "expected",
    "unexpected",
    "figures",
    "question",
    "nothing_new",
    "short",
    "long",
    "first",
    "place",
    "row",
    "item",
    "code",
    "reference",
    "covered_asked",
    "place_asked",
];

// The places of the features.
const PASSAGE: usize = 0;
const PASSAGE_RANK: usize = 1;
const COVERED: usize = 2;
const PASSAGE_ASKED: usize = 3;
const NEARBY: usize = 4;
const SUBJECT: usize = 5;
const EXPECTED: usize = 6;
const UNEXPECTED: usize = 7;
const FIGURES: usize = 8;
const QUESTION: usize = 9;
const NOTHING_NEW: usize = 10;
const SHORT: usize = 11;
const LONG: usize = 12;
const FIRST: usize = 13;
const PLACE: usize = 14;
const ROW: usize = 15;
const ITEM: usize = 16;
const CODE: usize = 17;
const REFERENCE: usize = 18;
const COVERED_ASKED: usize = 19;
const PLACE_ASKED: usize = 20;

/// The weight of a term that only the headings above the sentence have.
const LEVEL_IN_HEADINGS: f32 = 0.75;
/// The weight of a term that only the rest of the passage has.
const LEVEL_NEARBY: f32 = 0.4;

/// A quotable part of a passage that may answer a question.
#[derive(Clone, Debug, PartialEq)]
pub struct Candidate {
    /// The index of its passage in the given list.
    pub passage: usize,
    /// Its index among the sentences of the passage.
    pub place: usize,
    /// The text to show: the sentence, or a table row that can be read alone.
    pub text: String,
    /// For each term of the question how well it is covered: 1 in the sentence, less in the headings above or elsewhere in the passage.
    pub levels: Vec<f32>,
    /// What is measured of it.
    pub features: CandidateFeatures,
}

/// Returns the candidates of some passages.
///
/// Costs one pass over the words of the passages.
pub fn candidates(question: &Question, passages: &[Passage]) -> Vec<Candidate> {
    let best = passages.iter().map(|passage| passage.score).fold(0.0_f32, f32::max).max(1e-6);
    let mut found = Vec::new();
    for (index, passage) in passages.iter().enumerate() {
        let headings = question.terms_of(&passage.context);
        let nearby = question.terms_of(&passage.text);
        let quotable = passage.sentences.iter().enumerate().filter(|(_, sentence)| is_quotable(sentence));
        let mut number = 0_usize;
        for (place, sentence) in quotable {
            let Some(text) = spoken(passage, sentence) else { continue };
            let own = question.terms_of(&text);
            let levels = levels(question, &own, &headings, &nearby);
            let mut features = of_text(question, sentence, &text, &levels, &own);
            features[PASSAGE] = (passage.score / best).max(0.0);
            features[PASSAGE_RANK] = 1.0 / (1.0 + index as f32 / 3.0);
            features[PASSAGE_ASKED] = if question.is_asked { features[PASSAGE] } else { 0.0 };
            features[COVERED_ASKED] = if question.is_asked { features[COVERED] } else { 0.0 };
            features[FIRST] = f32::from(u8::from(number == 0));
            features[PLACE] = 1.0 / (1.0 + number as f32 / 4.0);
            features[PLACE_ASKED] = if question.is_asked { features[PLACE] } else { 0.0 };
            // The rows of a table are in no order that says what matters.
            number += usize::from(sentence.row.is_none());
            found.push(Candidate { passage: index, place, text, levels, features });
        }
    }
    found
}

/// Returns `true` unless a sentence is a heading or an entry of a list of contents.
pub(super) fn is_quotable(sentence: &Sentence) -> bool {
    !matches!(sentence.kind, BlockKind::Heading | BlockKind::Contents)
}

fn levels(question: &Question, own: &TermSet, headings: &TermSet, nearby: &TermSet) -> Vec<f32> {
    let level = |term: &_| match term {
        term if own.has(term) => 1.0,
        term if headings.has(term) || own.has_price_like(term) => LEVEL_IN_HEADINGS,
        term if nearby.has(term) => LEVEL_NEARBY,
        _ => 0.0,
    };
    question.terms.iter().map(level).collect()
}

/// Measures a text alone.
fn of_text(question: &Question, sentence: &Sentence, text: &str, levels: &[f32], own: &TermSet) -> CandidateFeatures {
    let flag = |flag: bool| f32::from(u8::from(flag));
    let total = question.total_weight().max(1e-6);
    let at_level = |wanted: f32| {
        let of = question.terms.iter().zip(levels).filter(|(_, level)| **level == wanted);
        of.map(|(term, _)| term.weight).sum::<f32>() / total
    };
    let subject: f32 = question.terms.iter().filter(|term| term.subject).map(|term| term.weight).sum();
    let had = question.terms.iter().zip(levels).filter(|(term, level)| term.subject && **level >= LEVEL_IN_HEADINGS);
    let met = question.expects.met_by(text);
    let count = words(text).count();
    let mut features = [0.0; FEATURES];
    features[COVERED] = at_level(1.0) + LEVEL_IN_HEADINGS * at_level(LEVEL_IN_HEADINGS);
    features[NEARBY] = at_level(LEVEL_NEARBY);
    features[SUBJECT] = if subject > 0.0 { had.map(|(term, _)| term.weight).sum::<f32>() / subject } else { 1.0 };
    features[EXPECTED] = met.unwrap_or(0.0);
    features[UNEXPECTED] = met.map_or(0.0, |met| 1.0 - met);
    features[FIGURES] = flag(question.expects.is_figure() && met.is_some_and(|met| met > 0.0));
    features[QUESTION] = flag(asks(text));
    features[NOTHING_NEW] = flag(
        sentence.kind != BlockKind::Code && question.matches(text).len() >= own.len() && !question.is_denied_by(text),
    );
    features[SHORT] = flag(count < 5 && sentence.row.is_none());
    features[LONG] = flag(count > 45);
    features[ROW] = flag(sentence.row.is_some());
    features[ITEM] = flag(sentence.kind == BlockKind::ListItem);
    features[CODE] = flag(sentence.kind == BlockKind::Code);
    features[REFERENCE] = flag(is_reference(text, count) || text.trim_end().ends_with(':'));
    features
}

/// Returns `true` for a question. A sentence such as `When the wind rises, cranes stop.` is none.
fn asks(text: &str) -> bool {
    text.trim_end().ends_with(['?', '？', '؟']) || (is_question(text) && !text.trim_end().ends_with(['.', ';', ':']))
}

/// Returns `true` for a sentence that only points somewhere.
fn is_reference(text: &str, count: usize) -> bool {
    let first = words(text).next().map(|word| fold(word.text)).unwrap_or_default();
    count <= 14 && ["see", "siehe", "vgl", "voir", "véase", "vedi", "cf", "refer"].contains(&first.as_str())
}

/// Returns a sentence as it can be read alone; `None` for the header of a table.
pub(super) fn spoken(passage: &Passage, sentence: &Sentence) -> Option<String> {
    if sentence.kind == BlockKind::Table {
        return sentence.row.clone();
    }
    let text = passage.slice(sentence.span).trim_start();
    // The number or bullet of an item is left out.
    let text = list_marker(text).map_or(text, |marker| text[marker.len()..].trim_start());
    if sentence.kind == BlockKind::Code {
        return (!text.is_empty()).then(|| passage.slice(sentence.span).trim_end().to_owned());
    }
    (!text.is_empty()).then(|| text.split_whitespace().collect::<Vec<_>>().join(" "))
}

impl Candidate {
    /// Returns the share of the question that its own words and its headings cover.
    pub(super) fn covered(&self) -> f32 {
        self.features[COVERED]
    }

    /// Returns `false` for what is never an answer: a question, and what only repeats the question.
    pub fn says_something(&self) -> bool {
        self.features[QUESTION] == 0.0 && self.features[NOTHING_NEW] == 0.0
    }

    /// Returns `true` unless figures are asked for and it has none.
    pub fn has_what_is_asked(&self, expects: &Expectation) -> bool {
        !expects.is_figure() || expects.met_by(&self.text).is_none_or(|met| met > 0.0)
    }

    /// Returns the share of the question that it covers, from 0 to 1.
    pub fn coverage(&self, question: &Question) -> f32 {
        share(question, &self.levels)
    }

    /// Returns whether it has the kind of thing that is asked for, from 0 to 1; 1 if nothing in particular is.
    pub(super) fn expected(&self, expects: &Expectation) -> f32 {
        expects.met_by(&self.text).unwrap_or(1.0)
    }
}

/// Returns the share of a question that some levels cover.
pub(super) fn share(question: &Question, levels: &[f32]) -> f32 {
    let total = question.total_weight();
    let covered: f32 = levels.iter().zip(&question.terms).map(|(level, term)| level * term.weight).sum();
    if total > 0.0 { covered / total } else { 0.0 }
}
