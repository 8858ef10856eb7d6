//! The pipeline: which parsers, which chunker, which encoder, which settings.

use std::sync::Arc;

use logothete_core::chunk::{Chunk, Chunker, Review};
use logothete_core::document::{Document, Parser};
use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use logothete_parse::Parsers;

use crate::chunking::{self, Chunking};
use crate::config::{ChunkConfig, Config, ParseConfig, Settings};
use crate::generate::Generator;
use crate::pool::within;
use crate::source::Content;

/// How documents are read, cut and encoded, and how passages are found. Cheap to clone.
///
/// The default needs nothing: chunks by structure, the embedded English encoder, a keyword leg and a vector leg.
#[derive(Clone)]
pub struct Pipeline {
    pub(crate) parsers: Parsers,
    /// How documents are cut, unless the user's own chunker does it.
    chunk: ChunkConfig,
    own_chunker: Option<Arc<dyn Chunker>>,
    generator: Option<Arc<dyn Generator>>,
    pub(crate) encoder: Arc<dyn Encoder>,
    pub(crate) settings: Settings,
}

impl Default for Pipeline {
    fn default() -> Self {
        Self {
            // The default has no password to look for and no pointer to get wrong.
            parsers: Parsers::new(&ParseConfig::default().settings().unwrap_or_default()),
            chunk: ChunkConfig::default(),
            own_chunker: None,
            generator: None,
            encoder: default_encoder(),
            settings: Settings::default(),
        }
    }
}

#[cfg(feature = "embedded")]
fn default_encoder() -> Arc<dyn Encoder> {
    crate::config::embedded()
}

#[cfg(not(feature = "embedded"))]
fn default_encoder() -> Arc<dyn Encoder> {
    Arc::new(logothete_encoder::Hashing::default())
}

impl Pipeline {
    /// A pipeline as a configuration describes it.
    ///
    /// # Errors
    /// When a setting makes no sense; the message says which, and what to set.
    pub fn from_config(config: &Config) -> Result<Self> {
        let pipeline = Self {
            parsers: Parsers::new(&config.parse.settings()?),
            chunk: config.chunk.clone(),
            own_chunker: None,
            generator: None,
            encoder: config.encoder.encoder(&config.privacy)?,
            settings: config.settings()?,
        };
        pipeline.chunking()?;
        Ok(pipeline)
    }

    /// The chunker, bound to the encoder.
    ///
    /// # Errors
    /// When the settings of `[chunk]` make no sense, or ask for more than the encoder reads.
    pub fn chunker(&self) -> Result<Arc<dyn Chunker>> {
        Ok(self.chunking()?.chunker)
    }

    /// The encoder.
    pub fn encoder(&self) -> &Arc<dyn Encoder> {
        &self.encoder
    }

    /// Counts what can be said of a document's chunks.
    pub fn review(&self, review: &mut Review, chunks: &[Chunk]) {
        chunking::add_to_review(review, chunks, &*self.encoder);
    }

    pub(crate) fn chunking(&self) -> Result<Chunking> {
        Chunking::new(&self.chunk, self.own_chunker.clone(), &self.encoder, self.generator.clone())
            .map_err(|error| if error.place().is_none() { error.at("[chunk]") } else { error })
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

    /// The same with a chunker of your own, or one of the library's with settings of your own.
    #[must_use]
    pub fn with_chunker(mut self, chunker: impl Chunker + 'static) -> Self {
        self.own_chunker = Some(Arc::new(chunker));
        self
    }

    /// The same with a generator, for contexts that are written: see [`ChunkContext::Generated`](crate::ChunkContext).
    #[must_use]
    pub fn with_generator(mut self, generator: impl Generator + 'static) -> Self {
        self.generator = Some(Arc::new(generator));
        self
    }

    /// The same with other settings of `[chunk]`.
    #[must_use]
    pub fn with_chunk_config(mut self, config: ChunkConfig) -> Self {
        self.chunk = config;
        self
    }

    /// The same with other settings.
    #[must_use]
    pub fn with_settings(mut self, settings: Settings) -> Self {
        self.settings = settings;
        self
    }
}
