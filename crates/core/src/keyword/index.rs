//! A segment of postings, read in place.
//!
//! The body of a segment follows the header; all numbers are little-endian. It has the length of each row (`u32`), the lists in
//! the order of their terms, the blocks of the dictionary, and the starting place of each block (`u64`). The last 64 bytes are
//! the starting place of the dictionary (`u64`, from the front of the segment), that of its index (`u64`), the sum of all row
//! lengths (`u64`), the languages of the rows (`u32`, a bit each), and the weights of the four fields (a byte each).

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use super::dictionary::{Dictionary, Entry};
use super::fields::FieldWeights;
use super::postings::{Cursor, END};
use super::terms::Languages;
use crate::error::{Error, ErrorKind, Result};
use crate::segment::{self, HEADER, Kind, RowSet, u32_at, u64_at};

/// The number of bytes at the end of a segment that describe its parts.
pub(super) const FOOTER: usize = 64;

/// The end of a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Footer {
    pub dictionary: u64,
    pub index: u64,
    pub total_length: u64,
    pub languages: Languages,
    pub weights: FieldWeights,
}

impl Footer {
    pub(super) fn write(self) -> [u8; FOOTER] {
        let mut bytes = [0; FOOTER];
        bytes[..8].copy_from_slice(&self.dictionary.to_le_bytes());
        bytes[8..16].copy_from_slice(&self.index.to_le_bytes());
        bytes[16..24].copy_from_slice(&self.total_length.to_le_bytes());
        bytes[24..28].copy_from_slice(&self.languages.bits().to_le_bytes());
        bytes[28..32].copy_from_slice(&self.weights.bytes());
        bytes
    }

    fn read(bytes: &[u8]) -> Option<Self> {
        Some(Self {
            dictionary: u64_at(bytes, 0)?,
            index: u64_at(bytes, 8)?,
            total_length: u64_at(bytes, 16)?,
            languages: Languages::from_bits(u32_at(bytes, 24)?),
            weights: FieldWeights::from_bytes(bytes.get(28..32)?.try_into().ok()?),
        })
    }
}

/// A segment of postings, read in place.
pub struct KeywordIndex<B> {
    bytes: B,
    header: segment::Header,
    postings: usize,
    dictionary: usize,
    index: usize,
    end: usize,
    footer: Footer,
}

impl<B> std::fmt::Debug for KeywordIndex<B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("KeywordIndex").finish_non_exhaustive()
    }
}

impl<B: AsRef<[u8]>> KeywordIndex<B> {
    /// Opens a segment. Reads its header and its end.
    ///
    /// # Errors
    /// If the bytes are not a whole segment of postings of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Keywords)?;
        if header.version < 2 {
            let message = "this index segment is of the first version; open the corpus with its builder to renew it";
            return Err(Error::new(ErrorKind::Corpus, message));
        }
        let damaged = || {
            let message = "this index segment is damaged: its dictionary does not fit it; rebuild the corpus";
            Error::new(ErrorKind::Corpus, message)
        };
        let all = bytes.as_ref();
        let end = all.len().checked_sub(FOOTER).ok_or_else(damaged)?;
        let footer = Footer::read(&all[end..]).ok_or_else(damaged)?;
        let postings = HEADER + header.rows as usize * 4;
        let (dictionary, index) = (footer.dictionary as usize, footer.index as usize);
        let blocks = u64::from(header.width.div_ceil(16)) * 8;
        let fits = postings <= dictionary && dictionary <= index && index <= end && (end - index) as u64 == blocks;
        if !fits {
            return Err(damaged());
        }
        Ok(Self { bytes, header, postings, dictionary, index, end, footer })
    }

    /// Returns `true` if the bytes are a segment of an older version, which must be written again.
    pub fn is_outdated(bytes: &[u8]) -> bool {
        segment::open(bytes, Kind::Keywords).is_ok_and(|header| header.version < 2)
    }

    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// If a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// Returns the number of rows, with the dead ones.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// Returns the number of different terms.
    pub fn terms(&self) -> u32 {
        self.header.width
    }

    /// Returns the languages of its rows.
    pub fn languages(&self) -> Languages {
        self.footer.languages
    }

    /// Returns the weights of the fields of its rows.
    pub fn weights(&self) -> FieldWeights {
        self.footer.weights
    }

    /// Returns the length of a row in words, weighted by field.
    #[inline]
    pub fn length(&self, row: u32) -> u32 {
        u32_at(self.bytes.as_ref(), HEADER + row as usize * 4).filter(|_| row < self.rows()).unwrap_or(0)
    }

    pub(super) fn dictionary(&self) -> Dictionary<'_> {
        self.parts().dictionary
    }

    /// Returns the list of a term.
    pub(super) fn cursor(&self, entry: &Entry) -> Cursor<'_> {
        self.parts().cursor(entry)
    }

    /// Returns the places of its parts.
    pub(super) fn parts(&self) -> Parts<'_> {
        let bytes = self.bytes.as_ref();
        Parts {
            rows: self.rows(),
            lengths: &bytes[HEADER..self.postings],
            lists: &bytes[self.postings..self.dictionary],
            dictionary: Dictionary::new(&bytes[self.dictionary..self.index], &bytes[self.index..self.end]),
        }
    }
}

