//! Statistics and remarks about the chunks of a document.

use serde::Serialize;

use super::{Chunk, Chunker};

/// The highest share of chunks that begin or end inside a sentence without a remark, as a divisor.
const MANY: usize = 10;

/// Counts over some chunks.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Review {
    /// The number of chunks.
    pub chunks: usize,
    /// The number of chunks that begin or end inside a sentence.
    pub cut_sentences: usize,
    /// The number of chunks that are longer than the encoder reads.
    pub too_long: usize,
    /// The length of their texts in bytes.
    pub bytes: usize,
    /// The number of bytes that the chunk before has too.
    pub repeated_bytes: usize,
    /// The number of documents, and of those that have something of what the chunker cuts at.
    #[serde(skip)]
    documents: (usize, usize),
    #[serde(skip)]
    sizes: Vec<u32>,
}

/// The distribution of the sizes of chunks, in the unit of their limit, without contexts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Spread {
    /// The shortest.
    pub shortest: usize,
    /// A quarter are shorter than this.
    pub quarter: usize,
    /// Half are shorter than this.
    pub median: usize,
    /// Three quarters are shorter than this.
    pub three_quarters: usize,
    /// The longest.
    pub longest: usize,
    /// The mean.
    pub mean: f64,
}

impl Review {
    /// Adds a document. `applies` says whether the document has something of what the chunker cuts at.
    pub fn add_document(&mut self, applies: bool) {
        self.documents.0 += 1;
        self.documents.1 += usize::from(applies);
    }

    /// Adds the chunks of a document.
    pub fn add(&mut self, chunks: &[Chunk]) {
        self.chunks += chunks.len();
        self.sizes.extend(chunks.iter().map(|chunk| chunk.size as u32));
        self.cut_sentences += chunks.iter().filter(|chunk| chunk.cuts_sentence).count();
        let mut end = 0;
        for chunk in chunks {
            self.bytes += chunk.span.len();
            self.repeated_bytes += end.clamp(chunk.span.start, chunk.span.end) - chunk.span.start;
            end = chunk.span.end;
        }
    }

    /// Returns the share of the chunks that begin or end inside a sentence, from 0 to 1.
    pub fn cut_share(&self) -> f64 {
        self.cut_sentences as f64 / self.chunks.max(1) as f64
    }

    /// Returns the share of the text that the chunk before has too, from 0 to 1.
    pub fn repeated_share(&self) -> f64 {
        self.repeated_bytes as f64 / self.bytes.max(1) as f64
    }

    /// Returns the sizes of the chunks in the order of their addition.
    pub fn sizes(&self) -> &[u32] {
        &self.sizes
    }

    /// Returns the distribution of the sizes. Costs sorting them.
    pub fn spread(&self) -> Spread {
        let mut sizes = self.sizes.clone();
        sizes.sort_unstable();
        let at = |quarters: usize| {
            sizes.get((sizes.len().saturating_sub(1) * quarters).div_ceil(4)).map_or(0, |size| *size as usize)
        };
        let total: u64 = sizes.iter().map(|size| u64::from(*size)).sum();
        Spread {
            shortest: at(0),
            quarter: at(1),
            median: at(2),
            three_quarters: at(3),
            longest: at(4),
            mean: total as f64 / sizes.len().max(1) as f64,
        }
    }

    /// Returns what to change, if more than a tenth of the chunks begin or end inside a sentence, if the encoder truncates some, or
    /// if no document has anything that the chunker cuts at.
    pub fn advice(&self, chunker: &dyn Chunker) -> Vec<String> {
        let mut advice = Vec::new();
        let all = self.chunks;
        if let (1.., 0) = self.documents {
            advice.push("no document has anything that this strategy cuts at; check the marker".to_owned());
        }
        if self.cut_sentences * MANY > all {
            let limit = chunker.limit().and_then(|limit| Some((limit.most()?, limit.unit())));
            let what = match (chunker.keeps_sentences(), limit) {
                // Sentences that are longer than a usual chunk can only be cut.
                (true, Some((most, unit))) if most >= unit.usual() => None,
                (true, Some((most, unit))) => Some(format!("set a limit above {most} {}", unit.name())),
                (true, None) => None,
                (false, _) => Some("set strategy to structure or sentences".to_owned()),
            };
            advice.extend(what.map(|what| {
                let cut = self.cut_sentences;
                format!(
                    "{cut} of {all} chunks begin or end inside a sentence, which cannot be quoted whole then; {what}"
                )
            }));
        }
        if self.too_long > 0 {
            advice.push(format!(
                "the encoder truncates {} of {all} chunks, whose ends are then found by words alone; set a lower limit, or \
                 unit to tokens",
                self.too_long
            ));
        }
        advice
    }
}
