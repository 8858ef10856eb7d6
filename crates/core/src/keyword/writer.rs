//! Collects rows, and writes them as a segment.

use std::fmt;
use std::io::Write;

use super::dictionary::DictionaryWriter;
use super::fields::{FieldWeights, Fields};
use super::index::Footer;
use super::postings::ListWriter;
use super::terms::Languages;
use super::vocabulary::Vocabulary;
use crate::error::Result;
use crate::segment::{BodyWriter, Kind, SegmentHeader, write_varint};
use crate::text::{Language, Token, tokens};

/// The gap in positions between two fields of a row, so that no phrase spans both.
const GAP: u32 = 16;
/// The highest position; later words of a row get it too.
const LAST_POSITION: u32 = (1 << 24) - 1;
/// The number of bits of a term's rank that one pass sorts by.
const DIGIT: u32 = 9;

/// Collects rows and writes them as a segment. Holds 24 bytes for each word of its rows, and the words seen so far.
#[derive(Default)]
pub struct KeywordWriter {
    weights: FieldWeights,
    languages: Languages,
    lengths: Vec<u32>,
    vocabulary: Vocabulary,
    /// All words in the order of arrival.
    met: Vec<Met>,
    /// A buffer for sorting.
    room: Vec<Met>,
}

impl fmt::Debug for KeywordWriter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeywordWriter").field("rows", &self.lengths.len()).finish_non_exhaustive()
    }
}

/// An occurrence of a word.
#[derive(Clone, Copy, Default)]
struct Met {
    term: u32,
    row: u32,
    /// Its position and, in the highest eight bits, its weight.
    place: u32,
}

impl Met {
    fn position(self) -> u32 {
        self.place & LAST_POSITION
    }

    fn weight(self) -> u32 {
        self.place >> 24
    }
}

impl KeywordWriter {
    /// Returns an empty writer.
    pub fn new(weights: FieldWeights) -> Self {
        Self { weights, ..Self::default() }
    }

    /// Returns the number of rows.
    pub fn rows(&self) -> u32 {
        self.lengths.len() as u32
    }

    /// Adds the next row; `language` is `None` if it is unknown.
    pub fn push(&mut self, fields: &Fields<'_>, language: Option<Language>) {
        self.languages.add(language);
        let row = self.lengths.len() as u32;
        let (mut length, mut first) = (0_u32, 0_u32);
        for (text, weight) in fields.iter().zip(self.weights.bytes()) {
            if weight == 0 || text.is_empty() {
                continue;
            }
            let mut all: Vec<Token<'_>> = Vec::with_capacity(text.len() / 5);
            let count = tokens(text, |token| all.push(token));
            let met = &mut self.met;
            self.vocabulary.find(text, &all, language, |at, term| {
                let position = (first + all[at].position).min(LAST_POSITION);
                met.push(Met { term, row, place: u32::from(weight) << 24 | position });
            });
            length = length.saturating_add(count.saturating_mul(weight.into()));
            first = first.saturating_add(count + GAP);
        }
        self.lengths.push(length);
    }

    /// Writes the rows as the body of a segment, and returns its header. The writer is then empty but remembers the words, so
    /// it is faster than a new one.
    ///
    /// # Errors
    /// If writing fails.
    pub fn write(&mut self, mut to: impl Write) -> Result<SegmentHeader> {
        self.write_to(&mut to)
    }

    fn write_to(&mut self, to: &mut dyn Write) -> Result<SegmentHeader> {
        let (lengths, languages) = (std::mem::take(&mut self.lengths), std::mem::take(&mut self.languages));
        let mut met = std::mem::take(&mut self.met);
        let mut counts = vec![0; self.vocabulary.terms()];
        met.iter().for_each(|met| counts[met.term as usize] += 1);
        let terms: Vec<u32> = self.vocabulary.sorted().filter(|&number| counts[number as usize] > 0).collect();
        sort(&mut met, &mut self.room, &terms, &mut counts);
        // Each loop looks up many words, so that the processor waits for many at once.
        let names: Vec<&str> = terms.iter().map(|&number| self.vocabulary.term(number)).collect();
        let mut segment = SegmentWriter::new(to, &lengths)?;
        for of_term in met.chunk_by(|a, b| a.term == b.term) {
            for of_row in of_term.chunk_by(|a, b| a.row == b.row) {
                let (row, frequency) = (of_row[0].row, of_row.iter().map(|met| met.weight()).sum());
                segment.list.push(row, frequency, lengths[row as usize], |to| write_positions(of_row, to));
            }
            segment.end_list(names[of_term[0].term as usize])?;
        }
        self.vocabulary.bound();
        met.clear();
        self.met = met;
        segment.finish(&lengths, languages, self.weights)
    }
}

