//! Holds claims against passages, and remembers the vectors of their sentences.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::sync::{Arc, PoisonError, RwLock};

use rayon::prelude::*;

use super::held::SourceSentence;
use super::quotation::Quotation;
use super::verifier::{Finding, verify};
use super::{Meaning, SupportModel, Verdict, foreign};
use crate::document::BlockKind;
use crate::error::Result;
use crate::search::Passage;
use crate::text::{fold, is_stopword, list_marker, words};
use crate::vector::Encoder;

/// So many sentences of a source are compared with a claim by their vectors, those that share most words with it.
const MAX_PIECES: usize = 8;

/// The vectors of about so many sentences are kept; one has about 20 kB.
const MAX_KEPT: usize = 4_000;

/// Holds claims against passages. Vectors come from the encoder, each sentence once; an encoder on another machine is not asked, and words alone count.
/// Several threads may share a judge.
pub struct Judge<'a> {
    encoder: Option<&'a dyn Encoder>,
    model: &'a SupportModel,
    meanings: RwLock<HashMap<String, Arc<Meaning>>>,
}

impl fmt::Debug for Judge<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sentences = self.meanings.read().unwrap_or_else(PoisonError::into_inner).len();
        f.debug_struct("Judge").field("sentences", &sentences).finish()
    }
}

/// A claim held against passages.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Judgement {
    /// What was found.
    pub finding: Finding,
    /// The passage and the sentence of it that is nearest to the claim; `None` if that is no sentence of a passage, such as its headings.
    pub place: Option<(usize, usize)>,
}

/// A piece of evidence, and where it stands.
struct Piece {
    text: String,
    /// The same as the document has it: a row of a table without the names of its columns.
    written: String,
    place: Option<(usize, usize)>,
}

impl<'a> Judge<'a> {
    /// Creates a judge that knows no vectors yet.
    pub fn new(encoder: &'a dyn Encoder) -> Self {
        let encoder = Some(encoder).filter(|encoder| !encoder.is_remote());
        Self { encoder, model: SupportModel::learned(), meanings: RwLock::default() }
    }

    /// Holds a claim against passages taken together. Their headings and the columns of their tables count as evidence too.
    ///
    /// Costs encoding the sentences that are new, and comparing the words of the claim with theirs.
    ///
    /// # Errors
    /// If the encoder fails.
    pub fn hold(&self, claim: &str, passages: &[&Passage]) -> Result<Judgement> {
        self.held(&Case::of(claim, passages))
    }

    /// Holds each of some claims against its passages, as [`hold`](Self::hold) does, on all threads. What is new to it is encoded together.
    ///
    /// # Errors
    /// If the encoder fails.
    pub fn hold_all(&self, claims: &[(&str, Vec<&Passage>)]) -> Result<Vec<Judgement>> {
        let cases: Vec<Case<'_>> = claims.par_iter().map(|(claim, passages)| Case::of(claim, passages)).collect();
        self.meanings_of(&cases.iter().flat_map(Case::texts).collect::<Vec<_>>())?;
        cases.par_iter().map(|case| self.held(case)).collect()
    }

    /// Holds a claim against sentences. The second place of the judgement is that of the sentence.
    ///
    /// # Errors
    /// If the encoder fails.
    pub fn hold_against(&self, claim: &str, sentences: &[&str]) -> Result<Judgement> {
        let piece = |(at, text): (usize, &&str)| Piece {
            text: (*text).to_owned(),
            written: String::new(),
            place: Some((0, at)),
        };
        self.held(&Case::new(claim, sentences.iter().enumerate().map(piece).collect()))
    }

    fn held(&self, case: &Case<'_>) -> Result<Judgement> {
        let Case { claim, pieces, .. } = case;
        if let Some(at) = case.said_by {
            return Ok(Judgement { finding: Finding::word_for_word(at), place: pieces[at].place });
        }
        let meanings = self.meanings_of(&case.texts().collect::<Vec<_>>())?;
        let sources =
            pieces.iter().zip(&meanings).map(|(piece, meaning)| SourceSentence { text: &piece.text, meaning });
        let sources: Vec<SourceSentence<'_>> = sources.collect();
        let mut finding = verify(claim, &meanings[pieces.len()], &sources, self.model);
        if let Some(language) = foreign::language(claim) {
            let sources: Vec<&str> = pieces.iter().map(|piece| piece.text.as_str()).collect();
            foreign::settle(&mut finding, claim, language, &sources);
        }
        if let Some(at) = pieces.iter().position(|piece| case.quotation.differs_by_a_denial(&piece.text)) {
            (finding.verdict, finding.probability, finding.nearest) = (Verdict::Contradicted, 0.0, Some(at));
            finding.reason = Some("only one of the claim and its source denies this".to_owned());
        }
        let place = finding.nearest.and_then(|at| pieces[at].place);
        Ok(Judgement { finding, place })
    }

