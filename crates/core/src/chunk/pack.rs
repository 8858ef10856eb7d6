//! Packs pieces into chunks.

use super::Limit;
use super::context::Contexts;
use super::piece::{Piece, Seam};
use crate::document::{Document, Span};

/// Chooses the end of a chunk among several places.
#[derive(Clone, Copy, Debug)]
pub(super) enum Fill<'a> {
    /// The last place with room.
    Full,
    /// The best seam in the second half of the limit. Among equals, a hash of the text decides, so that an edit moves only the
    /// cuts near it.
    BestSeam,
    /// The deepest change of subject, given the depth after each piece and the lowest depth that counts.
    Deepest { depths: &'a [f32], change: f32 },
}

/// Packs consecutive pieces into chunks within the limit.
pub(super) struct Packer<'a> {
    pub document: &'a Document,
    pub contexts: &'a Contexts<'a>,
    pub limit: &'a Limit,
    pub fill: Fill<'a>,
}

impl Packer<'_> {
    /// Packs some pieces. Costs one step a piece, and one for each repeated piece.
    pub(super) fn pack(&self, pieces: &[Piece], cuts: &mut Vec<Span>) {
        let mut first = 0;
        while first < pieces.len() {
            let end = self.end(pieces, first);
            cuts.push(span(&pieces[first..end]));
            if end == pieces.len() {
                break;
            }
            first = self.back(pieces, first, end);
        }
    }

    /// Returns the end of the chunk that begins with a piece.
    fn end(&self, pieces: &[Piece], first: usize) -> usize {
        let room = self.contexts.room(pieces, first, self.limit);
        let mut weight = 0;
        let mut end = first;
        // The length up to each end.
        let mut weights = Vec::new();
        while end < pieces.len() {
            let more = pieces[end].weight + if end > first { self.gap(pieces, end) } else { 0 };
            if end > first && weight + more > room {
                break;
            }
            weight += more;
            weights.push(weight);
            end += 1;
        }
        let all = end == pieces.len();
        end = match self.fill {
            Fill::Deepest { depths, change } => deepest_end(pieces, first, &weights, room, depths, change, all),
            _ if all => end,
            Fill::Full => last_end(pieces, first, end),
            Fill::BestSeam => self.best_end(pieces, first, &weights, room),
        };
        // Lengths in tokens do not add up, and a chunk of headings only has another context. Pieces that exceed the limit after
        // all are removed.
        while end > first + 1 && !self.fits(span(&pieces[first..end])) {
            end -= 1;
        }
        end
    }

    fn fits(&self, span: Span) -> bool {
        let Some(most) = self.limit.most() else { return true };
        if self.limit.adds_up() && !self.contexts.is_headings_only(span) {
            return true;
        }
        let context = self.contexts.above(span, Some(self.limit)).size;
        context + self.limit.weight(self.document.slice(span)) <= most - self.limit.reserve()
    }

    fn gap(&self, pieces: &[Piece], at: usize) -> usize {
        self.limit.gap(self.document.slice(Span::new(pieces[at - 1].span.end, pieces[at].span.start)))
    }

    /// Returns the best seam in the second half.
    fn best_end(&self, pieces: &[Piece], first: usize, weights: &[usize], room: usize) -> usize {
        let last = first + weights.len();
        let ends = || (first + 1..=last).filter(|&end| pieces[end - 1].seam != Seam::Heading);
        let late = |end: &usize| weights[end - first - 1] * 2 >= room;
        let best = ends().filter(late).map(|end| pieces[end - 1].seam).max();
        let Some(best) = best else { return last_end(pieces, first, last) };
        let same = ends().filter(late).filter(|&end| pieces[end - 1].seam == best);
        if matches!(best, Seam::Words) {
            return same.max().unwrap_or(last);
        }
        // The hash of the following text decides, so that the same text is cut at the same places whatever comes before it.
        same.min_by_key(|&end| mark(self.document.slice(pieces[end].span))).unwrap_or(last)
    }

    /// Returns the start of the next chunk: after this one, or earlier by the overlap.
    fn back(&self, pieces: &[Piece], first: usize, end: usize) -> usize {
        let mut next = end;
        let mut repeated = 0;
        while next - 1 > first && pieces[next - 1].seam != Seam::Heading {
            let more = pieces[next - 1].weight + self.gap(pieces, next);
            if repeated + more > self.limit.overlap() {
                break;
            }
            repeated += more;
            next -= 1;
        }
        // The overlap must leave room for new text.
        while next < end {
            let room = self.contexts.room(pieces, next, self.limit);
            let used = self.limit.weight(self.document.slice(span(&pieces[next..=end])));
            if used <= room && self.fits(span(&pieces[next..=end])) {
                break;
            }
            next += 1;
        }
        next
    }
}

/// Returns the last end that does not follow a heading.
fn last_end(pieces: &[Piece], first: usize, end: usize) -> usize {
    (first + 1..=end).rev().find(|&end| pieces[end - 1].seam != Seam::Heading).unwrap_or(end)
}

/// Returns the deepest change of subject after a quarter of the limit. If there is none, returns the end of all pieces that
/// fit, or the deepest place of the second half.
fn deepest_end(
    pieces: &[Piece],
    first: usize,
    weights: &[usize],
    room: usize,
    depths: &[f32],
    change: f32,
    all: bool,
) -> usize {
    let last = first + weights.len();
    let deepest = |share: usize| {
        (first + 1..=last)
            .filter(|&end| end < pieces.len() && pieces[end - 1].seam != Seam::Heading)
            .filter(|&end| weights[end - first - 1].saturating_mul(share) >= room)
            .map(|end| (end, depths.get(end - 1).copied().unwrap_or(0.0)))
            .max_by(|a, b| a.1.total_cmp(&b.1))
    };
    match deepest(4).filter(|&(_, depth)| depth >= change) {
        Some((end, _)) => end,
        None if all => last,
        None => deepest(2).map_or_else(|| last_end(pieces, first, last), |(end, _)| end),
    }
}

/// Returns the span from the first piece to the last.
fn span(pieces: &[Piece]) -> Span {
    let start = pieces.first().map_or(0, |piece| piece.span.start);
    Span::new(start, pieces.last().map_or(start, |piece| piece.span.end))
}

/// Returns a hash of the beginning of a text (FNV-1a).
fn mark(text: &str) -> u64 {
    text.bytes()
        .take(64)
        .fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3))
}
