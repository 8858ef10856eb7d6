//! Holds a claim against its source.

use serde::{Deserialize, Serialize};

use super::align::Alignment;
use super::check::Verdict;
use super::meaning::Meaning;
use super::model::{CHANGED_NUMBER, SupportFacts, SupportModel, measure};
use super::rules::{CONTRADICTING, Difference, DifferenceKind, differences};
use super::statement::Statement;
use crate::document::Span;
use crate::text::sentences;

/// The most sentences of a source that are looked at, those nearest to the claim by meaning.
const MAX_SENTENCES: usize = 48;
/// The most bytes of a claim that are looked at.
const MAX_CLAIM: usize = 4_000;
/// From this probability on, a claim is supported. On the dev half of `bench/claims` a lower bound finds fewer errors, and a higher one doubts more
/// paraphrases.
pub const MIN_SUPPORT: f32 = 0.25;
/// From this degree on, a condition or a doubt that is left out makes a claim partly supported, unless the probability is this high.
const MIN_LIMIT: f32 = 0.8;
const MIN_WHOLE: f32 = 0.6;
/// From this share of the same words on, a number that differs decides.
const MIN_CHANGED: f32 = 0.5;
/// The highest probability of such a claim, and of one whose words the source does not have.
const MAX_CHANGED: f32 = 0.2;
/// From this degree on, a difference is a contradiction.
pub(super) const MIN_CONTRADICTION: f32 = 0.35;

/// A sentence of a source.
#[derive(Clone, Copy, Debug)]
pub struct SourceSentence<'a> {
    /// The sentence.
    pub text: &'a str,
    /// Its vectors; [`Meaning::default`] if they are not known.
    pub meaning: &'a Meaning,
}

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
/// Rules look for differences (numbers, names, denials, opposites, duties, degrees, conditions, doubts, order), and vectors tell how well the words and the
/// whole fit; learned weights make a probability of both. Without vectors only words count, and paraphrases are not recognised.
///
/// Costs the product of the words of both.
pub fn verify(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>], model: &SupportModel) -> Finding {
    let held = Held::new(claim, meaning, source);
    let weights = model.weights(meaning);
    let speaks = weights.speaks.probability(&held.facts);
    let probability = weights.probability(&held.facts);
    // Where the words are the same, another number is another claim, whatever the weights make of the rest.
    // A source that has none of the words, nor any like them, does not say it either.
    let is_against = held.facts[CHANGED_NUMBER] >= MIN_CHANGED || held.has_nothing();
    let probability = if is_against { probability.min(MAX_CHANGED) } else { probability };
    held.finding(probability, speaks)
}

/// Returns what is measured of a claim and its source, from which [`verify`] makes a probability.
pub fn support_facts(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>]) -> SupportFacts {
    Held::new(claim, meaning, source).facts
}

/// A claim held against its source.
struct Held {
    facts: SupportFacts,
    differences: Vec<Difference>,
    nearest: Option<usize>,
    is_empty: bool,
}

impl Held {
    /// Returns `true` if the source says nothing of any word of the claim.
    fn has_nothing(&self) -> bool {
        self.differences.iter().any(|difference| difference.kind == DifferenceKind::Missing && difference.degree >= 1.0)
    }

    fn new(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>]) -> Self {
        let claim = &claim[..claim.floor_char_boundary(MAX_CLAIM)];
        let chosen = nearest_sentences(claim, meaning, source);
        let mut text = String::new();
        let mut places = Vec::with_capacity(chosen.len());
        for at in &chosen {
            let start = text.len();
            text.push_str(source[*at].text);
            places.push(Span::new(start, text.len()));
            text.push('\n');
        }
        let meanings: Vec<&Meaning> = chosen.iter().map(|at| source[*at].meaning).collect();
        let mut evidence = Statement::of(&text, &places, &meanings);
        let parts = sentences(claim);
        // The vectors of a claim are those of its whole text.
        let whole = [Span::new(0, claim.len())];
        let is_one = parts.len() < 2;
        let mut statement = Statement::of(
            claim,
            if is_one { &whole } else { &parts },
            if is_one { std::slice::from_ref(&meaning) } else { &[] },
        );
        if !is_one {
            for token in &mut statement.tokens {
                token.vector = meaning.word(token.span).map(<[f32]>::to_vec).unwrap_or_default();
            }
        }
        // A name at the start of a sentence is known by its other places.
        let (own, other) = (statement.clone(), evidence.clone());
        [&own, &other].iter().for_each(|known| {
            statement.know_names(known);
            evidence.know_names(known);
        });
        let alignment = Alignment::new(&statement, &evidence);
        let found = differences(&alignment, claim, &text);
        let facts = measure(&alignment, &found, meaning, &meanings);
        let cover = |at: usize| {
            let words = alignment.in_sentence(|_| true, at).unwrap_or(0.0);
            // Figures are no words that tell something, but rows of tables differ by them.
            let figures =
                statement.tokens.iter().filter(|token| token.folded.starts_with(|c: char| c.is_ascii_digit()));
            let has = |token: &&super::statement::Token| {
                evidence
                    .tokens
                    .iter()
                    .any(|other| other.folded == token.folded && evidence.sentence(other.clause) == at)
            };
            let count = figures.clone().count().max(1) as f32;
            words + meanings[at].similarity(meaning) + 0.5 * figures.filter(has).count() as f32 / count
        };
        let nearest =
            (0..chosen.len()).max_by(|a, b| cover(*a).total_cmp(&cover(*b)).then(b.cmp(a))).map(|at| chosen[at]);
        Self { facts, differences: found, nearest, is_empty: chosen.is_empty() || statement.tokens.is_empty() }
    }

    fn finding(mut self, probability: f32, speaks: f32) -> Finding {
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
        let limit = self.differences.iter().find(limits).filter(|_| probability < MIN_WHOLE);
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

/// Returns the sentences of a source that a claim is held against, in their order.
fn nearest_sentences(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>]) -> Vec<usize> {
    if source.len() <= MAX_SENTENCES {
        return (0..source.len()).collect();
    }
    let own: std::collections::HashSet<String> = crate::text::words(claim).map(|word| word.term).collect();
    let score = |at: usize| {
        let all: Vec<_> = crate::text::words(source[at].text).map(|word| word.term).collect();
        let shared = all.iter().filter(|term| own.contains(*term)).count() as f32 / own.len().max(1) as f32;
        shared + source[at].meaning.similarity(meaning)
    };
    let mut scored: Vec<(f32, usize)> = (0..source.len()).map(|at| (score(at), at)).collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut chosen: Vec<usize> = scored.into_iter().take(MAX_SENTENCES).map(|(_, at)| at).collect();
    chosen.sort_unstable();
    chosen
}
