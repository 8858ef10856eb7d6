//! The trait of parsers, and the budget of one input.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use super::{Document, Pages};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;

/// A parser of one format, or of a few related ones.
pub trait Parser: Send + Sync {
    /// Returns the media types that it reads, such as `application/pdf`.
    fn media_types(&self) -> &[&str];

    /// Returns the file name extensions of its types, lower case, without the dot.
    fn endings(&self) -> &[&str] {
        &[]
    }

    /// Returns `true` if the content of an input is certainly of its format. The name decides about the others.
    fn recognises(&self, bytes: &[u8]) -> bool {
        let _ = bytes;
        false
    }

    /// Returns `true` if an input with one of its names can be of its format. A parser of text returns `false` for binary
    /// content.
    fn fits(&self, bytes: &[u8]) -> bool {
        !bytes.is_empty()
    }

    /// Returns a text that changes if the same input would give another document.
    fn fingerprint(&self) -> Fingerprint;

    /// Reads an input.
    ///
    /// # Errors
    /// If nothing of it can be read. The document's warnings name parts that cannot be read.
    fn parse(&self, input: &Input<'_>) -> Result<Document>;
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: Parser + ?Sized> Parser for $pointer {
            fn media_types(&self) -> &[&str] {
                (**self).media_types()
            }

            fn endings(&self) -> &[&str] {
                (**self).endings()
            }

            fn recognises(&self, bytes: &[u8]) -> bool {
                (**self).recognises(bytes)
            }

            fn fits(&self, bytes: &[u8]) -> bool {
                (**self).fits(bytes)
            }

            fn fingerprint(&self) -> Fingerprint {
                (**self).fingerprint()
            }

            fn parse(&self, input: &Input<'_>) -> Result<Document> {
                (**self).parse(input)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);

/// The input of a parser.
#[derive(Clone, Copy, Debug)]
pub struct Input<'a> {
    /// The name of the document.
    pub name: &'a str,
    /// The content.
    pub bytes: &'a [u8],
    /// The budget.
    pub budget: &'a Budget,
}

/// The budget of one input.
#[derive(Clone, Debug)]
pub struct Budget {
    /// The pages to read; `None` means all.
    pub pages: Option<Pages>,
    /// The highest number of pages to read.
    pub max_pages: u32,
    /// The highest number of bytes that an archive may unpack to.
    pub max_unpacked: u64,
    /// The highest nesting of attachments and archives.
    pub nesting: u8,
    over: Arc<AtomicBool>,
}

impl Default for Budget {
    fn default() -> Self {
        Self { pages: None, max_pages: 20_000, max_unpacked: 250_000_000, nesting: 4, over: Arc::default() }
    }
}

impl Budget {
    /// Ends the time. All clones see it.
    pub fn end(&self) {
        self.over.store(true, Ordering::Relaxed);
    }

    /// Checks whether time is left. Parsers call it once a page, a record or a few thousand tokens.
    ///
    /// # Errors
    /// If the time is over.
    pub fn check(&self) -> Result<()> {
        if self.over.load(Ordering::Relaxed) {
            return Err(Error::new(ErrorKind::Limit, "reading it took longer than the limit"));
        }
        Ok(())
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
        Ok(Self { pages: None, nesting, ..self.clone() })
    }
}
