//! Collecting rows, and writing them as a segment.

use std::collections::HashMap;
use std::io::Write;

use super::dictionary::DictionaryWriter;
use super::fields::{FieldWeights, Fields};
use super::index::Footer;
use super::list::{ListWriter, Posting};
use super::terms::{Languages, term};
use crate::error::Result;
use crate::segment::{BodyWriter, Kind, SegmentHeader, read_varint, write_varint};
use crate::text::{Language, Token, TokenKind, tokens};

/// So many positions lie between two fields of a row, so that no phrase goes from one into the next.
const GAP: u32 = 16;

/// Collects rows and writes them as a segment. Holds about two bytes a word, and the words.
#[derive(Default)]
pub struct KeywordWriter {
    weights: FieldWeights,
    languages: Languages,
    lengths: Vec<u32>,
    /// The term of each word as it is written, by the number of its language.
    words: Vec<HashMap<Box<str>, u32>>,
    terms: HashMap<String, u32>,
    lists: Vec<Collected>,
}

/// What was met of a term: for each row its distance from the one before, the distances of its positions, raised by one, a
/// zero, and the frequency.
#[derive(Default)]
struct Collected {
    bytes: Vec<u8>,
    /// The open row, counted from 1; 0 for none yet.
    row: u32,
    position: u32,
    frequency: u32,
    rows: u32,
}

impl Collected {
    fn add(&mut self, row: u32, position: u32, weight: u32) {
        if self.row != row + 1 {
            self.close();
            write_varint(row + 1 - self.row, &mut self.bytes);
            (self.row, self.position, self.frequency) = (row + 1, 0, 0);
            self.rows += 1;
        }
        write_varint(position - self.position + 1, &mut self.bytes);
        self.position = position;
        self.frequency += weight;
    }

    fn close(&mut self) {
        if self.row > 0 {
            self.bytes.push(0);
            write_varint(self.frequency, &mut self.bytes);
        }
    }
}

impl KeywordWriter {
    /// An empty writer.
    pub fn new(weights: FieldWeights) -> Self {
        Self { weights, ..Self::default() }
    }

    /// How many rows there are.
    pub fn rows(&self) -> u32 {
        self.lengths.len() as u32
    }

    /// Adds the next row, in a language if that is known.
    pub fn push(&mut self, fields: &Fields<'_>, language: Option<Language>) {
        self.languages.add(language);
        let row = self.lengths.len() as u32;
        let (mut length, mut first) = (0_u32, 0_u32);
        for (text, weight) in fields.iter().zip(self.weights.bytes()) {
            if weight == 0 || text.is_empty() {
                continue;
            }
            let weight = u32::from(weight);
            let count = tokens(text, |token| {
                let number = self.number(&token, language);
                self.lists[number as usize].add(row, first + token.position, weight);
            });
            length = length.saturating_add(count.saturating_mul(weight));
            first += count + GAP;
        }
        self.lengths.push(length);
    }

    /// The number of a token's term.
    fn number(&mut self, token: &Token<'_>, language: Option<Language>) -> u32 {
        let known = Languages::number(language) as usize;
        let word = token.kind == TokenKind::Word;
        if word {
            if self.words.len() <= known {
                self.words.resize_with(known + 1, HashMap::new);
            }
            if let Some(&number) = self.words[known].get(token.text) {
                return number;
            }
        }
        let next = self.lists.len() as u32;
        let number = *self.terms.entry(term(token, language)).or_insert(next);
        if number == next {
            self.lists.push(Collected::default());
        }
        if word {
            self.words[known].insert(token.text.into(), number);
        }
        number
    }

    /// Writes the body of the segment, and returns what stands before it.
    ///
    /// # Errors
    /// When writing fails.
    pub fn write(mut self, to: impl Write) -> Result<SegmentHeader> {
        self.words = Vec::new();
        let mut segment = SegmentWriter::new(to, &self.lengths)?;
        let mut terms: Vec<(String, u32)> = self.terms.into_iter().collect();
        terms.sort_unstable();
        let mut positions = Vec::new();
        for (term, number) in terms {
            let collected = &mut self.lists[number as usize];
            collected.close();
            let bytes = std::mem::take(&mut collected.bytes);
            let (mut bytes, mut row) = (bytes.as_slice(), 0);
            for _ in 0..collected.rows {
                row += read_varint(&mut bytes).unwrap_or_default();
                positions.clear();
                let mut position = 0;
                while let Some(distance @ 1..) = read_varint(&mut bytes) {
                    position += distance - 1;
                    positions.push(position);
                }
                let frequency = read_varint(&mut bytes).unwrap_or_default();
                let length = self.lengths[row as usize - 1];
                segment.list.push(&Posting { row: row - 1, frequency, length, positions: &positions });
            }
            segment.end_list(&term)?;
        }
        segment.finish(&self.lengths, self.languages, self.weights)
    }
}

/// Writes a segment term by term, in the order of the terms.
pub(super) struct SegmentWriter<W> {
    body: BodyWriter<W>,
    /// The list of the term that is written now.
    pub list: ListWriter,
    dictionary: DictionaryWriter,
    bytes: Vec<u8>,
}

impl<W: Write> SegmentWriter<W> {
    pub(super) fn new(to: W, lengths: &[u32]) -> Result<Self> {
        let mut body = BodyWriter::new(to);
        for some in lengths.chunks(4096) {
            body.put(&some.iter().flat_map(|length| length.to_le_bytes()).collect::<Vec<u8>>())?;
        }
        Ok(Self { body, list: ListWriter::default(), dictionary: DictionaryWriter::default(), bytes: Vec::new() })
    }

    /// Ends the list of a term. One without rows is left out.
    pub(super) fn end_list(&mut self, term: &str) -> Result<()> {
        let count = self.list.finish(&mut self.bytes);
        if count > 0 {
            self.body.put(&self.bytes)?;
            self.dictionary.push(term, count, self.bytes.len() as u32);
        }
        self.bytes.clear();
        Ok(())
    }

    pub(super) fn finish(
        mut self,
        lengths: &[u32],
        languages: Languages,
        weights: FieldWeights,
    ) -> Result<SegmentHeader> {
        let terms = self.dictionary.terms();
        let front = SegmentHeader::LENGTH as u64;
        let dictionary = front + self.body.length();
        let (blocks, index) = self.dictionary.finish();
        self.body.put(&blocks)?;
        let at = front + self.body.length();
        self.body.put(&index)?;
        let total_length = lengths.iter().map(|&length| u64::from(length)).sum();
        self.body.put(&Footer { dictionary, index: at, total_length, languages, weights }.write())?;
        Ok(self.body.finish(Kind::Keywords, lengths.len() as u32, terms, 0))
    }
}