/// The parts of a segment. The type is not generic over the owner of the bytes, so that code over it is compiled once.
#[derive(Clone, Copy)]
pub(super) struct Parts<'a> {
    pub rows: u32,
    lengths: &'a [u8],
    lists: &'a [u8],
    pub dictionary: Dictionary<'a>,
}

impl<'a> Parts<'a> {
    /// Returns the length of a row.
    pub(super) fn length(&self, row: u32) -> u32 {
        u32_at(self.lengths, row as usize * 4).unwrap_or(0)
    }

    /// Returns the list of a term.
    pub(super) fn cursor(&self, entry: &Entry) -> Cursor<'a> {
        Cursor::open(self.lists.get(entry.list.clone()).unwrap_or_default(), entry.count, self.rows)
    }
}

/// A segment as a search sees it: with its live rows and their statistics.
pub struct LiveKeywords<'a, B> {
    /// The segment.
    pub index: &'a KeywordIndex<B>,
    /// Its live rows.
    pub live: &'a RowSet,
    /// The statistics of the live rows.
    pub counts: &'a LiveCounts,
}

impl<B> std::fmt::Debug for LiveKeywords<'_, B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("LiveKeywords").finish_non_exhaustive()
    }
}

impl<B> Clone for LiveKeywords<'_, B> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<B> Copy for LiveKeywords<'_, B> {}

/// The statistics of the live rows of a segment, which scores are computed from. They make an incremental build score like a
/// fresh one.
///
/// If all rows are live, the segment has them. Otherwise a term is counted on first use, and the count is kept.
#[derive(Debug, Default)]
pub struct LiveCounts {
    /// The number of live rows.
    pub rows: u64,
    /// The sum of their lengths.
    pub total_length: u64,
    all: bool,
    frequencies: Mutex<HashMap<usize, u32>>,
}

impl LiveCounts {
    /// Counts the live rows. The cost grows with the number of dead rows.
    pub fn new<B: AsRef<[u8]>>(index: &KeywordIndex<B>, live: &RowSet) -> Self {
        let rows = u64::from(live.len());
        let all = rows == u64::from(index.rows());
        let dead: u64 = if all { 0 } else { live.missing().map(|row| u64::from(index.length(row))).sum() };
        Self { rows, total_length: index.footer.total_length.saturating_sub(dead), all, frequencies: Mutex::default() }
    }
}

impl<B: AsRef<[u8]>> LiveKeywords<'_, B> {
    /// Returns the number of live rows that have a term.
    pub(super) fn frequency(&self, entry: &Entry) -> u32 {
        if self.counts.all {
            return entry.count;
        }
        let mut kept = self.counts.frequencies.lock().unwrap_or_else(PoisonError::into_inner);
        *kept.entry(entry.list.start).or_insert_with(|| {
            let (mut cursor, mut count) = (self.index.cursor(entry), 0);
            while cursor.row() != END {
                count += u32::from(self.live.contains(cursor.row()));
                cursor.next();
            }
            count
        })
    }
}
