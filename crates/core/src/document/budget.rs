//! The budget of one input: time, pages, and how much may be made of it.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use super::{Document, Pages};
use crate::error::{Error, ErrorKind, Result};

/// What is made of an input, and counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Made {
    /// Bytes that are unpacked: parts of archives and streams.
    Unpacked,
    /// Bytes of text, and of the targets of links.
    Text,
    /// Blocks.
    Blocks,
    /// Cells of tables, including those that another cell spans.
    Cells,
    /// Places: lines and words on pages, links, beginnings of pages, moments, and the elements of XML.
    Places,
}

impl Made {
    const ALL: [Self; 5] = [Self::Unpacked, Self::Text, Self::Blocks, Self::Cells, Self::Places];

    /// Returns the name of its limit in `[limits]`.
    fn limit(self) -> &'static str {
        match self {
            Self::Unpacked => "unpacked_megabytes",
            Self::Text => "text_megabytes",
            Self::Blocks => "blocks",
            Self::Cells => "cells",
            Self::Places => "places",
        }
    }

    fn error(self, has: u64, most: u64) -> Error {
        // The amount is rounded up, so that it is never less than the limit.
        let megabytes = |bytes: u64| bytes.div_ceil(100_000) as f64 / 10.0;
        let what = match self {
            Self::Unpacked => format!("it unpacks to more than {} MB ({} MB", megabytes(most), megabytes(has)),
            Self::Text => format!("it makes more than {} MB of text ({} MB", megabytes(most), megabytes(has)),
            Self::Blocks => format!("it makes more than {most} blocks ({has}"),
            Self::Cells => format!("it makes more than {most} cells of tables ({has}"),
            Self::Places => format!("it makes more than {most} lines, words, links and elements ({has}"),
        };
        let message = format!("{what} when it was stopped); raise {} in [limits], or split it", self.limit());
        Error::new(ErrorKind::Limit, message)
    }
}

/// The budget of one input. Clones count together. What a file inside another makes counts for both, and only the inner one is over if it is too much.
#[derive(Clone, Debug)]
pub struct Budget {
    /// The pages to read; `None` means all.
    pub pages: Option<Pages>,
    /// The highest number of pages to read.
    pub max_pages: u32,
    /// The highest number of bytes that archives and streams may unpack to.
    pub max_unpacked: u64,
    /// The highest number of bytes of text.
    pub max_text: u64,
    /// The highest number of blocks.
    pub max_blocks: u64,
    /// The highest number of cells of tables.
    pub max_cells: u64,
    /// The highest number of places: lines and words on pages, links, beginnings of pages, moments.
    pub max_places: u64,
    /// The highest nesting of attachments and archives.
    pub nesting: u8,
    is_over: Arc<AtomicBool>,
    ledger: Arc<Ledger>,
}

/// What clones of a budget share.
#[derive(Debug, Default)]
struct Ledger {
    /// That of the file around this one.
    outer: Option<Arc<Self>>,
    counted: [AtomicU64; Made::ALL.len()],
    /// The first limit that was passed: what was made, how much of it, and how much was allowed.
    passed: OnceLock<(Made, u64, u64)>,
}

impl Default for Budget {
    fn default() -> Self {
        Self {
            pages: None,
            max_pages: 20_000,
            max_unpacked: 250_000_000,
            max_text: 20_000_000,
            max_blocks: 1_000_000,
            max_cells: 5_000_000,
            max_places: 10_000_000,
            nesting: 4,
            is_over: Arc::default(),
            ledger: Arc::default(),
        }
    }
}

impl Budget {
    /// Ends the time. All clones see it.
    pub fn end(&self) {
        self.is_over.store(true, Ordering::Relaxed);
    }

    /// Returns `true` if the time was ended.
    pub fn is_late(&self) -> bool {
        self.is_over.load(Ordering::Relaxed)
    }

    /// Checks whether time is left, and no limit was passed. Parsers call it once a page, a record or a few thousand tokens.
    ///
    /// # Errors
    /// If the time is over, or something was made of which there was too much.
    pub fn check(&self) -> Result<()> {
        if let Some((made, has, most)) = self.ledger.passed.get() {
            return Err(made.error(*has, *most));
        }
        if self.is_late() {
            return Err(Error::new(ErrorKind::Limit, "reading it took longer than the limit"));
        }
        Ok(())
    }

