//! The trait of parsers, and the budget of one input.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use super::{Document, Pages};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;

/// Reads the inputs of one format, or of a few that belong together.
pub trait Parser: Send + Sync {
    /// The media types it reads, such as `application/pdf`.
    fn media_types(&self) -> &[&str];

    /// The endings of file names that mean one of its types, lower case, without the dot.
    fn endings(&self) -> &[&str] {
        &[]
    }

    /// Returns `true` if an input is one of its own, told by its content. Only what is certain counts: the name decides the rest.
    fn recognises(&self, bytes: &[u8]) -> bool {
        let _ = bytes;
        false
    }

    /// Returns `true` if an input that is named as one of its own can be one. A parser of text says no to what is no text.
    fn fits(&self, bytes: &[u8]) -> bool {
        !bytes.is_empty()
    }

    /// Changes whenever the same input would give another document.
    fn fingerprint(&self) -> Fingerprint;

    /// Reads an input.
    ///
    /// # Errors
    /// If nothing of it can be read. The warnings of the document name what was read only in part.
    fn parse(&self, input: &Input<'_>) -> Result<Document>;
}

/// What a parser is given.
#[derive(Clone, Copy, Debug)]
pub struct Input<'a> {
    /// What the document is to be called.
    pub name: &'a str,
    /// The content.
    pub bytes: &'a [u8],
    /// What it may spend.
    pub budget: &'a Budget,
}

/// What may be spent on one input.
#[derive(Clone, Debug)]
pub struct Budget {
    /// Read these pages only.
    pub pages: Option<Pages>,
    /// Read no more pages than this.
    pub max_pages: u32,
    /// What an archive unpacks to may take no more bytes than this.
    pub max_unpacked: u64,
    /// How deep attachments and archives may lie inside one another.
    pub nesting: u8,
    over: Arc<AtomicBool>,
}

impl Default for Budget {
    fn default() -> Self {
        Self { pages: None, max_pages: 20_000, max_unpacked: 250_000_000, nesting: 4, over: Arc::default() }
    }
}

impl Budget {
    /// Says that the time is over. All clones hear it.
    pub fn end(&self) {
        self.over.store(true, Ordering::Relaxed);
    }

    /// Asks whether time is left. Parsers ask once a page, a record or a few thousand tokens.
    ///
    /// # Errors
    /// If the time is over.
    pub fn check(&self) -> Result<()> {
        if self.over.load(Ordering::Relaxed) {
            return Err(Error::new(ErrorKind::Limit, "reading it took longer than the limit"));
        }
        Ok(())
    }

    /// Returns `true` if a page is to be read.
    pub fn wants(&self, page: u32) -> bool {
        self.pages.is_none_or(|pages| pages.contains(page))
    }

    /// The budget of something inside the input.
    ///
    /// # Errors
    /// If it lies too deep.
    pub fn inside(&self) -> Result<Self> {
        let nesting = self
            .nesting
            .checked_sub(1)
            .ok_or_else(|| Error::new(ErrorKind::Limit, "it is nested too deep in other files, and was not read"))?;
        Ok(Self { pages: None, nesting, ..self.clone() })
    }
}
