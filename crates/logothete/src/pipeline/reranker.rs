//! From the settings of `[reranker]` to rerankers.

use std::sync::{Arc, OnceLock};

use logothete_core::search::RerankKind;
use logothete_core::{Error, ErrorKind, Result};
use logothete_encoder::CrossEncoder;

use crate::config::Config;
use crate::search::Reranker;

/// The rerankers of a pipeline: the user's own, and those of the configuration, which are made when they are first needed.
#[derive(Clone, Default)]
pub(super) struct Rerankers {
    pub own: Option<Arc<dyn Reranker>>,
    cross: Arc<OnceLock<Arc<CrossEncoder>>>,
    remote: Arc<OnceLock<Arc<dyn Reranker>>>,
}

fn invalid<T>(place: &str, message: &str) -> Result<T> {
    Err(Error::new(ErrorKind::Configuration, message.to_owned()).at(place))
}

impl Rerankers {
    /// Lets the rerankers of the configuration be made again, because it has changed.
    pub(super) fn renew(&mut self) {
        (self.cross, self.remote) = Default::default();
    }

    /// Returns the cross-encoder of a configuration.
    ///
    /// # Errors
    /// If no folder is set, or a file of the model is missing or unreadable.
    pub(super) fn cross(&self, config: &Config) -> Result<Arc<CrossEncoder>> {
        if let Some(cross) = self.cross.get() {
            return Ok(cross.clone());
        }
        let settings = &config.reranker;
        if settings.folder.as_os_str().is_empty() {
            return invalid(
                "[reranker] folder",
                "set it to the folder of a model that scores a question and a passage",
            );
        }
        let cross = Arc::new(CrossEncoder::from_folder(&settings.folder, settings.precision, settings.max_tokens)?);
        Ok(self.cross.get_or_init(|| cross).clone())
    }

    /// Returns the user's own reranker, or the service of a configuration.
    ///
    /// # Errors
    /// If there is none, or a setting is invalid.
    pub(super) fn asked(&self, kind: RerankKind, config: &Config) -> Result<Arc<dyn Reranker>> {
        match (kind, &self.own) {
            (RerankKind::Remote, _) => {
                if let Some(remote) = self.remote.get() {
                    return Ok(remote.clone());
                }
                let remote = remote(config)?;
                Ok(self.remote.get_or_init(|| remote).clone())
            }
            (_, Some(own)) => Ok(own.clone()),
            (_, None) => {
                let message =
                    "the pipeline has no reranker of its own; give it one by with_reranker, or choose another kind";
                invalid("[search] rerank.kind", message)
            }
        }
    }
}

#[cfg(feature = "http")]
fn remote(config: &Config) -> Result<Arc<dyn Reranker>> {
    let seconds = config.search.rerank.seconds;
    let limit = std::time::Duration::try_from_secs_f32(seconds).unwrap_or(std::time::Duration::MAX);
    Ok(Arc::new(crate::remote::RemoteReranker::new(&config.reranker, limit, &config.privacy)?))
}

#[cfg(not(feature = "http"))]
fn remote(_: &Config) -> Result<Arc<dyn Reranker>> {
    invalid("[search] rerank.kind", "this program was built without the feature http; choose another kind")
}
