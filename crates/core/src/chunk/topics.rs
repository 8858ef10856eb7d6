//! Cuts where the topic changes, as the vectors of sentences tell.

use super::by_sentence::sentence_pieces;
use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::{Limit, sentences};
use crate::document::{Document, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::vector::Vectors;

/// How many sentences on each side of a place are compared.
const NEIGHBOURS: usize = 3;

/// Cuts where the sentences before a place and those behind it are least alike, within the limit.
///
/// The method is that of Hearst (“TextTiling”, 1997) with vectors in the place of word counts: at each place between two
/// sentences the means of the vectors on both sides are compared; its depth is how far the likeness falls below the peaks
/// around it. A place is a change of subject when it is deeper than the mean depth by half the standard deviation. It does
/// not encode: the caller gives one vector for each of [`sentences`](Self::sentences). Costs a few operations for every
/// component of every vector.
#[derive(Clone, Debug, Default)]
pub struct Topics {
    limit: Limit,
}

impl Topics {
    /// With a limit.
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }

    /// The limit.
    pub fn limit(&self) -> &Limit {
        &self.limit
    }

    /// Changes whenever the same document and vectors would be cut in another way.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["topics 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    /// What to give vectors for.
    pub fn sentences(document: &Document) -> Vec<Span> {
        sentences(document).into_iter().map(|sentence| sentence.span).collect()
    }

    /// The spans to index, given a vector for each sentence.
    ///
    /// # Errors
    /// If there are more or fewer vectors than sentences.
    pub fn cut(&self, document: &Document, vectors: &Vectors) -> Result<Vec<Span>> {
        let spans = Self::sentences(document);
        if vectors.len() != spans.len() {
            let message =
                format!("there are {} vectors for {} sentences; give one for each", vectors.len(), spans.len());
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        let contexts = Contexts::new(document);
        let pieces = sentence_pieces(document, &contexts, &self.limit);
        let between = depths(&likenesses(vectors));
        // A sentence that is several pieces has its depth behind the last of them.
        let mut depth_behind = vec![0.0; pieces.len()];
        let mut sentence = 0;
        for (index, piece) in pieces.iter().enumerate() {
            while sentence + 1 < spans.len() && spans[sentence].end < piece.span.end {
                sentence += 1;
            }
            if spans[sentence].end == piece.span.end {
                depth_behind[index] = between.get(sentence).copied().unwrap_or(0.0);
            }
        }
        let fill = Fill::Deepest { depths: &depth_behind, change: change(&between) };
        let mut cuts = Vec::new();
        Packer { document, contexts: &contexts, limit: &self.limit, fill }.pack(&pieces, &mut cuts);
        Ok(cuts)
    }
}

/// How alike the sentences before and behind each place are: the cosine of the means.
fn likenesses(vectors: &Vectors) -> Vec<f32> {
    let rows: Vec<&[f32]> = vectors.iter().collect();
    let mean = |rows: &[&[f32]]| {
        let mut sum = vec![0.0f32; vectors.dimensions()];
        for row in rows {
            let length = row.iter().map(|value| value * value).sum::<f32>().sqrt().max(f32::MIN_POSITIVE);
            for (total, value) in sum.iter_mut().zip(*row) {
                *total += value / length;
            }
        }
        sum
    };
    (1..rows.len())
        .map(|place| {
            let before = mean(&rows[place.saturating_sub(NEIGHBOURS)..place]);
            let behind = mean(&rows[place..rows.len().min(place + NEIGHBOURS)]);
            let dot: f32 = before.iter().zip(&behind).map(|(a, b)| a * b).sum();
            let lengths = [&before, &behind].map(|mean| mean.iter().map(|value| value * value).sum::<f32>().sqrt());
            dot / (lengths[0] * lengths[1]).max(f32::MIN_POSITIVE)
        })
        .collect()
}

/// How far each likeness is below the nearest peak to its left and to its right, added up.
fn depths(likenesses: &[f32]) -> Vec<f32> {
    (0..likenesses.len())
        .map(|at| {
            let own = likenesses[at];
            let left = peak(own, likenesses[..at].iter().rev());
            let right = peak(own, likenesses[at + 1..].iter());
            left - own + right - own
        })
        .collect()
}

/// How high the likeness climbs before it falls again.
fn peak<'a>(from: f32, values: impl Iterator<Item = &'a f32>) -> f32 {
    let mut peak = from;
    for &value in values {
        if value < peak {
            break;
        }
        peak = value;
    }
    peak
}

/// The depth from which on a place is a change of subject.
fn change(depths: &[f32]) -> f32 {
    let count = depths.len().max(1) as f32;
    let mean = depths.iter().sum::<f32>() / count;
    let variance = depths.iter().map(|depth| (depth - mean).powi(2)).sum::<f32>() / count;
    mean + variance.sqrt() / 2.0
}
