//! The pipeline: which parsers, which chunker, which encoder, which settings.

use std::sync::Arc;

use logothete_core::chunk::{Chunker, Structure};
use logothete_core::document::{Document, Parser};
use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use logothete_encoder::Hashing;
use logothete_parse::Parsers;

use crate::config::{Config, ParseConfig, Settings};
use crate::pool::within;
use crate::source::Content;

/// How documents are read, cut and encoded, and how passages are found. Cheap to clone.
///
/// The default needs nothing: chunks by structure, the hashing encoder, a keyword leg and a vector leg.
#[derive(Clone)]
pub struct Pipeline {
    pub(crate) parsers: Parsers,
    pub(crate) chunker: Arc<dyn Chunker>,
    pub(crate) encoder: Arc<dyn Encoder>,
    pub(crate) settings: Settings,
}

impl Default for Pipeline {
    fn default() -> Self {
        Self {
            // The default has no password to look for and no pointer to get wrong.
            parsers: Parsers::new(&ParseConfig::default().settings().unwrap_or_default()),
            chunker: Arc::new(Structure::default()),
            encoder: Arc::new(Hashing::default()),
            settings: Settings::default(),
        }
    }
}

impl Pipeline {
    /// A pipeline as a configuration describes it.
    ///
    /// # Errors
    /// When a setting makes no sense; the message says which, and what to set.
    pub fn from_config(config: &Config) -> Result<Self> {
        Ok(Self {
            parsers: Parsers::new(&config.parse.settings()?),
            chunker: Arc::new(Structure::new(config.chunk.limit, config.chunk.overlap).map_err(|e| e.at("[chunk]"))?),
            encoder: Arc::new(Hashing::new(config.encoder.dimensions).map_err(|e| e.at("[encoder]"))?),
            settings: config.settings()?,
        })
    }

    /// The same with one more parser, such as your own for a new type. It is asked before those of the library.
    #[must_use]
    pub fn with_parser(mut self, parser: impl Parser + 'static) -> Self {
        self.parsers.register(parser);
        self
    }

    /// Parses the bytes of a file, within the limits of the settings.
    ///
    /// # Errors
    /// As [`Parsers::parse`], and when it takes longer than is allowed.
    pub fn parse(&self, name: &str, bytes: Vec<u8>) -> Result<Document> {
        self.parse_content(name, Content { bytes, media_type: None })
    }

    /// Changes whenever the same bytes would give another document.
    pub(crate) fn parse_fingerprint(&self) -> Fingerprint {
        let limits = format!("{:?} {} {}", self.settings.pages, self.settings.most_pages, self.settings.most_unpacked);
        Fingerprint::of([self.parsers.fingerprint().to_string(), limits])
    }

    pub(crate) fn parse_content(&self, name: &str, content: Content) -> Result<Document> {
        let budget = self.settings.budget();
        let (parsers, named, inner) = (self.parsers.clone(), name.to_owned(), budget.clone());
        let limit = self.settings.longest;
        let over = || {
            let message =
                format!("reading it took more than {} s, and was given up; raise seconds in [limits]", limit.as_secs());
            Error::new(ErrorKind::Limit, message)
        };
        let read = move || parsers.parse_as(content.media_type.as_deref(), &named, &content.bytes, &inner);
        match within(limit, || budget.end(), read) {
            Some(Err(error)) if error.kind() == ErrorKind::Limit && budget.check().is_err() => Err(over()),
            Some(result) => result,
            None => Err(over()),
        }
    }

    /// The same with another encoder, such as your own.
    #[must_use]
    pub fn with_encoder(mut self, encoder: impl Encoder + 'static) -> Self {
        self.encoder = Arc::new(encoder);
        self
    }

    /// The same with another chunker.
    #[must_use]
    pub fn with_chunker(mut self, chunker: impl Chunker + 'static) -> Self {
        self.chunker = Arc::new(chunker);
        self
    }

    /// The same with other settings.
    #[must_use]
    pub fn with_settings(mut self, settings: Settings) -> Self {
        self.settings = settings;
        self
    }
}
