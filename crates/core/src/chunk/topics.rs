//! Cuts where the topic changes, by the vectors of sentences.

use super::by_sentence::sentence_pieces;
use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::{Limit, sentences};
use crate::document::{Document, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::vector::Vectors;

/// The number of sentences that are compared on each side of a place.
const NEIGHBOURS: usize = 3;

/// Cuts where the sentences before and after a place are least similar, within the limit.
///
/// The method is that of Hearst (“TextTiling”, 1997) with vectors instead of word counts. At each place between two sentences,
/// the mean vectors of both sides are compared. The depth of a place is how far the similarity falls below the peaks around it.
/// A place is a change of subject if it is deeper than the mean depth by half the standard deviation. The chunker does not
/// encode: the caller gives one vector for each of [`sentences`](Self::sentences). Costs a few operations for every component
/// of every vector.
#[derive(Clone, Debug, Default)]
pub struct Topics {
    limit: Limit,
}

impl Topics {
    /// Creates a chunker with a limit.
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }

    /// Returns the limit.
    pub fn limit(&self) -> &Limit {
        &self.limit
    }

    /// Returns a text that changes if the same document and vectors would be cut in another way.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["topics 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    /// Returns the sentences that need vectors.
    pub fn sentences(document: &Document) -> Vec<Span> {
        sentences(document).into_iter().map(|sentence| sentence.span).collect()
    }

    /// Returns the spans to index, given a vector for each sentence.
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
        // A sentence of several pieces has its depth after the last one.
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

/// Returns the similarity of the sentences before and after each place: the cosine of the means.
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

/// Returns the depth of each place: how far its similarity is below the nearest peaks to the left and to the right, added.
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

/// Returns the similarity at the nearest peak.
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

/// Returns the lowest depth of a change of subject.
fn change(depths: &[f32]) -> f32 {
    let count = depths.len().max(1) as f32;
    let mean = depths.iter().sum::<f32>() / count;
    let variance = depths.iter().map(|depth| (depth - mean).powi(2)).sum::<f32>() / count;
    mean + variance.sqrt() / 2.0
}
