//! Chooses the parser of an input: by content, then by media type, then by name.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

use logothete_core::document::{Budget, Document, Input, Parser};
use logothete_core::{Error, ErrorKind, Fingerprint, Result, panic_message};

use crate::{detect, language};

/// The parsers in use. Clones share them.
#[derive(Clone)]
pub struct Parsers {
    list: Vec<Arc<dyn Parser>>,
}

impl std::fmt::Debug for Parsers {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Parsers").finish_non_exhaustive()
    }
}

impl Default for Parsers {
    fn default() -> Self {
        Self::new(&crate::ParseSettings::default())
    }
}

impl Parsers {
    /// Creates all the parsers of the library, under some settings.
    pub fn new(settings: &crate::ParseSettings) -> Self {
        Self { list: crate::built_in(settings) }
    }

    /// Adds a parser. It is asked before those that are there.
    pub fn register(&mut self, parser: impl Parser + 'static) {
        self.list.insert(0, Arc::new(parser));
    }

    /// Changes whenever the same bytes would give another document.
    pub fn fingerprint(&self) -> Fingerprint {
        let all = self.list.iter().map(|parser| parser.fingerprint().to_string());
        Fingerprint::of(all.chain(["parsers 4".to_owned()]))
    }

    /// Parses the bytes of a file. `name` becomes the document's name; its ending helps where the content does not tell.
    ///
    /// # Errors
    /// If the input is empty, has a format that no parser reads, or is too damaged. The message says which, and what to do.
    /// A panic in a library of a format becomes an error of this file.
    pub fn parse(&self, name: &str, bytes: &[u8], budget: &Budget) -> Result<Document> {
        self.parse_as(None, name, bytes, budget)
    }

    /// Parses bytes that came with a media type: from a server, or as a part of an e-mail.
    ///
    /// # Errors
    /// As [`parse`](Self::parse).
    pub fn parse_as(&self, media_type: Option<&str>, name: &str, bytes: &[u8], budget: &Budget) -> Result<Document> {
        if bytes.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the file is empty (0 bytes)"));
        }
        let parser = self.choose(media_type, name, bytes)?;
        let input = Input { name, bytes, budget };
        let parsed = catch_unwind(AssertUnwindSafe(|| parser.parse(&input))).unwrap_or_else(|panic| {
            let types = parser.media_types().first().copied().unwrap_or("this type");
            let message = format!("the parser of {types} panicked on this file: {}", panic_message(&*panic));
            Err(Error::new(ErrorKind::Unreadable, message))
        });
        // What a parser says of a document that was not let grow would not be the reason.
        budget.check()?;
        let mut document = parsed?;
        budget.check_document(&document)?;
        if let Some(warning) = self.misnamed(name, &*parser) {
            document.warnings.push(warning);
        }
        language::note(&mut document);
        Ok(document)
    }

    fn choose(&self, media_type: Option<&str>, name: &str, bytes: &[u8]) -> Result<Arc<dyn Parser>> {
        let media_type = media_type.and_then(|full| full.split(';').next()).map(|bare| bare.trim().to_lowercase());
        let ending = detect::ending(name);
        let by_content = || self.list.iter().find(|parser| parser.recognises(bytes));
        let by_type = || {
            let wanted = media_type.as_deref()?;
            self.list.iter().find(|parser| parser.media_types().contains(&wanted) && wanted != "text/plain")
        };
        let by_name = || self.list.iter().find(|parser| parser.endings().contains(&ending.as_str()));
        let by_text = || self.list.iter().find(|parser| parser.media_types().contains(&"text/plain"));
        if let Some(parser) = by_content() {
            return Ok(Arc::clone(parser));
        }
        let named = by_type().or_else(by_name).filter(|parser| parser.fits(bytes));
        if let Some(parser) = named {
            return Ok(Arc::clone(parser));
        }
        if let Some(what) = detect::not_text(bytes) {
            return Err(detect::not_read(what, &ending));
        }
        by_text().map(Arc::clone).ok_or_else(|| Error::new(ErrorKind::Unsupported, "no parser reads this type"))
    }

    /// Returns a warning if the extension of a file contradicts its content.
    fn misnamed(&self, name: &str, used: &dyn Parser) -> Option<String> {
        let ending = detect::ending(name);
        let by_name = self.list.iter().find(|parser| parser.endings().contains(&ending.as_str()))?;
        let (used, named) = (used.media_types().first()?, by_name.media_types().first()?);
        // Text is read as text whatever its ending says; only formats with a signature can be mistaken.
        let certain = |media: &str| !media.starts_with("text/") || media == "text/html";
        (used != named && (certain(used) || certain(named)))
            .then(|| format!("its name ends in .{ending}, and it is {}; it was read as that", detect::called(used)))
    }
}