    /// Returns how much of something may be made.
    pub fn max(&self, made: Made) -> u64 {
        match made {
            Made::Unpacked => self.max_unpacked,
            Made::Text => self.max_text,
            Made::Blocks => self.max_blocks,
            Made::Cells => self.max_cells,
            Made::Places => self.max_places,
        }
    }

    /// Counts what a parser holds before it is in the document, such as the bytes that it unpacks or the cells of a sheet. Call it before they are made.
    ///
    /// # Errors
    /// If it is more than is allowed, or [`check`](Self::check) fails.
    pub fn count(&self, made: Made, more: u64) -> Result<()> {
        let before = self.ledger.counted[made as usize].fetch_add(more, Ordering::Relaxed);
        let mut outer = &self.ledger.outer;
        while let Some(ledger) = outer {
            ledger.counted[made as usize].fetch_add(more, Ordering::Relaxed);
            outer = &ledger.outer;
        }
        self.allows(made, before.saturating_add(more));
        self.check()
    }

    /// Returns how much more of something may be counted.
    pub fn left(&self, made: Made) -> u64 {
        self.max(made).saturating_sub(self.ledger.counted[made as usize].load(Ordering::Relaxed))
    }

    /// Returns `true` if a document may have so much of something. Otherwise [`check`](Self::check) fails from now on.
    pub fn allows(&self, made: Made, has: u64) -> bool {
        let most = self.max(made);
        if has > most {
            let _ = self.ledger.passed.set((made, has, most));
        }
        has <= most
    }

    /// Checks a whole document, whoever made it.
    ///
    /// # Errors
    /// As [`check`](Self::check).
    pub fn check_document(&self, document: &Document) -> Result<()> {
        let (text, blocks) = (document.text.len(), document.blocks.len());
        let rows = document.blocks.iter().filter_map(|block| block.table.as_ref()).flat_map(|table| &table.rows);
        let cells: usize = rows.map(|row| row.cells.len()).sum();
        let lines = document.boxes.len() + document.recognised.len();
        let places = lines + document.links.len() + document.page_starts.len() + document.moments.len();
        for (made, has) in [(Made::Text, text), (Made::Blocks, blocks), (Made::Cells, cells), (Made::Places, places)] {
            self.allows(made, has as u64);
        }
        self.check()
    }

    /// Returns `true` if a page should be read.
    pub fn wants(&self, page: u32) -> bool {
        self.pages.is_none_or(|pages| pages.contains(page))
    }

    /// Returns the budget of an input inside this one.
    ///
    /// # Errors
    /// If it is nested too deeply.
    pub fn inside(&self) -> Result<Self> {
        let nesting = self
            .nesting
            .checked_sub(1)
            .ok_or_else(|| Error::new(ErrorKind::Limit, "it is nested too deep in other files, and was not read"))?;
        Ok(Self {
            pages: None,
            nesting,
            max_unpacked: self.left(Made::Unpacked),
            max_text: self.left(Made::Text),
            max_blocks: self.left(Made::Blocks),
            max_cells: self.left(Made::Cells),
            max_places: self.left(Made::Places),
            ledger: Arc::new(Ledger { outer: Some(self.ledger.clone()), ..Ledger::default() }),
            ..self.clone()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::{BlockKind, DocumentBuilder};

    #[test]
    fn what_is_made_of_files_inside_one_counts_for_it() {
        let budget = Budget { max_unpacked: 100, ..Budget::default() };
        let inner = budget.inside().expect("room");
        assert!(inner.count(Made::Unpacked, 60).is_ok());
        assert_eq!((budget.left(Made::Unpacked), inner.left(Made::Unpacked)), (40, 40));
        let error = inner.count(Made::Unpacked, 41).expect_err("too much");
        assert!(error.to_string().contains("raise unpacked_megabytes"), "{error}");
        assert!(inner.check().is_err() && budget.check().is_ok(), "the inner file is left out");
        assert_eq!(budget.inside().expect("room").left(Made::Unpacked), 0);
        budget.end();
        assert!(inner.check().is_err(), "time is shared");
    }

    #[test]
    fn a_document_does_not_grow_beyond_its_budget() {
        let budget = Budget { max_text: 50, ..Budget::default() };
        let mut builder = DocumentBuilder::within("a.txt", "text/plain", &budget);
        for _ in 0..1_000 {
            builder.block(BlockKind::Paragraph, "The bell is rung.");
        }
        assert!(builder.finish().text.len() <= 50);
        let error = budget.check().expect_err("too much");
        assert!(error.to_string().contains("raise text_megabytes"), "{error}");
    }
}
