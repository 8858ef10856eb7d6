//! Makes a verdict of a claim that is held against its source.

use serde::{Deserialize, Serialize};

use super::check::Verdict;
use super::held::{HeldClaim, SourceSentence};
use super::meaning::Meaning;
use super::model::{CHANGED_NUMBER, NUMBER_MISSING, SAME_WORDS, SupportModel};
use super::rules::{CONTRADICTING, Difference, DifferenceKind, UNACCOUNTED};

/// From this probability on, a claim is supported. On the dev half of `bench/claims` a lower bound finds fewer errors, and a higher one doubts more
/// paraphrases.
pub const MIN_SUPPORT: f32 = 0.3;
/// From this degree on, a condition or a doubt that is left out makes a claim partly supported, unless the probability is this high.
const MIN_LIMIT: f32 = 0.8;
const MIN_WHOLE: f32 = 0.6;
/// From this share of the same words on, another number makes another claim, whatever else speaks for it.
const MIN_SAME: f32 = 0.75;
/// A claim with a number that the source does not have is supported from this probability on: most such numbers are wrong, and some were computed.
const MIN_COMPUTED: f32 = 0.6;
/// The highest probability of a claim that a number decides, and of one whose words the source does not have.
const MAX_AGAINST: f32 = 0.2;
/// What whole clauses of a sentence say word for word is at least this probable, if no rule objects: it is mostly as true as the sentence.
const MIN_TAKEN_OVER: f32 = 0.8;
/// From this degree on, a difference is a contradiction.
pub(super) const MIN_CONTRADICTION: f32 = 0.35;

/// What was found of a claim.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Finding {
    /// The verdict.
    pub verdict: Verdict,
    /// The probability that the source supports the claim.
    pub probability: f32,
    /// The probability that the source speaks of what is claimed at all.
    pub speaks: f32,
    /// Why, in words; `None` if it is supported.
    pub reason: Option<String>,
    /// The differences, the gravest first.
    pub differences: Vec<Difference>,
    /// The sentence of the source that is nearest to the claim; `None` for an empty source.
    pub nearest: Option<usize>,
}

impl Finding {
    /// Returns what is found of a claim that a sentence of its source says word for word.
    pub(super) fn word_for_word(sentence: usize) -> Self {
        let (reason, differences) = (None, Vec::new());
        let (verdict, nearest) = (Verdict::Supported, Some(sentence));
        Self { verdict, probability: 1.0, speaks: 1.0, reason, differences, nearest }
    }
}

/// Holds a claim against the sentences of its source.
///
/// Rules look for differences (numbers, names, denials, opposites, duties, degrees, conditions, doubts, order), vectors tell how well the words and the
/// whole fit, and a network reads the words of both together, if it knows their vectors; learned trees make a probability of all. Without vectors only words count, and
/// paraphrases are not recognised.
///
/// Costs the product of the words of both.
pub fn verify(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>], model: &SupportModel) -> Finding {
    HeldClaim::new(claim, meaning, source).finding(model)
}

impl HeldClaim {
    /// Returns `true` if the source says nothing of any word of the claim.
    fn has_nothing(&self) -> bool {
        self.differences.iter().any(|difference| difference.kind == DifferenceKind::Missing && difference.degree >= 1.0)
    }

    /// Makes a verdict of what was measured.
    pub fn finding(mut self, model: &SupportModel) -> Finding {
        let trees = model.trees(self.known);
        let speaks = trees.speaks.probability(&self.facts);
        let probability = trees.probability(&self.facts);
        // A source that has none of the words, nor any like them, does not say it either.
        let lacks_number = self.facts[NUMBER_MISSING] >= UNACCOUNTED;
        let is_changed = self.facts[CHANGED_NUMBER] >= MIN_SAME || (lacks_number && self.facts[SAME_WORDS] >= MIN_SAME);
        // What is denied of one number may follow from another: “not five times” from “twice at most”.
        let has = |kind: DifferenceKind| {
            self.differences.iter().any(|own| own.kind == kind && own.degree >= MIN_CONTRADICTION)
        };
        let may_follow = self.denies_amount && has(DifferenceKind::Denial) && has(DifferenceKind::Number);
        let is_improbable = probability < MIN_COMPUTED;
        let has_wrong_number = (is_changed && (is_improbable || !may_follow)) || (lacks_number && is_improbable);
        let is_against = has_wrong_number || self.is_mixed || self.has_nothing();
        let probability = if is_against { probability.min(MAX_AGAINST) } else { probability };
        let probability = if self.is_taken_over { probability.max(MIN_TAKEN_OVER) } else { probability };
        self.differences.sort_by(|a, b| b.degree.total_cmp(&a.degree));
        let gravest = |contradicting: bool| {
            let mut of_kind =
                self.differences.iter().filter(|difference| CONTRADICTING.contains(&difference.kind) == contradicting);
            of_kind.next()
        };
        // The claim leaves out a condition, or a doubt, of the very clause that says it.
        let limits = |difference: &&Difference| {
            matches!(difference.kind, DifferenceKind::Condition | DifferenceKind::Hedge)
                && difference.degree >= MIN_LIMIT
        };
        let limit = self.differences.iter().find(limits).filter(|_| probability < MIN_WHOLE || self.is_taken_over);
        let verdict = match (gravest(true), gravest(false)) {
            _ if self.is_empty => Verdict::Unsupported,
            _ if probability >= MIN_SUPPORT && limit.is_none() => Verdict::Supported,
            _ if probability >= MIN_SUPPORT => Verdict::Partly,
            (Some(contradiction), _) if contradiction.degree >= MIN_CONTRADICTION => Verdict::Contradicted,
            (_, Some(other))
                if matches!(other.kind, DifferenceKind::Condition | DifferenceKind::Hedge | DifferenceKind::Degree) =>
            {
                Verdict::Partly
            }
            _ => Verdict::Unsupported,
        };
        let reason = match verdict {
            Verdict::Supported => None,
            Verdict::Partly if limit.is_some() => limit.map(|difference| difference.said.clone()),
            Verdict::Contradicted => gravest(true).map(|difference| difference.said.clone()),
            _ => gravest(false).or(gravest(true)).map(|difference| difference.said.clone()),
        };
        let reason =
            reason.or_else(|| (verdict != Verdict::Supported).then(|| "the source does not say this".to_owned()));
        let probability = if self.is_empty { 0.0 } else { probability };
        Finding { verdict, probability, speaks, reason, differences: self.differences, nearest: self.nearest }
    }
}
