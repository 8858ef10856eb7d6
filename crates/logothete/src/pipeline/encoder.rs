//! From the settings of `[encoder]` to an encoder.

use std::sync::{Arc, OnceLock};

use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Result};
use logothete_encoder::{FolderSettings, Hashing, SentenceEncoder};

use crate::config::{EncoderConfig, EncoderKind, PrivacyConfig};

/// The encoder of a pipeline. One that is a service is connected to when a corpus is opened, and not before.
#[derive(Clone)]
pub(super) enum EncoderChoice {
    Ready(Arc<dyn Encoder>),
    Remote(Arc<RemoteChoice>),
    /// The default, in a program that was built without it.
    #[cfg(not(feature = "embedded"))]
    Missing,
}

/// An encoder that is a service, and the connection once it was made.
pub(super) struct RemoteChoice {
    config: EncoderConfig,
    privacy: PrivacyConfig,
    connected: OnceLock<Arc<dyn Encoder>>,
}

impl EncoderChoice {
    /// Creates the choice of a configuration. Nothing is sent.
    ///
    /// # Errors
    /// If a setting is invalid, or a file of the model is missing.
    pub(super) fn new(config: &EncoderConfig, privacy: &PrivacyConfig) -> Result<Self> {
        let invalid = |key: &str, message: &str| {
            Err(Error::new(ErrorKind::Configuration, message.to_owned()).at(format!("[encoder] {key}")))
        };
        match config.kind {
            #[cfg(feature = "embedded")]
            EncoderKind::Embedded => Ok(Self::Ready(embedded())),
            #[cfg(not(feature = "embedded"))]
            EncoderKind::Embedded => Ok(Self::Missing),
            EncoderKind::Hashing => {
                let hashing = Hashing::new(config.dimensions).map_err(|error| error.at("[encoder] dimensions"))?;
                Ok(Self::Ready(Arc::new(hashing)))
            }
            EncoderKind::Folder if config.folder.as_os_str().is_empty() => {
                invalid("folder", "set it to the folder of the model")
            }
            EncoderKind::Folder => {
                let settings = FolderSettings {
                    query_prefix: config.query_prefix.clone(),
                    token_dimensions: config.token_dimensions,
                    passage_prefix: config.passage_prefix.clone(),
                    pooling: config.pooling,
                    max_tokens: config.max_tokens,
                    precision: config.precision,
                };
                Ok(Self::Ready(Arc::new(SentenceEncoder::from_folder(&config.folder, &settings)?)))
            }
            EncoderKind::Remote if cfg!(not(feature = "http")) => {
                invalid("kind", "this program was built without the feature http; choose another encoder")
            }
            EncoderKind::Remote => Ok(Self::Remote(Arc::new(RemoteChoice {
                config: config.clone(),
                privacy: privacy.clone(),
                connected: OnceLock::new(),
            }))),
        }
    }

    /// Returns the encoder. One that is a service is asked for a vector, which blocks the thread.
    pub(super) fn connect(&self) -> Result<Arc<dyn Encoder>> {
        match self {
            Self::Ready(encoder) => Ok(encoder.clone()),
            #[cfg(not(feature = "embedded"))]
            Self::Missing => {
                let message = "this program was built without the default encoder, the feature `embedded`; set kind to another \
                               one, or give the pipeline one with with_encoder";
                Err(Error::new(ErrorKind::Configuration, message).at("[encoder] kind"))
            }
            Self::Remote(remote) => {
                if let Some(connected) = remote.connected.get() {
                    return Ok(connected.clone());
                }
                let encoder = remote.connect()?;
                Ok(remote.connected.get_or_init(|| encoder).clone())
            }
        }
    }
}

impl RemoteChoice {
    #[cfg(feature = "http")]
    fn connect(&self) -> Result<Arc<dyn Encoder>> {
        Ok(Arc::new(crate::remote::RemoteEncoder::connect(&self.config, &self.privacy)?))
    }

    #[cfg(not(feature = "http"))]
    fn connect(&self) -> Result<Arc<dyn Encoder>> {
        let message = format!("{} cannot be reached without the feature http", self.config.address);
        let hosts = self.privacy.allow.join(", ");
        Err(Error::new(ErrorKind::Unsupported, message).at(hosts))
    }
}

impl Default for EncoderChoice {
    /// The embedded encoder. A program that was built without it has no default: another encoder would make other vectors.
    fn default() -> Self {
        #[cfg(feature = "embedded")]
        return Self::Ready(embedded());
        #[cfg(not(feature = "embedded"))]
        Self::Missing
    }
}

/// Returns the embedded encoder, one for the whole process.
#[cfg(feature = "embedded")]
fn embedded() -> Arc<dyn Encoder> {
    static SHARED: OnceLock<Arc<SentenceEncoder>> = OnceLock::new();
    let load = || match SentenceEncoder::embedded() {
        Ok(encoder) => Arc::new(encoder),
        // The files are part of the program, and tests open them.
        Err(error) => unreachable!("the embedded encoder is broken: {error}"),
    };
    SHARED.get_or_init(load).clone()
}
