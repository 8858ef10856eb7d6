//! Positions in a document: ranges of bytes and ranges of pages.

use std::ops::Range;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::error::{Error, ErrorKind};

/// A half-open range of bytes in a document's normalised text. Serialises as `[start, end]`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "[usize; 2]", into = "[usize; 2]")]
pub struct Span {
    /// The first byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

impl Span {
    /// Creates a span. An end before the start gives an empty span.
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end: end.max(start) }
    }

    /// Returns the length in bytes.
    pub fn len(self) -> usize {
        self.end - self.start
    }

    /// Returns `true` if the span is empty.
    pub fn is_empty(self) -> bool {
        self.start == self.end
    }

    /// Returns `true` if the spans share a byte.
    pub fn overlaps(self, other: Self) -> bool {
        self.start < other.end && other.start < self.end
    }

    /// Returns `true` if the other span lies inside this one.
    pub fn contains(self, other: Self) -> bool {
        self.start <= other.start && other.end <= self.end
    }

    /// Returns the range for indexing text.
    pub fn range(self) -> Range<usize> {
        self.start..self.end
    }
}

impl From<[usize; 2]> for Span {
    fn from([start, end]: [usize; 2]) -> Self {
        Self::new(start, end)
    }
}

impl From<Span> for [usize; 2] {
    fn from(span: Span) -> Self {
        [span.start, span.end]
    }
}

/// A range of pages, both ends included, counted from 1. Serialises as `[first, last]`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "[u32; 2]", into = "[u32; 2]")]
pub struct Pages {
    /// The first page.
    pub first: u32,
    /// The last page, often the same as the first.
    pub last: u32,
}

impl Pages {
    /// Returns `true` if the range has a page.
    pub fn contains(self, page: u32) -> bool {
        (self.first..=self.last).contains(&page)
    }
}

impl From<[u32; 2]> for Pages {
    fn from([first, last]: [u32; 2]) -> Self {
        Self { first, last }
    }
}

impl From<Pages> for [u32; 2] {
    fn from(pages: Pages) -> Self {
        [pages.first, pages.last]
    }
}

/// Prints the bytes as `12..40`.
impl std::fmt::Display for Span {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}..{}", self.start, self.end)
    }
}

impl std::fmt::Display for Pages {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.first == self.last {
            write!(f, "page {}", self.first)
        } else {
            write!(f, "pages {}–{}", self.first, self.last)
        }
    }
}

impl FromStr for Pages {
    type Err = Error;

    /// Parses `3` or `1-10`.
    fn from_str(written: &str) -> Result<Self, Error> {
        // What is printed is read again.
        let bare = written.trim();
        let bare = bare.strip_prefix("pages ").or_else(|| bare.strip_prefix("page ")).unwrap_or(bare);
        let invalid = || {
            let message = format!("{written:?} is not a range of pages; write 3, or 1-10");
            Error::new(ErrorKind::InvalidRequest, message)
        };
        let (first, last) = bare.split_once(['-', '–']).unwrap_or((bare, bare));
        let number = |part: &str| part.trim().parse::<u32>().ok().filter(|page| *page > 0).ok_or_else(invalid);
        let (first, last) = (number(first)?, number(last)?);
        if last < first { Err(invalid()) } else { Ok(Self { first, last }) }
    }
}
