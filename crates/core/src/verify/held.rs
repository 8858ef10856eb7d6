//! A claim held against its source: what is measured of both.

use std::collections::HashSet;

use super::align::Alignment;
use super::amounts::{Amount, Fit};
use super::meaning::Meaning;
use super::model::{Known, SupportFacts, add_reading, measure};
use super::network;
use super::rules::{CONTRADICTING, Difference, DifferenceKind, differences};
use super::statement::{Statement, Token};
use crate::document::Span;
use crate::text::{sentences, words};

/// The most sentences of a source that are looked at, those nearest to the claim by meaning.
const MAX_SENTENCES: usize = 48;
/// The most bytes of a claim that are looked at.
const MAX_CLAIM: usize = 4_000;
/// A claim of fewer words is no part of a sentence that could be told.
const MIN_TAKEN_WORDS: usize = 4;
/// A claim of so many figures may be a row of a table.
const MIN_FIGURES: usize = 4;
/// From this degree on, a difference speaks against a claim that a sentence has word for word.
const MIN_OBJECTION: f32 = 0.1;

/// A sentence of a source.
#[derive(Clone, Copy, Debug)]
pub struct SourceSentence<'a> {
    /// The sentence.
    pub text: &'a str,
    /// Its vectors; [`Meaning::default`] if they are not known.
    pub meaning: &'a Meaning,
}

/// A claim held against its source: what is measured of both, from which [`Self::finding`] makes a verdict.
#[derive(Clone, Debug)]
pub struct HeldClaim {
    /// What is measured.
    pub facts: SupportFacts,
    pub(super) known: Known,
    pub(super) differences: Vec<Difference>,
    pub(super) nearest: Option<usize>,
    pub(super) is_empty: bool,
    /// Whether it is one or more clauses of the source word for word, and no rule objects.
    pub(super) is_taken_over: bool,
    /// Whether it has most figures of a row, and one of another.
    pub(super) is_mixed: bool,
    /// Whether it denies something of an amount.
    pub(super) denies_amount: bool,
}

impl HeldClaim {
    /// Measures a claim and its source. Costs the product of the words of both.
    pub fn new(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>]) -> Self {
        let claim = &claim[..claim.floor_char_boundary(MAX_CLAIM)];
        let chosen = nearest_sentences(claim, meaning, source);
        let (text, places) = joined(chosen.iter().map(|at| source[*at].text));
        let meanings: Vec<&Meaning> = chosen.iter().map(|at| source[*at].meaning).collect();
        let mut evidence = Statement::of(&text, &places, &meanings);
        let mut statement = claimed(claim, meaning);
        // A name at the start of a sentence is known by its other places.
        let (own, other) = (statement.clone(), evidence.clone());
        [&own, &other].iter().for_each(|known| {
            statement.know_names(known);
            evidence.know_names(known);
        });
        let alignment = Alignment::new(&statement, &evidence);
        let mut differences = differences(&alignment, claim, &text);
        let mut facts = measure(&alignment, &differences, meaning, &meanings);
        let read: Vec<(&str, &Meaning)> = chosen.iter().map(|at| (source[*at].text, source[*at].meaning)).collect();
        let reading = network::reading((claim, meaning), &read);
        reading.iter().for_each(|reading| add_reading(&mut facts, reading));
        let known = match reading {
            Some(_) => Known::Reading,
            None if meaning.words.is_empty() => Known::Words,
            None => Known::Meaning,
        };
        let nearness = |at: usize| words_and_figures(&alignment, at) + meanings[at].similarity(meaning);
        let nearest = (0..chosen.len()).max_by(|a, b| nearness(*a).total_cmp(&nearness(*b)).then(b.cmp(a)));
        let is_empty = chosen.is_empty() || statement.tokens.is_empty();
        let is_row = |at: usize| source[chosen[at]].text.contains(['·', '|']);
        let is_mixed = mixes_rows(&statement, &evidence, is_row);
        if is_mixed {
            let said = "no row of the source has all these numbers together".to_owned();
            differences.push(Difference { kind: DifferenceKind::Number, degree: 1.0, said });
        }
        let is_taken_over = !differences.iter().any(objects) && is_part_of_a_sentence(&statement, &evidence);
        let denies_amount = statement.amount_clauses.iter().any(|clause| statement.clauses[*clause].is_denied);
        let nearest = nearest.map(|at| chosen[at]);
        Self { facts, known, differences, nearest, is_empty, is_taken_over, is_mixed, denies_amount }
    }
}

/// Returns the sentences of a source as one text, and where each stands in it.
fn joined<'a>(sentences: impl Iterator<Item = &'a str>) -> (String, Vec<Span>) {
    let (mut text, mut places) = (String::new(), Vec::new());
    for sentence in sentences {
        let start = text.len();
        text.push_str(sentence);
        places.push(Span::new(start, text.len()));
        text.push('\n');
    }
    (text, places)
}

/// Takes a claim apart. Its vectors are those of its whole text.
fn claimed(claim: &str, meaning: &Meaning) -> Statement {
    let parts = sentences(claim);
    if parts.len() < 2 {
        return Statement::of(claim, &[Span::new(0, claim.len())], &[meaning]);
    }
    let mut statement = Statement::of(claim, &parts, &[]);
    for token in &mut statement.tokens {
        token.vector = meaning.word(token.span).map(<[f32]>::to_vec).unwrap_or_default();
    }
    statement
}

