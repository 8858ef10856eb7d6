//! Bytes in, documents out.
//!
//! [`parse`] looks at the content first and at the name second, chooses the format, and returns a
//! [`Document`](logothete_core::document::Document) with its blocks, pages and metadata. What could not be read is in its
//! warnings; an error means that nothing could be read.
//!
//! ```
//! let document = logothete_parse::parse("log.md", b"# Watch log\n\nAll quiet.")?;
//! assert_eq!(document.title.as_deref(), Some("Watch log"));
//! # Ok::<(), logothete_core::Error>(())
//! ```

mod delimited;
mod detect;
mod html;
mod markdown;
mod pdf;
mod plain;

use logothete_core::document::Document;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

pub use detect::Format;
pub use pdf::{OutlineEntry, outline as pdf_outline};

/// The fingerprint of all the parsers together: changes whenever the same bytes would give another document.
pub fn fingerprint() -> Fingerprint {
    Fingerprint::of(["parse 2"])
}

/// Parses the bytes of a file. `name` becomes the document's name; its ending helps where the content does not tell.
///
/// # Errors
/// When the input is empty, of a format that nothing here reads, or damaged beyond reading. The message says which, and
/// what to do. It never panics on input: a format's library that does fails this file and nothing else.
pub fn parse(name: &str, bytes: &[u8]) -> Result<Document> {
    std::panic::catch_unwind(|| read(name, bytes)).unwrap_or_else(|_| {
        let message = "the parser stopped unexpectedly on this file; please report it with the file, if you may";
        Err(Error::new(ErrorKind::Unreadable, message))
    })
}

fn read(name: &str, bytes: &[u8]) -> Result<Document> {
    if bytes.is_empty() {
        return Err(Error::new(ErrorKind::Unreadable, "the file is empty (0 bytes)"));
    }
    let format = detect::detect(name, bytes)?;
    let mut document = match format {
        Format::Pdf => pdf::parse(name, bytes),
        Format::Html => html::parse(name, &plain::decode(bytes)),
        Format::Delimited => delimited::parse(name, &plain::decode(bytes)),
        Format::Markdown => markdown::parse(name, &plain::decode(bytes)),
        Format::Plain => plain::parse(name, &plain::decode(bytes)),
    }?;
    if let Some(warning) = detect::misnamed(name, format) {
        document.warnings.push(warning);
    }
    Ok(document)
}