    /// Returns the vectors of some texts, in order. Those that are new are encoded together, and kept.
    fn meanings_of(&self, texts: &[&str]) -> Result<Vec<Arc<Meaning>>> {
        let Some(encoder) = self.encoder else { return Ok(texts.iter().map(|_| Arc::default()).collect()) };
        let known = self.meanings.read().unwrap_or_else(PoisonError::into_inner);
        let mut found: Vec<Option<Arc<Meaning>>> = texts.iter().map(|text| known.get(*text).cloned()).collect();
        drop(known);
        let mut fresh: Vec<&str> =
            texts.iter().zip(&found).filter(|(_, known)| known.is_none()).map(|(text, _)| *text).collect();
        fresh.sort_unstable();
        fresh.dedup();
        if !fresh.is_empty() {
            let meanings: Vec<Arc<Meaning>> = Meaning::of(encoder, &fresh)?.into_iter().map(Arc::new).collect();
            for (text, meaning) in texts.iter().zip(&mut found).filter(|(_, meaning)| meaning.is_none()) {
                *meaning = fresh.binary_search(text).ok().and_then(|at| meanings.get(at).cloned());
            }
            let mut kept = self.meanings.write().unwrap_or_else(PoisonError::into_inner);
            if kept.len() > MAX_KEPT {
                kept.clear();
            }
            kept.extend(fresh.into_iter().map(str::to_owned).zip(meanings));
        }
        Ok(found.into_iter().map(Option::unwrap_or_default).collect())
    }
}

/// A claim, and the pieces of evidence that it is held against.
struct Case<'c> {
    claim: &'c str,
    quotation: Quotation,
    pieces: Vec<Piece>,
    /// The piece that says the claim word for word. A part of a sentence is not enough: the rest may deny or limit it.
    said_by: Option<usize>,
}

impl<'c> Case<'c> {
    fn of(claim: &'c str, passages: &[&Passage]) -> Self {
        Self::new(claim, passages.iter().enumerate().flat_map(|(at, passage)| pieces(passage, at)).collect())
    }

    fn new(claim: &'c str, pieces: Vec<Piece>) -> Self {
        let quotation = Quotation::of(claim);
        let said_by = said_by(&quotation, &pieces);
        let pieces = if said_by.is_some() { pieces } else { likeliest(claim, pieces) };
        Self { claim, quotation, pieces, said_by }
    }

    /// Returns the texts whose vectors are needed: those of the pieces, and the claim.
    fn texts(&self) -> impl Iterator<Item = &str> {
        let weighed = self.pieces.iter().map(|piece| piece.text.as_str()).chain([self.claim]);
        weighed.filter(|_| self.said_by.is_none())
    }
}

/// Returns the place of the piece that says a claim word for word.
fn said_by(quotation: &Quotation, pieces: &[Piece]) -> Option<usize> {
    let said = pieces.iter().position(|piece| quotation.is_of(&piece.text) || quotation.is_of(&piece.written));
    said.or_else(|| pieces.iter().position(|piece| quotation.is_misspelt(&piece.text)))
}

/// Returns the pieces that share most words with a claim, and those beside them, in their order. Beyond these a piece is not worth its vectors.
fn likeliest(claim: &str, pieces: Vec<Piece>) -> Vec<Piece> {
    if pieces.len() <= MAX_PIECES {
        return pieces;
    }
    let terms = |text: &str| -> HashSet<String> {
        words(text).filter(|word| !is_stopword(&fold(word.text))).map(|word| word.term).collect()
    };
    let own = terms(claim);
    let score = |piece: &Piece| {
        let theirs = terms(&piece.text);
        let shared = own.intersection(&theirs).count() as f32;
        // A sentence that says more beside it says it less to the point.
        shared / (own.len() as f32 + 0.2 * theirs.len() as f32).max(1.0)
    };
    let scores: Vec<f32> = pieces.iter().map(score).collect();
    let mut order: Vec<usize> = (0..pieces.len()).collect();
    order.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]).then(a.cmp(b)));
    let mut kept: Vec<usize> = order[..MAX_PIECES / 2].to_vec();
    // What goes before the best one may name what it speaks of.
    kept.extend(order.first().into_iter().flat_map(|best| [best.saturating_sub(1), (best + 1).min(pieces.len() - 1)]));
    kept.extend(order.iter().skip(MAX_PIECES / 2).copied());
    let mut seen = HashSet::new();
    kept.retain(|at| seen.insert(*at));
    kept.truncate(MAX_PIECES);
    let of_kept = pieces.into_iter().enumerate().filter(|(at, _)| kept.contains(at));
    of_kept.map(|(_, piece)| piece).collect()
}

/// Returns what a passage says, sentence by sentence: its headings, rows that can be read alone, and its other sentences.
fn pieces(passage: &Passage, at: usize) -> Vec<Piece> {
    let mut pieces = Vec::new();
    if !passage.context.trim().is_empty() {
        pieces.push(Piece { text: passage.context.clone(), written: String::new(), place: None });
    }
    let sentences = passage.sentences.iter().enumerate();
    let spoken = sentences.filter(|(_, sentence)| sentence.kind != BlockKind::Contents).map(|(place, sentence)| {
        let text = passage.slice(sentence.span).trim_start();
        // The number of an item is none of what it says, and the word behind it begins a sentence.
        let text = &text[list_marker(text).map_or(0, str::len)..];
        let written = text.split_whitespace().collect::<Vec<_>>().join(" ");
        Piece { text: sentence.row.clone().unwrap_or_else(|| written.clone()), written, place: Some((at, place)) }
    });
    pieces.extend(spoken.filter(|piece| !piece.text.is_empty()));
    if passage.sentences.is_empty() {
        pieces.push(Piece { text: passage.text.clone(), written: String::new(), place: None });
    }
    pieces
}