/// Returns how well a sentence of the source has the words of the claim, and which of its figures it has: rows of tables differ by them.
fn words_and_figures(alignment: &Alignment<'_>, sentence: usize) -> f32 {
    let (claim, source) = (alignment.claim, alignment.source);
    let words = alignment.in_sentence(|_| true, sentence).unwrap_or(0.0);
    let figures = claim.tokens.iter().filter(|token| is_figure(token));
    let has = |own: &&Token| {
        let is_same = |token: &Token| token.folded == own.folded && source.sentence(token.clause) == sentence;
        source.tokens.iter().any(is_same)
    };
    let count = figures.clone().count().max(1) as f32;
    words + 0.5 * figures.filter(has).count() as f32 / count
}

/// Returns `true` if a claim is one or more whole clauses of a sentence of the source, word for word. One amount may have another notation there.
fn is_part_of_a_sentence(claim: &Statement, source: &Statement) -> bool {
    let only = claim.amounts.first().filter(|_| claim.amounts.len() == 1);
    let is_part = |sentence: usize| {
        let noted = only.filter(|amount| has_amount(source, sentence, amount));
        let same: Vec<&Amount> = noted
            .into_iter()
            .flat_map(|own| source.amounts.iter().filter(move |other| own.against(other) == Fit::Same))
            .collect();
        let own = claim.tokens.iter().filter(|own| !noted.is_some_and(|amount| covers(amount, own.span)));
        let own: Vec<&str> = own.map(|token| token.folded.as_str()).collect();
        let of_sentence = source.tokens.iter().filter(|token| source.sentence(token.clause) == sentence);
        let theirs: Vec<&Token> =
            of_sentence.filter(|token| !same.iter().any(|amount| covers(amount, token.span))).collect();
        let is_bound = |at: usize| at == 0 || at >= theirs.len() || theirs[at - 1].clause != theirs[at].clause;
        let mut starts = (0..theirs.len()).filter(|at| is_bound(*at) && is_bound(at + own.len()));
        starts.any(|at| theirs[at..].len() >= own.len() && theirs[at..].iter().zip(&own).all(|(a, b)| a.folded == **b))
    };
    claim.tokens.len() >= MIN_TAKEN_WORDS && (0..source.starts.len()).any(is_part)
}

/// Returns `true` if a claim has most of its figures from one row of a table, and the row lacks the rest, in any notation.
fn mixes_rows(claim: &Statement, source: &Statement, is_row: impl Fn(usize) -> bool) -> bool {
    let figures: Vec<&Token> = claim.tokens.iter().filter(|token| is_figure(token)).collect();
    if figures.len() < MIN_FIGURES {
        return false;
    }
    let has = |row: usize, figure: &Token| {
        let is_of_row = |token: &Token| source.sentence(token.clause) == row;
        let is_written = || source.tokens.iter().any(|token| token.folded == figure.folded && is_of_row(token));
        let is_meant =
            || claim.amounts.iter().any(|amount| covers(amount, figure.span) && has_amount(source, row, amount));
        is_written() || is_meant()
    };
    let of_row = |row: usize| figures.iter().filter(|figure| has(row, figure)).count();
    let most = (0..source.starts.len()).filter(|row| is_row(*row)).map(of_row).max().unwrap_or_default();
    most < figures.len() && 4 * most >= 3 * figures.len()
}

/// Returns `true` if a sentence of the source has an amount of the claim, in any notation.
fn has_amount(source: &Statement, sentence: usize, amount: &Amount) -> bool {
    let mut theirs = source.amounts.iter().zip(&source.amount_clauses);
    theirs.any(|(other, clause)| source.sentence(*clause) == sentence && amount.against(other) == Fit::Same)
}

fn covers(amount: &Amount, span: Span) -> bool {
    amount.span.start <= span.start && span.end <= amount.span.end
}

fn is_figure(token: &Token) -> bool {
    token.folded.starts_with(|c: char| c.is_ascii_digit())
}

/// Returns `true` for a difference that speaks against a claim that a sentence has word for word.
fn objects(difference: &Difference) -> bool {
    let is_against = difference.kind == DifferenceKind::NumberMissing || CONTRADICTING.contains(&difference.kind);
    is_against && difference.degree >= MIN_OBJECTION
}

/// Returns the sentences of a source that a claim is held against, in their order.
fn nearest_sentences(claim: &str, meaning: &Meaning, source: &[SourceSentence<'_>]) -> Vec<usize> {
    if source.len() <= MAX_SENTENCES {
        return (0..source.len()).collect();
    }
    let own: HashSet<String> = words(claim).map(|word| word.term).collect();
    let score = |at: usize| {
        let all: Vec<_> = words(source[at].text).map(|word| word.term).collect();
        let shared = all.iter().filter(|term| own.contains(*term)).count() as f32 / own.len().max(1) as f32;
        shared + source[at].meaning.similarity(meaning)
    };
    let mut scored: Vec<(f32, usize)> = (0..source.len()).map(|at| (score(at), at)).collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut chosen: Vec<usize> = scored.into_iter().take(MAX_SENTENCES).map(|(_, at)| at).collect();
    chosen.sort_unstable();
    chosen
}