/// Writes the number of positions, and the distance of each from the one before.
#[inline]
fn write_positions(of_row: &[Met], to: &mut Vec<u8>) {
    match of_row {
        // Most words occur once in a row, and early.
        [only] if only.position() < 0x80 => to.extend([1, only.position() as u8]),
        all => {
            write_varint(all.len() as u32, to);
            let mut before = 0;
            for met in all {
                write_varint(met.position() - before, to);
                before = met.position();
            }
        }
    }
}

/// Sorts words by term and keeps the order within a term: digit by digit of the terms' ranks, from the lowest. Terms are
/// replaced by their ranks. `counts` has the number of occurrences of each term, and is overwritten.
fn sort(met: &mut Vec<Met>, room: &mut Vec<Met>, terms: &[u32], counts: &mut [u32]) {
    room.resize(met.len(), Met::default());
    // The number of words with a digit follows from the number of occurrences of each term.
    let passes = (terms.len().max(2) - 1).ilog2() / DIGIT + 1;
    let mut begins = vec![[0_usize; 1 << DIGIT]; passes as usize];
    let digit = |place: u32, pass: u32| (place >> (pass * DIGIT)) as usize & ((1 << DIGIT) - 1);
    for (&number, place) in terms.iter().zip(0..) {
        let count = std::mem::replace(&mut counts[number as usize], place);
        (0..passes).zip(&mut begins).for_each(|(pass, begins)| begins[digit(place, pass)] += count as usize);
    }
    let places = counts;
    for (pass, begins) in (0..passes).zip(&mut begins) {
        let mut next = 0;
        for begin in &mut *begins {
            next += std::mem::replace(begin, next);
        }
        for one in &*met {
            let term = if pass == 0 { places[one.term as usize] } else { one.term };
            let to = &mut begins[digit(term, pass)];
            room[*to] = Met { term, ..*one };
            *to += 1;
        }
        std::mem::swap(met, room);
    }
}

/// Writes a segment term by term, in the order of the terms.
pub(super) struct SegmentWriter<'w> {
    body: BodyWriter<'w>,
    /// The list of the current term.
    pub list: ListWriter,
    dictionary: DictionaryWriter,
    bytes: Vec<u8>,
}

/// The length in bytes at which lists are written out.
const FLUSH_BYTES: usize = 1 << 16;

impl<'w> SegmentWriter<'w> {
    pub(super) fn new(to: &'w mut dyn Write, lengths: &[u32]) -> Result<Self> {
        let mut body = BodyWriter::new(to);
        for some in lengths.chunks(4096) {
            body.put(&some.iter().flat_map(|length| length.to_le_bytes()).collect::<Vec<u8>>())?;
        }
        Ok(Self { body, list: ListWriter::default(), dictionary: DictionaryWriter::default(), bytes: Vec::new() })
    }

    /// Ends the list of a term. A term without rows is left out.
    pub(super) fn end_list(&mut self, term: &str) -> Result<()> {
        let before = self.bytes.len();
        let count = self.list.finish(&mut self.bytes);
        if count == 0 {
            self.bytes.truncate(before);
            return Ok(());
        }
        self.dictionary.push(term, count, (self.bytes.len() - before) as u32);
        if self.bytes.len() >= FLUSH_BYTES {
            self.body.put(&self.bytes)?;
            self.bytes.clear();
        }
        Ok(())
    }

    pub(super) fn finish(
        mut self,
        lengths: &[u32],
        languages: Languages,
        weights: FieldWeights,
    ) -> Result<SegmentHeader> {
        self.body.put(&self.bytes)?;
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
