//! Writing and reading a segment of postings.
//!
//! Body of a segment, behind the header, all numbers little-endian: the length of each row in terms (`u32` a row); for each
//! term, in ascending order of its bytes, where its bytes end (`u32`), where its postings end (`u64`) and in how many rows
//! it stands (`u32`); the bytes of the terms; the postings. A posting is the distance from the row before (the first: the
//! row plus one) and how often the term stands there, both in 7-bit groups.

use std::collections::BTreeMap;

use crate::error::{Error, ErrorKind, Result};
use crate::segment::{self, HEADER, Kind, read_varint, u32_at, u64_at, write_varint};
use crate::text::words;

const TERM_ENTRY: usize = 16;

/// Collects rows and writes them as a segment.
#[derive(Default)]
pub struct KeywordWriter {
    lengths: Vec<u32>,
    terms: BTreeMap<String, Vec<Posting>>,
}

/// A term's presence in a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Posting {
    /// The row.
    pub row: u32,
    /// How often the term stands there; at least once.
    pub count: u32,
}

impl KeywordWriter {
    /// An empty writer.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds the next row with its text.
    pub fn push(&mut self, text: &str) {
        let row = self.lengths.len() as u32;
        let mut length = 0;
        for word in words(text) {
            length += 1;
            let postings = self.terms.entry(word.term).or_default();
            match postings.last_mut() {
                Some(last) if last.row == row => last.count += 1,
                _ => postings.push(Posting { row, count: 1 }),
            }
        }
        self.lengths.push(length);
    }

    /// The segment's bytes.
    pub fn finish(self) -> Vec<u8> {
        let mut bytes = vec![0; HEADER];
        for length in &self.lengths {
            bytes.extend_from_slice(&length.to_le_bytes());
        }
        let mut names = Vec::new();
        let mut postings = Vec::new();
        for (term, rows) in &self.terms {
            names.extend_from_slice(term.as_bytes());
            let mut before = 0;
            for posting in rows {
                write_varint(posting.row + 1 - before, &mut postings);
                write_varint(posting.count, &mut postings);
                before = posting.row + 1;
            }
            bytes.extend_from_slice(&(names.len() as u32).to_le_bytes());
            bytes.extend_from_slice(&(postings.len() as u64).to_le_bytes());
            bytes.extend_from_slice(&(rows.len() as u32).to_le_bytes());
        }
        bytes.extend_from_slice(&names);
        bytes.extend_from_slice(&postings);
        segment::seal(bytes, Kind::Keywords, self.lengths.len() as u32, self.terms.len() as u32, 0)
    }
}

/// A segment of postings, read in place.
pub struct KeywordIndex<B> {
    bytes: B,
    header: segment::Header,
    entries: usize,
    names: usize,
    postings: usize,
}

impl<B: AsRef<[u8]>> KeywordIndex<B> {
    /// Opens a segment. Reads its header and the last entry of its dictionary.
    ///
    /// # Errors
    /// When the bytes are not a whole segment of postings of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Keywords)?;
        let entries = HEADER + header.rows as usize * 4;
        let names = entries + header.width as usize * TERM_ENTRY;
        let mut index = Self { bytes, header, entries, names, postings: names };
        let (name_bytes, posting_bytes) = match header.width.checked_sub(1) {
            Some(last) => index.ends(last).ok_or_else(damaged)?,
            None => (0, 0),
        };
        index.postings = names.saturating_add(name_bytes);
        if index.postings.checked_add(posting_bytes) != Some(index.bytes.as_ref().len()) {
            return Err(damaged());
        }
        Ok(index)
    }

    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// When a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// How many rows there are, dead ones included.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// How many different terms there are.
    pub fn terms(&self) -> u32 {
        self.header.width
    }

    /// The length of a row in terms.
    pub fn length(&self, row: u32) -> u32 {
        if row >= self.rows() {
            return 0;
        }
        u32_at(self.bytes.as_ref(), HEADER + row as usize * 4).unwrap_or(0)
    }

    /// Where the bytes and the postings of a term end, from the start of each.
    fn ends(&self, term: u32) -> Option<(usize, usize)> {
        let entry = self.entries + term as usize * TERM_ENTRY;
        let name = u32_at(self.bytes.as_ref(), entry)? as usize;
        let posting = usize::try_from(u64_at(self.bytes.as_ref(), entry + 4)?).ok()?;
        Some((name, posting))
    }

    fn starts(&self, term: u32) -> Option<(usize, usize)> {
        term.checked_sub(1).map_or(Some((0, 0)), |before| self.ends(before))
    }

    fn name(&self, term: u32) -> Option<&[u8]> {
        let (start, _) = self.starts(term)?;
        let (end, _) = self.ends(term)?;
        self.bytes.as_ref().get(self.names + start..self.names + end)
    }

    /// The rows that hold a term, in ascending order. Damaged postings end early; a row is never out of range.
    ///
    /// Costs a search by halves in the dictionary, then a step a posting.
    pub fn postings(&self, term: &str) -> impl Iterator<Item = Posting> + '_ {
        let (mut low, mut high) = (0, self.terms());
        let mut range = 0..0;
        while low < high {
            let middle = low + (high - low) / 2;
            match self.name(middle).unwrap_or_default().cmp(term.as_bytes()) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => {
                    if let (Some((_, start)), Some((_, end))) = (self.starts(middle), self.ends(middle)) {
                        range = self.postings + start..self.postings + end;
                    }
                    break;
                }
            }
        }
        let mut bytes = self.bytes.as_ref().get(range).unwrap_or_default();
        let mut next = 0u32;
        let rows = self.rows();
        std::iter::from_fn(move || {
            let distance = read_varint(&mut bytes)?;
            let count = read_varint(&mut bytes)?;
            next = next.checked_add(distance)?;
            let row = next.checked_sub(1)?;
            (distance > 0 && row < rows && count > 0).then_some(Posting { row, count })
        })
    }
}

fn damaged() -> Error {
    Error::new(ErrorKind::Corpus, "this index segment is damaged: its dictionary does not fit it; rebuild the corpus")
}
