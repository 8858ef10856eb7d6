//! Corpora of the same documents that another pipeline builds, to compare the two.
//!
//! They are in `variants/` in the folder of the corpus, each named by what its build depends on, and share the cache of the corpus. Forgetting
//! a document and compacting remove them.

use std::path::PathBuf;

use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::{Corpus, open};
use crate::ingest::{self, BuildReport, BuildRequest};
use crate::opened::{Opened, OtherEncoder};
use crate::pipeline::Pipeline;
use crate::storage::VARIANTS;
use crate::threads::{Driver, StopToken};

impl Corpus {
    /// Returns the corpus as another pipeline would build it, and what was built for that.
    ///
    /// If the pipelines differ in nothing that a build depends on, it is this corpus with the other pipeline. Otherwise it is a corpus in
    /// `variants/` of the folder. A build brings it up to date with the paths and sources of the request; without paths, with those of
    /// this corpus. Vectors and contexts come from the cache of this corpus where it has them. Documents that were upserted are not in it.
    ///
    /// # Errors
    /// If the corpus is in memory, a setting is invalid, or a build or the disk fails.
    pub async fn variant(&self, pipeline: &Pipeline, request: impl Into<BuildRequest>) -> Result<(Self, BuildReport)> {
        let Some(folder) = self.folder().map(PathBuf::from) else {
            let message = "a corpus in memory has no variants; open it in a folder";
            return Err(Error::new(ErrorKind::InvalidRequest, message));
        };
        let (pipeline, mut request) = (pipeline.clone(), request.into());
        let opens = move |opened: &Opened, _: &Driver, _: &_| {
            let theirs = build_fingerprint(&pipeline)?;
            if build_fingerprint(&opened.pipeline)? == theirs {
                return Ok((open(pipeline, &folder, OtherEncoder::Refused)?, None));
            }
            if request.paths.is_empty() {
                request.paths = ingest::paths(&*opened.storage.read()?, &BuildRequest::default())?;
            }
            let own = folder.join(VARIANTS).join(theirs.to_string());
            Ok((Opened::with_cache_of(pipeline, &own, &folder)?, Some(request)))
        };
        let (opened, request) = self.drive(&StopToken::default(), opens).await?;
        let variant = Self::new(opened);
        let report = match request {
            Some(request) => variant.build(request).await?,
            None => BuildReport::default(),
        };
        Ok((variant, report))
    }
}

/// Returns a fingerprint of all that a build depends on besides the documents.
fn build_fingerprint(pipeline: &Pipeline) -> Result<Fingerprint> {
    let (encoder, config) = (pipeline.encoder()?, pipeline.config());
    let (sources, fields) = (&config.sources, format!("{:?}", config.index));
    let selected = format!("{:?} {:?} {:?}", sources.include, sources.exclude, sources.metadata);
    let stages = [
        pipeline.parse_fingerprint(),
        pipeline.chunking(&encoder)?.fingerprint(),
        encoder.fingerprint(),
        Fingerprint::of([fields, selected]),
    ];
    Ok(Fingerprint::of(stages))
}
