//! How rules and meaning are weighed: what is measured of a claim and its source, and the learned weights.

use std::sync::LazyLock;

use serde::{Deserialize, Serialize};

use super::align::{Alignment, SAME};
use super::meaning::Meaning;
use super::rules::{Difference, DifferenceKind};
use crate::error::{Error, ErrorKind, Result};
use crate::learn::Logistic;
use crate::vector::ClaimReading;

/// The names of what is measured, in their order.
///
/// Of meaning: the highest cosine of the claim with a sentence and with two neighbours, and how well its words fit: on average over the source, the worst, and
/// the three worst. Of words: the share that the best sentence and the best clause have, that which is the same word, that of which the source says nothing, and
/// the longest run of words in the same order. Then the gravest difference of each kind, how long the claim is, and how grave a
/// difference of numbers is beside words that are the same. Then what a reader of both makes of them: the odds of each of its three answers. Last, what counts
/// differently where words are the same and no rule objects: a sentence that is taken over is most often true, and one that is taken over but for a word is not.
pub const SUPPORT_NAMES: [&str; SUPPORT_FACTS] = [
    "sentence_meaning",
    "pair_meaning",
    "words",
    "worst_word",
    "three_worst",
    "best_sentence",
    "best_clause",
    "same_words",
    "missing_words",
    "run",
    "number",
    "number_missing",
    "name",
    "name_missing",
    "opposite",
    "exclusive",
    "denial",
    "duty",
    "degree",
    "condition",
    "hedge",
    "order",
    "word",
    "contradictions",
    "length",
    "has_words",
    "changed_number",
    "read_supported",
    "read_contradicted",
    "read_unsupported",
    "clean_same_words",
    "clean_run",
    "same_words_squared",
    "run_squared",
    "all_words",
    "whole_run",
    "best_sentence_squared",
    "clean_sentence",
    "clean_read_supported",
    "same_read_supported",
    "same_read_contradicted",
];

/// The number of what is measured.
pub const SUPPORT_FACTS: usize = 41;

/// The place of what is measured of changed numbers, and that of the first odds of a reader.
pub(super) const CHANGED_NUMBER: usize = 26;
const FIRST_ODDS: usize = 27;
/// The place of the first of what is made of others.
const FIRST_MADE: usize = 30;

/// Up to this sum of contradictions, no rule objects.
const MAX_CLEAN: f32 = 0.1;

/// The greatest logarithm of odds that a reader's answer counts as.
const MAX_ODDS: f32 = 6.0;

/// A longer claim counts as this long: the weights were fitted to shorter ones.
const MAX_LENGTH: usize = 40;

/// What is measured of a claim and its source.
pub type SupportFacts = [f32; SUPPORT_FACTS];

/// The kinds of differences that are measured, in the order of their names.
const KINDS: [DifferenceKind; 13] = [
    DifferenceKind::Number,
    DifferenceKind::NumberMissing,
    DifferenceKind::Name,
    DifferenceKind::NameMissing,
    DifferenceKind::Opposite,
    DifferenceKind::Exclusive,
    DifferenceKind::Denial,
    DifferenceKind::Duty,
    DifferenceKind::Degree,
    DifferenceKind::Condition,
    DifferenceKind::Hedge,
    DifferenceKind::Order,
    DifferenceKind::Word,
];
/// The place of the first of them.
const FIRST_KIND: usize = 10;

/// The weights by which a claim is supported or not, as `bench --bin claims` fits them.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SupportModel {
    /// The names of what is measured, in their order.
    pub facts: Vec<String>,
    /// How probable it is that the source speaks of what is claimed, and that it then says the same, where a reader has read both.
    pub by_reading: SupportWeights,
    /// The same where no reader has.
    pub by_meaning: SupportWeights,
    /// The same where there are no vectors of words.
    pub by_words: SupportWeights,
}

/// Two probabilities, whose product is that of support.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SupportWeights {
    /// The probability that the source speaks of what is claimed.
    pub speaks: Logistic,
    /// The probability that it says the same, if it speaks of it.
    pub agrees: Logistic,
}

impl SupportWeights {
    /// Returns the probability that a source supports a claim of which some facts were measured.
    pub fn probability(&self, facts: &SupportFacts) -> f32 {
        self.speaks.probability(facts) * self.agrees.probability(facts)
    }

    fn parts(&self) -> [&Logistic; 2] {
        [&self.speaks, &self.agrees]
    }
}

impl SupportModel {
    /// Reads a model that was written as JSON.
    ///
    /// # Errors
    /// If it is not JSON of a model, or it measures other things than this version.
    pub fn read(json: &str) -> Result<Self> {
        let model: Self = serde_json::from_str(json)
            .map_err(|error| Error::new(ErrorKind::Unreadable, format!("this is no model of support: {error}")))?;
        let known = model.facts.iter().map(String::as_str).eq(SUPPORT_NAMES)
            && [model.by_reading.parts(), model.by_meaning.parts(), model.by_words.parts()]
                .as_flattened()
                .iter()
                .all(|part| part.weights.len() == SUPPORT_FACTS);
        match known {
            true => Ok(model),
            false => {
                let message = "this model of support measures other things than this version; fit it again";
                Err(Error::new(ErrorKind::Mismatch, message))
            }
        }
    }

