//! The corpus as its users hold it: every call runs on the pool's threads and is awaited.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::Result;
use logothete_core::cite::Answer;
use logothete_core::measure::{Run, SetQuestion};

use crate::ask::{self, SearchRequest, SearchResult};
use crate::build::{self, BuildReport, BuildRequest, Estimate};
use crate::corpus::{ChunkDetail, CorpusInfo, DocumentDetail, Inner, OtherEncoder};
use crate::evaluate;
use crate::pipeline::Pipeline;
use crate::pool::{Pool, Waiter};

/// An open corpus. Many may be open on one folder, in many processes; one at a time may build.
pub struct Corpus {
    inner: Arc<Inner>,
    pool: Pool,
}

impl Pipeline {
    /// Opens the corpus in a folder, or makes an empty one there.
    ///
    /// # Errors
    /// When the folder cannot be used, the corpus is damaged or of a newer format, or was made with another encoder.
    pub async fn open(&self, folder: impl AsRef<Path>) -> Result<Corpus> {
        let (pipeline, folder): (Self, PathBuf) = (self.clone(), folder.as_ref().to_path_buf());
        let pool = Pool::new()?;
        let inner = pool.run(move || Inner::open(pipeline, folder, OtherEncoder::Refused)).await?;
        Ok(Corpus { inner: Arc::new(inner), pool })
    }

    /// Makes an empty corpus in memory. It is gone when it is dropped; all else is as with one in a folder.
    ///
    /// # Errors
    /// When a setting of the pipeline makes no sense.
    pub async fn in_memory(&self) -> Result<Corpus> {
        let (pipeline, pool) = (self.clone(), Pool::new()?);
        let inner = pool.run(move || Inner::in_memory(pipeline)).await?;
        Ok(Corpus { inner: Arc::new(inner), pool })
    }
}

impl Corpus {
    /// The folder it is in; nothing for one in memory.
    pub fn folder(&self) -> Option<&Path> {
        self.inner.folder.as_deref()
    }

    /// Brings the corpus up to date with some sources: reads what is new or changed, forgets what is gone.
    ///
    /// Takes a path, several paths, or a [`BuildRequest`] with more to say. Files that cannot be read are in the report and
    /// stop nothing. What was committed stays, whatever happens; dropping the future stops the build at the next document.
    ///
    /// # Errors
    /// When another build is running, or the disk refuses.
    pub async fn build(&mut self, request: impl Into<BuildRequest>) -> Result<BuildReport> {
        let (inner, request) = (self.inner.clone(), request.into());
        // Dropping the future drops the guard, and the guard asks the worker to stop.
        let guard = request.stop_token().stop_on_drop();
        let waiter = Waiter::here();
        let report = self.pool.run(move || build::run(&inner, &request, &waiter)).await;
        guard.disarm();
        report
    }

    /// What a build would do and cost: documents, chunks, contexts to be written, tokens, money. Reads and cuts what has
    /// changed, and neither sends nor stores anything.
    ///
    /// # Errors
    /// When the corpus is damaged.
    pub async fn estimate(&self, request: impl Into<BuildRequest>) -> Result<Estimate> {
        let (inner, request) = (self.inner.clone(), request.into());
        let guard = request.stop_token().stop_on_drop();
        let waiter = Waiter::here();
        let estimate = self.pool.run(move || build::estimate(&inner, &request, &waiter)).await;
        guard.disarm();
        estimate
    }

    /// Finds the passages that fit a query best.
    ///
    /// Takes a string, or a [`SearchRequest`] with a filter, an order, a floor.
    ///
    /// # Errors
    /// When the query is empty, the filter names a field that no document has, or the corpus is damaged.
    pub async fn search(&self, request: impl Into<SearchRequest>) -> Result<SearchResult> {
        let mut results = self.search_all([request]).await?;
        Ok(results.remove(0))
    }

    /// Finds the passages for several queries, all in the corpus as of one moment.
    ///
    /// # Errors
    /// As [`search`](Self::search).
    pub async fn search_all<R: Into<SearchRequest>>(
        &self,
        requests: impl IntoIterator<Item = R>,
    ) -> Result<Vec<SearchResult>> {
        let inner = self.inner.clone();
        let requests: Vec<SearchRequest> = requests.into_iter().map(Into::into).collect();
        self.pool.run(move || ask::search(&inner, &requests)).await
    }

    /// Answers a question with sentences of the documents, each cited; or refuses, and names what came nearest.
    ///
    /// # Errors
    /// When the question is empty or the corpus damaged.
    pub async fn ask(&self, request: impl Into<SearchRequest>) -> Result<Answer> {
        let (inner, request) = (self.inner.clone(), request.into());
        self.pool.run(move || ask::ask(&inner, &request)).await
    }

    /// Searches and asks every question of a set, and scores what comes back.
    ///
    /// # Errors
    /// When the set is empty or the corpus damaged.
    pub async fn evaluate(&self, name: &str, questions: Vec<SetQuestion>) -> Result<Run> {
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.pool.run(move || evaluate::run(&inner, &name, &questions)).await
    }

    /// What the corpus holds.
    ///
    /// # Errors
    /// When the corpus is damaged.
    pub async fn info(&self) -> Result<CorpusInfo> {
        let inner = self.inner.clone();
        self.pool.run(move || inner.info()).await
    }

    /// A document with its metadata and its chunks.
    ///
    /// # Errors
    /// When there is none of this name; the message names the nearest.
    pub async fn document(&self, name: &str) -> Result<DocumentDetail> {
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.pool.run(move || inner.document_detail(&name)).await
    }

    /// A chunk with its text, context, metadata and the first numbers of its vector, by its id or the beginning of it.
    ///
    /// # Errors
    /// When there is none, or more than one id begins so.
    pub async fn chunk(&self, id: &str) -> Result<ChunkDetail> {
        let (inner, id) = (self.inner.clone(), id.to_owned());
        self.pool.run(move || inner.chunk_detail(&id)).await
    }

    /// Reads every byte of the indexes and compares their checksums.
    ///
    /// # Errors
    /// When a byte has changed; the error names the file.
    pub async fn verify(&self) -> Result<()> {
        let inner = self.inner.clone();
        self.pool.run(move || inner.view()?.snapshot.verify()).await
    }
}
