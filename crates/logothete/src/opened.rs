//! An open corpus: storage, and the stages that work on it.

use std::path::Path;
use std::sync::Arc;

use logothete_core::keyword::KeywordWriter;
use logothete_core::vector::{Distance, Encoder, Vectors, write_vectors};
use logothete_core::{Error, ErrorKind, Result};

use crate::config::Config;
use crate::pipeline::{Chunking, Pipeline};
use crate::storage::{EncoderIdentity, FileKind, Lease, Manifest, SegmentFiles, Snapshot, Storage, View};
use crate::threads::Threads;

/// An open corpus, shared by all who work on it.
pub(crate) struct Opened {
    pub pipeline: Pipeline,
    pub encoder: Arc<dyn Encoder>,
    /// How documents are cut, with this encoder and this generator.
    pub chunking: Chunking,
    pub storage: Storage,
    pub threads: Threads,
    /// Writers of this process take turns, in the order in which they came.
    pub writers: Arc<tokio::sync::Mutex<()>>,
}

/// Whether to open a corpus that was made with another encoder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OtherEncoder {
    /// No: its vectors mean nothing to this one.
    Refused,
    /// Yes: its chunks are about to be encoded again.
    Expected,
}

/// Returns the identity of an encoder, as the catalogue keeps it.
pub(crate) fn identity(encoder: &dyn Encoder) -> EncoderIdentity {
    EncoderIdentity {
        fingerprint: encoder.fingerprint().to_string(),
        name: encoder.name(),
        dimensions: encoder.dimensions(),
    }
}

impl Opened {
    /// Opens the corpus in a folder, or creates an empty one there.
    pub(crate) fn open(pipeline: Pipeline, folder: &Path, other: OtherEncoder) -> Result<Self> {
        if folder.is_file() {
            let message = "this is a file, and a corpus is a folder";
            return Err(Error::new(ErrorKind::InvalidRequest, message).at(folder.display()));
        }
        Self::with(pipeline, Storage::open(folder)?, other)
    }

    /// Opens the corpus in a folder with the cache of another one, or creates an empty one there.
    pub(crate) fn with_cache_of(pipeline: Pipeline, folder: &Path, other: &Path) -> Result<Self> {
        Self::with(pipeline, Storage::open_with_cache_of(folder, other)?, OtherEncoder::Refused)
    }

    /// Creates an empty corpus in memory.
    pub(crate) fn in_memory(pipeline: Pipeline) -> Result<Self> {
        Self::with(pipeline, Storage::in_memory()?, OtherEncoder::Refused)
    }

    fn with(pipeline: Pipeline, storage: Storage, other: OtherEncoder) -> Result<Self> {
        let encoder = pipeline.encoder()?;
        let chunking = pipeline.chunking(&encoder)?;
        let (threads, writers) = (Threads::default(), Arc::default());
        let opened = Self { pipeline, encoder, chunking, storage, threads, writers };
        opened.settle(other).map_err(|error| opened.storage.at(error))?;
        Ok(opened)
    }

    /// Compares the encoder and the distance of the corpus with those in use, and sets them in a new corpus.
    fn settle(&self, other: OtherEncoder) -> Result<()> {
        let distance = self.config().index.distance;
        let mut manifest = self.storage.read()?.manifest()?;
        if manifest.encoder.is_none() && !self.storage.is_read_only()? {
            let lease = self.storage.acquire()?;
            // Another may have been here in the meantime.
            manifest = self.storage.read()?.manifest()?;
            if manifest.encoder.is_none() {
                self.storage.commit(&lease, |transaction| {
                    transaction.set_encoder(&identity(&*self.encoder))?;
                    transaction.set_distance(distance.name())
                })?;
                manifest = self.storage.read()?.manifest()?;
            }
        }
        if other == OtherEncoder::Refused {
            self.check_encoder(&manifest)?;
        }
        let stored = manifest.distance.as_deref().unwrap_or(Distance::Cosine.name());
        if stored != distance.name() {
            let message = format!(
                "this corpus compares vectors by “{stored}” and cannot be used with “{}”; set distance in [index] to the first, \
                 or build a new corpus",
                distance.name()
            );
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        Ok(())
    }

    /// Returns the configuration.
    pub(crate) fn config(&self) -> &Config {
        self.pipeline.config()
    }

    /// Returns an error if the vectors of the corpus are another encoder's.
    pub(crate) fn check_encoder(&self, manifest: &Manifest) -> Result<()> {
        let ours = identity(&*self.encoder);
        match &manifest.encoder {
            Some(theirs) if theirs.fingerprint != ours.fingerprint => {
                let message = format!(
                    "this corpus was made with the encoder “{}” ({}) and cannot be used with “{}” ({}); use the first, or \
                     encode the corpus again",
                    theirs.name, theirs.fingerprint, ours.name, ours.fingerprint
                );
                Err(Error::new(ErrorKind::Mismatch, message))
            }
            _ => Ok(()),
        }
    }

    /// Returns the corpus as it is now.
    pub(crate) fn view(&self) -> Result<View> {
        self.storage.view(&|manifest| self.check_encoder(manifest)).map_err(|error| self.storage.at(error))
    }

    /// Returns the indexes as of the newest commit, for the writer.
    pub(crate) fn snapshot(&self) -> Result<Arc<Snapshot>> {
        self.storage.snapshot_of(&*self.storage.read()?, &|manifest| self.check_encoder(manifest))
    }

    /// Writes the files of a segment, synced, and returns their names. The caller must name them in a commit.
    pub(crate) fn write_segment(&self, vectors: &Vectors, keywords: &mut KeywordWriter) -> Result<SegmentFiles> {
        let distance = self.config().index.distance;
        let mut files = SegmentFiles { rows: vectors.len() as u32, ..SegmentFiles::default() };
        let name = self.storage.write(FileKind::Vectors, |to| write_vectors(vectors, distance, to))?;
        files.names.insert(FileKind::Vectors, name);
        let name = self.storage.write(FileKind::Keywords, |to| keywords.write(to))?;
        files.names.insert(FileKind::Keywords, name);
        self.storage.sync()?;
        Ok(files)
    }

    /// Takes the writer's lease.
    ///
    /// # Errors
    /// If another writer holds it, or the corpus was re-encoded since it was opened.
    pub(crate) fn write_lease(&self) -> Result<Lease> {
        let lease = self.storage.acquire()?;
        self.check_encoder(&self.storage.read()?.manifest()?).map_err(|error| self.storage.at(error))?;
        Ok(lease)
    }
}
