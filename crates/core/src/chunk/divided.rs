//! Chunks along existing divisions: pages, marked lines, rows of tables, the document.

use super::context::Contexts;
use super::pack::{Fill, Packer};
use super::piece::{Seam, parts_inside, push_block, push_run};
use super::structure::Sections;
use super::{Chunker, Limit, Unit};
use crate::document::{Document, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;

/// One chunk for each page. A document without pages is one chunk.
///
/// A page longer than the limit is cut like by [`Structure`](super::Structure), but across headings.
#[derive(Clone, Debug)]
pub struct ByPage {
    limit: Limit,
}

/// One chunk for each part between marked lines.
///
/// No chunk contains the marked lines. A part longer than the limit is cut like by [`Structure`](super::Structure), but across
/// headings.
#[derive(Clone, Debug)]
pub struct Marked {
    limit: Limit,
    pattern: LinePattern,
}

/// A chunk for a fixed number of table rows, with the header in the context. [`Structure`](super::Structure) cuts everything
/// else.
#[derive(Clone, Debug)]
pub struct Rows {
    limit: Limit,
    rows: usize,
}

/// The whole document as one chunk, unless it is longer than the limit.
#[derive(Clone, Debug)]
pub struct Whole {
    limit: Limit,
}

impl Default for ByPage {
    fn default() -> Self {
        Self::new(Limit::none(Unit::Words))
    }
}

impl Default for Whole {
    fn default() -> Self {
        Self::new(Limit::none(Unit::Words))
    }
}

impl ByPage {
    /// Creates a chunker with a limit, or [none](Limit::none).
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }
}

impl Marked {
    /// Creates a chunker that cuts at lines that match a pattern: see [`LinePattern`].
    pub fn new(limit: Limit, pattern: LinePattern) -> Self {
        Self { limit, pattern }
    }
}

impl Rows {
    /// Creates a chunker that takes `rows` rows at a time, or fewer if the limit has no room for them.
    ///
    /// # Errors
    /// If `rows` is 0.
    pub fn new(limit: Limit, rows: usize) -> Result<Self> {
        if rows == 0 {
            return Err(Error::new(ErrorKind::Configuration, "chunks of 0 rows hold nothing; set 1 or more"));
        }
        Ok(Self { limit, rows })
    }
}

impl Whole {
    /// Creates a chunker with a limit, or [none](Limit::none).
    pub fn new(limit: Limit) -> Self {
        Self { limit }
    }
}

/// A pattern of marked lines: any text, with `*` for any characters. White space at the ends of lines is ignored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinePattern {
    parts: Vec<String>,
}

impl LinePattern {
    /// Creates a pattern such as `=====*` or `--- cut ---`.
    ///
    /// # Errors
    /// If the pattern has nothing but `*`.
    pub fn new(pattern: &str) -> Result<Self> {
        let parts: Vec<String> = pattern.trim().split('*').map(str::to_owned).collect();
        if parts.iter().all(String::is_empty) {
            let message = format!(
                "the pattern {pattern:?} would take every line for a mark; write what marks have, such as ===*"
            );
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        Ok(Self { parts })
    }

    /// Returns `true` if a line matches. Costs a pass over it.
    pub fn is_met(&self, line: &str) -> bool {
        let line = line.trim();
        let [first, inner @ .., last] = self.parts.as_slice() else {
            return self.parts.first().is_some_and(|only| only == line);
        };
        let Some(mut rest) = line.strip_prefix(first.as_str()) else { return false };
        for part in inner {
            match rest.find(part.as_str()) {
                Some(at) => rest = &rest[at + part.len()..],
                None => return false,
            }
        }
        rest.ends_with(last.as_str())
    }
}

impl std::fmt::Display for LinePattern {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.parts.join("*"))
    }
}

impl Chunker for ByPage {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["pages 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let mut starts: Vec<usize> = document.page_starts.iter().map(|page| page.start).collect();
        starts.dedup();
        let ends = starts.iter().skip(1).copied().chain([document.text.len()]);
        let before = starts.first().copied().unwrap_or(document.text.len());
        let pages = starts.iter().copied().zip(ends).map(|(start, end)| Span::new(start, end));
        Ok(cut_parts(document, [Span::new(0, before)].into_iter().chain(pages), &self.limit))
    }
}

impl Chunker for Marked {
    fn fingerprint(&self) -> Fingerprint {
        let pattern = self.pattern.to_string();
        Fingerprint::of(["marked 1".to_owned(), self.limit.fingerprint().to_string(), pattern])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn applies_to(&self, document: &Document) -> bool {
        document.text.lines().any(|line| self.pattern.is_met(line))
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let mut parts = Vec::new();
        let (mut start, mut at) = (0, 0);
        for line in document.text.split_inclusive('\n') {
            if self.pattern.is_met(line) {
                parts.push(Span::new(start, at));
                start = at + line.len();
            }
            at += line.len();
        }
        parts.push(Span::new(start, at));
        Ok(cut_parts(document, parts, &self.limit))
    }
}

impl Chunker for Rows {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["rows 1".to_owned(), self.limit.fingerprint().to_string(), self.rows.to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let contexts = Contexts::new(document);
        let mut sections = Sections::new(document, &contexts, &self.limit);
        for (index, block) in document.blocks.iter().enumerate() {
            let Some(table) = &block.table else {
                sections.add(index);
                continue;
            };
            let room = contexts.least_room(index, &self.limit);
            let mut pieces = sections.close_to_headings();
            // The first rows include the header.
            let (header, body) = table.rows.split_at(table.header_rows.min(table.rows.len()));
            let first = header.len() + self.rows.min(body.len());
            for group in [&table.rows[..first]].into_iter().chain(table.rows[first..].chunks(self.rows)) {
                for row in group.iter().filter(|row| !row.span.is_empty()) {
                    push_run(document, row.span, index, Seam::Sentences, room, &self.limit, &mut pieces);
                }
                sections.pack(&pieces);
                pieces.clear();
            }
        }
        Ok(sections.finish())
    }
}

impl Chunker for Whole {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["whole 1".to_owned(), self.limit.fingerprint().to_string()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(&self.limit)
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        Ok(cut_parts(document, [Span::new(0, document.text.len())], &self.limit))
    }
}

/// Cuts each part into one chunk, or into several if the limit has no room for it.
pub(super) fn cut_parts(document: &Document, parts: impl IntoIterator<Item = Span>, limit: &Limit) -> Vec<Span> {
    let contexts = Contexts::new(document);
    let packer = Packer { document, contexts: &contexts, limit, fill: Fill::BestSeam };
    let mut cuts = Vec::new();
    for part in parts {
        let mut pieces = Vec::new();
        let first = document.blocks.partition_point(|block| block.span.end <= part.start);
        for index in first..document.blocks.len() {
            let block = &document.blocks[index];
            if block.span.start >= part.end {
                break;
            }
            let room = contexts.least_room(index, limit);
            if part.contains(block.span) {
                push_block(document, index, room, limit, &mut pieces);
                continue;
            }
            // Of a block that extends beyond the part, only the text inside counts.
            let inside = Span::new(block.span.start.max(part.start), block.span.end.min(part.end));
            for run in parts_inside(document, block, inside) {
                push_run(document, run, index, Seam::Sentences, room, limit, &mut pieces);
            }
        }
        packer.pack(&pieces, &mut cuts);
    }
    cuts
}
