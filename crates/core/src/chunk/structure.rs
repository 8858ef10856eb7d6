//! The default: packs blocks under their headings.

use unicode_segmentation::UnicodeSegmentation;

use super::{Chunker, Sentence, sentences};
use crate::document::{BlockKind, Document, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::text::count_words;

/// Packs the blocks of one section into chunks of up to `limit` words.
///
/// A new heading always begins a new chunk, and headings stay with what follows them. A section longer than the limit
/// is cut between blocks, a block longer than the limit between sentences or table rows, a sentence longer than the
/// limit between words. The next chunk of the same section then repeats up to `overlap` words of whole sentences.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Structure {
    limit: usize,
    overlap: usize,
}

impl Default for Structure {
    fn default() -> Self {
        Self { limit: 120, overlap: 20 }
    }
}

/// A run of text that is never cut, and how many words it has.
struct Piece {
    span: Span,
    words: usize,
    block: usize,
    heading: bool,
}

impl Structure {
    /// A chunker with a limit and an overlap, both in words.
    ///
    /// # Errors
    /// When the limit is 0, or the overlap is half the limit or more: then most of each chunk would be a repetition.
    pub fn new(limit: usize, overlap: usize) -> Result<Self> {
        if limit == 0 {
            return Err(Error::new(
                ErrorKind::Configuration,
                "a chunk limit of 0 words leaves nothing to index; set 20 or more",
            ));
        }
        if overlap * 2 >= limit {
            let most = limit.saturating_sub(1) / 2;
            return Err(Error::new(
                ErrorKind::Configuration,
                format!(
                    "an overlap of {overlap} words in chunks of {limit} would make most of each chunk a repetition; \
                     set the overlap to {most} or less"
                ),
            ));
        }
        Ok(Self { limit, overlap })
    }

    /// Packs the pieces of one section.
    fn pack(self, pieces: &[Piece], cuts: &mut Vec<Span>) {
        let mut first = 0;
        while first < pieces.len() {
            let mut words = 0;
            let mut end = first;
            while end < pieces.len() && (end == first || words + pieces[end].words <= self.limit) {
                words += pieces[end].words;
                end += 1;
            }
            if end < pieces.len() {
                end = self.better_end(pieces, first, end);
            }
            cuts.push(Span::new(pieces[first].span.start, pieces[end - 1].span.end));
            if end == pieces.len() {
                break;
            }
            let mut next = end;
            let mut repeated = 0;
            while next - 1 > first && !pieces[next - 1].heading && repeated + pieces[next - 1].words <= self.overlap {
                repeated += pieces[next - 1].words;
                next -= 1;
            }
            first = next;
        }
    }

    /// An end between blocks if one lies in the second half of the chunk, and never just after a heading.
    fn better_end(self, pieces: &[Piece], first: usize, end: usize) -> usize {
        let words: usize = pieces[first..end].iter().map(|piece| piece.words).sum();
        let mut left = words;
        for candidate in (first + 1..=end).rev() {
            let between_blocks = pieces[candidate - 1].block != pieces[candidate].block;
            if between_blocks && !pieces[candidate - 1].heading && left * 2 >= self.limit {
                return candidate;
            }
            left -= pieces[candidate - 1].words;
        }
        end
    }
}

impl Chunker for Structure {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["structure 1".to_owned(), self.limit.to_string(), self.overlap.to_string()])
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let all = sentences(document);
        let mut cuts = Vec::new();
        let mut section: Vec<Piece> = Vec::new();
        let mut rest = all.as_slice();
        for (index, block) in document.blocks.iter().enumerate() {
            if block.kind == BlockKind::Furniture {
                continue;
            }
            let heading = block.kind == BlockKind::Heading;
            if heading && section.iter().any(|piece| !piece.heading) {
                self.pack(&section, &mut cuts);
                section.clear();
            }
            let inside = rest.partition_point(|sentence| sentence.span.start < block.span.end);
            for sentence in &rest[..inside] {
                push_pieces(document, sentence, index, heading, self.limit, &mut section);
            }
            rest = &rest[inside..];
        }
        self.pack(&section, &mut cuts);
        Ok(cuts)
    }
}

/// A sentence as one piece, or as several when it is longer than the limit.
fn push_pieces(
    document: &Document,
    sentence: &Sentence,
    block: usize,
    heading: bool,
    limit: usize,
    to: &mut Vec<Piece>,
) {
    let text = document.slice(sentence.span);
    let words = count_words(text);
    if words <= limit {
        to.push(Piece { span: sentence.span, words, block, heading });
        return;
    }
    let base = sentence.span.start;
    let starts: Vec<usize> = text.unicode_word_indices().map(|(start, _)| start).step_by(limit).collect();
    for (index, &start) in starts.iter().enumerate() {
        let start = if index == 0 { 0 } else { start };
        let end = starts.get(index + 1).copied().unwrap_or(text.len());
        let piece = text[start..end].trim_end();
        let span = Span::new(base + start, base + start + piece.len());
        to.push(Piece { span, words: count_words(piece), block, heading: false });
    }
}
