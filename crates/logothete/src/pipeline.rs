//! The pipeline: which chunker, which encoder, which settings.

use std::sync::Arc;

use logothete_core::Result;
use logothete_core::chunk::{Chunker, Structure};
use logothete_core::vector::Encoder;
use logothete_encoder::Hashing;

use crate::config::{Config, Settings};

/// How documents are cut and encoded, and how passages are found. Cheap to clone.
///
/// The default needs nothing: chunks by structure, the hashing encoder, a keyword leg and a vector leg.
#[derive(Clone)]
pub struct Pipeline {
    pub(crate) chunker: Arc<dyn Chunker>,
    pub(crate) encoder: Arc<dyn Encoder>,
    pub(crate) settings: Settings,
}

impl Default for Pipeline {
    fn default() -> Self {
        Self {
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
            chunker: Arc::new(Structure::new(config.chunk.limit, config.chunk.overlap).map_err(|e| e.at("[chunk]"))?),
            encoder: Arc::new(Hashing::new(config.encoder.dimensions).map_err(|e| e.at("[encoder]"))?),
            settings: config.settings()?,
        })
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
