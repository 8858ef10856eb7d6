//! How rules and meaning are weighed: what is measured of a claim and its source, and the learned weights.

use std::sync::LazyLock;

use serde::{Deserialize, Serialize};

use super::align::{Alignment, SAME};
use super::meaning::Meaning;
use super::network::Reading;
use super::rules::{Difference, DifferenceKind};
use crate::error::{Error, ErrorKind, Result};
use crate::learn::Boosted;

/// The names of what is measured, in their order.
///
/// Of meaning: the highest cosine of the claim with a sentence and with two neighbours, and how well its words fit: on average over the source, the worst, and
/// the three worst. Of words: the share that the best sentence and the best clause have, that which is the same word, that of which the source says nothing, and
/// the longest run of words in the same order. Then the gravest difference of each kind, how long the claim is, and how grave a
/// difference of numbers is beside words that are the same. Last, what the network makes of both: the logarithm of the odds of each of its three answers.
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
];

/// The number of what is measured.
pub const SUPPORT_FACTS: usize = 30;

/// The places of the share of the same words, of what is measured of numbers that the source lacks, and of changed ones, and that of the first odds of the network.
pub(super) const SAME_WORDS: usize = 7;
pub(super) const NUMBER_MISSING: usize = 11;
pub(super) const CHANGED_NUMBER: usize = 26;
const FIRST_ODDS: usize = 27;

/// The highest logarithm of odds that an answer of the network counts as.
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
    /// How probable it is that the source speaks of what is claimed, and that it then says the same, where the network has read both.
    pub by_reading: SupportTrees,
    /// The same where the vectors of words are those of another encoder, which the network does not know.
    pub by_meaning: SupportTrees,
    /// The same where there are no vectors of words.
    pub by_words: SupportTrees,
}

/// Two probabilities, whose product is that of support.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SupportTrees {
    /// The probability that the source speaks of what is claimed.
    pub speaks: Boosted,
    /// The probability that it says the same, if it speaks of it.
    pub agrees: Boosted,
}

impl SupportTrees {
    /// Returns the probability that a source supports a claim of which some facts were measured.
    pub fn probability(&self, facts: &SupportFacts) -> f32 {
        self.speaks.probability(facts) * self.agrees.probability(facts)
    }

    fn parts(&self) -> [&Boosted; 2] {
        [&self.speaks, &self.agrees]
    }
}

/// What is known of a claim and its source, which decides what weighs it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Known {
    Reading,
    Meaning,
    Words,
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
                .all(|part| part.facts() <= SUPPORT_FACTS);
        match known {
            true => Ok(model),
            false => {
                let message = "this model of support measures other things than this version; fit it again";
                Err(Error::new(ErrorKind::Mismatch, message))
            }
        }
    }

    pub(super) fn trees(&self, known: Known) -> &SupportTrees {
        match known {
            Known::Reading => &self.by_reading,
            Known::Meaning => &self.by_meaning,
            Known::Words => &self.by_words,
        }
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
    facts[SAME_WORDS] = levels.iter().filter(|level| **level >= 0.99).count() as f32 / count;
    facts[8] = levels.iter().filter(|level| **level < SAME * 0.75).count() as f32 / count;
    facts[9] = run(alignment);
    for (at, kind) in KINDS.iter().enumerate() {
        let own = differences.iter().filter(|difference| difference.kind == *kind).map(|difference| difference.degree);
        facts[FIRST_KIND + at] = own.fold(0.0, f32::max);
    }
    let contradicting = differences.iter().filter(|difference| super::rules::CONTRADICTING.contains(&difference.kind));
    facts[23] = (1.0 + contradicting.map(|difference| difference.degree).sum::<f32>()).ln();
    facts[24] = (1.0 + alignment.claim.tokens.len().min(MAX_LENGTH) as f32).ln();
    facts[CHANGED_NUMBER] = facts[SAME_WORDS] * facts[FIRST_KIND].max(facts[NUMBER_MISSING]);
    facts
}

/// Adds what the network makes of a claim and its source to what is measured.
pub(super) fn add_reading(facts: &mut SupportFacts, reading: &Reading) {
    let odds = |chance: f32| (chance / (1.0 - chance)).ln().clamp(-MAX_ODDS, MAX_ODDS);
    let all = [reading.supported, reading.contradicted, reading.unsupported].map(odds);
    facts[FIRST_ODDS..].copy_from_slice(&all.map(|odds| if odds.is_finite() { odds } else { 0.0 }));
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
