//! The trait of parsers.

use std::sync::Arc;

use super::{Budget, Document};
use crate::error::Result;
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