    /// Returns the weights for a claim with its meaning that no reader has read.
    pub fn weights(&self, meaning: &Meaning) -> &SupportWeights {
        if meaning.words.is_empty() { &self.by_words } else { &self.by_meaning }
    }

    /// Returns the model that was fitted to the dev half of `bench/claims`.
    pub fn learned() -> &'static Self {
        static MODEL: LazyLock<SupportModel> =
            LazyLock::new(|| SupportModel::read(include_str!("learned.json")).unwrap_or_default());
        &MODEL
    }
}

/// Measures a claim against its source.
pub(super) fn measure(
    alignment: &Alignment<'_>,
    differences: &[Difference],
    claim: &Meaning,
    sentences: &[&Meaning],
) -> SupportFacts {
    let mut facts = [0.0; SUPPORT_FACTS];
    let cosines: Vec<f32> = sentences.iter().map(|sentence| claim.similarity(sentence)).collect();
    facts[0] = cosines.iter().copied().fold(0.0, f32::max);
    let pairs = sentences.windows(2).map(|pair| {
        let whole: Vec<f32> = pair[0].whole.iter().zip(&pair[1].whole).map(|(a, b)| a + b).collect();
        let length = whole.iter().map(|value| value * value).sum::<f32>().sqrt().max(1e-6);
        super::meaning::cosine(&claim.whole, &whole) / length
    });
    facts[1] = pairs.fold(facts[0], f32::max);
    let mut levels: Vec<f32> = alignment.telling().map(|at| alignment.level(at, |_| true)).collect();
    levels.sort_by(f32::total_cmp);
    let mean = |levels: &[f32]| levels.iter().sum::<f32>() / levels.len().max(1) as f32;
    if levels.is_empty() {
        levels.push(1.0);
    } else {
        facts[25] = 1.0;
    }
    facts[2] = mean(&levels);
    facts[3] = levels[0];
    facts[4] = mean(&levels[..levels.len().min(3)]);
    let source = alignment.source;
    let of_sentence = |sentence: usize| alignment.in_sentence(|_| true, sentence);
    facts[5] = (0..source.starts.len()).filter_map(of_sentence).fold(0.0, f32::max);
    let of_clause = |clause: usize| alignment.in_clause(|_| true, clause);
    facts[6] = (0..source.clauses.len()).filter_map(of_clause).fold(0.0, f32::max);
    let count = levels.len() as f32;
    facts[7] = levels.iter().filter(|level| **level >= 0.99).count() as f32 / count;
    facts[8] = levels.iter().filter(|level| **level < SAME * 0.75).count() as f32 / count;
    facts[9] = run(alignment);
    for (at, kind) in KINDS.iter().enumerate() {
        let own = differences.iter().filter(|difference| difference.kind == *kind).map(|difference| difference.degree);
        facts[FIRST_KIND + at] = own.fold(0.0, f32::max);
    }
    let contradicting = differences.iter().filter(|difference| super::rules::CONTRADICTING.contains(&difference.kind));
    facts[23] = (1.0 + contradicting.map(|difference| difference.degree).sum::<f32>()).ln();
    facts[24] = (1.0 + alignment.claim.tokens.len().min(MAX_LENGTH) as f32).ln();
    facts[CHANGED_NUMBER] = facts[7] * facts[FIRST_KIND].max(facts[FIRST_KIND + 1]);
    make_others(&mut facts);
    facts
}

/// Adds what a reader makes of a claim and its source to what is measured.
pub(super) fn add_reading(facts: &mut SupportFacts, reading: &ClaimReading) {
    let odds = |probability: f32| {
        let probability = if probability.is_finite() { probability.clamp(1e-6, 1.0 - 1e-6) } else { 0.5 };
        (probability / (1.0 - probability)).ln().clamp(-MAX_ODDS, MAX_ODDS)
    };
    let all = [reading.supported, reading.contradicted, reading.unsupported].map(odds);
    facts[FIRST_ODDS..FIRST_MADE].copy_from_slice(&all);
    make_others(facts);
}

/// Fills in what is made of other facts.
fn make_others(facts: &mut SupportFacts) {
    let [best_sentence, same_words, run, contradictions] = [5, 7, 9, 23].map(|at| facts[at]);
    let [read_supported, read_contradicted] = [FIRST_ODDS, FIRST_ODDS + 1].map(|at| facts[at]);
    let one_if = |holds: bool| f32::from(u8::from(holds));
    let clean = one_if(contradictions < MAX_CLEAN);
    facts[FIRST_MADE..].copy_from_slice(&[
        same_words * clean,
        run * clean,
        same_words * same_words,
        run * run,
        one_if(same_words > 0.99),
        one_if(run > 0.9),
        best_sentence * best_sentence,
        one_if(best_sentence > 0.99) * clean,
        read_supported * clean,
        read_supported * same_words,
        read_contradicted * same_words,
    ]);
}

/// Returns the longest run of words that claim and source have in the same order, as a share of the claim.
fn run(alignment: &Alignment<'_>) -> f32 {
    let (claim, source) = (&alignment.claim.tokens, &alignment.source.tokens);
    let mut row = vec![0_usize; source.len() + 1];
    let mut best = 0;
    for own in claim {
        for at in (0..source.len()).rev() {
            row[at + 1] = if own.folded == source[at].folded { row[at] + 1 } else { 0 };
            best = best.max(row[at + 1]);
        }
    }
    best as f32 / claim.len().max(1) as f32
}
