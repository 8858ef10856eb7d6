//! The corpus as its users hold it: every call runs on the pool's threads and is awaited.

use std::io::{BufRead, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::Result;
use logothete_core::cite::Answer;
use logothete_core::measure::{Run, SetQuestion};

use crate::ask::{self, SearchRequest, SearchResult};
use crate::build::{self, BuildReport, BuildRequest, Estimate, Forgotten, Given, StopToken};
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
        let inner = pool.run(move || Inner::open(pipeline, &folder, OtherEncoder::Refused)).await?;
        Ok(Corpus { inner: Arc::new(inner), pool })
    }

    /// Opens the corpus in a folder and, if it was made with another encoder, encodes all its chunks with this one first.
    ///
    /// The new vectors are written beside those that are there, and take their place in one commit; until then others read the
    /// old ones. Vectors are cached as they come, so that one that was stopped goes on where it was. A cap of the settings
    /// stops it too; then the report says so, and there is no corpus to read yet.
    ///
    /// # Errors
    /// As [`open`](Self::open), and when another build is running.
    pub async fn reencode(&self, folder: impl AsRef<Path>, stop: &StopToken) -> Result<(Corpus, BuildReport)> {
        let (pipeline, folder, stop): (Self, PathBuf, _) = (self.clone(), folder.as_ref().to_path_buf(), stop.clone());
        let pool = Pool::new()?;
        let work = move || {
            let inner = Inner::open(pipeline, &folder, OtherEncoder::Expected)?;
            let report = build::reencode(&inner, &stop)?;
            Ok((inner, report))
        };
        let (inner, report) = pool.run(work).await?;
        Ok((Corpus { inner: Arc::new(inner), pool }, report))
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

    /// Puts documents, or chunks under ids of your own, into the corpus, and replaces those that are there under the same names
    /// or ids. Parsed documents are cut and encoded as those of a build are.
    ///
    /// # Errors
    /// When another build is running, a name belongs to a document of a source, a chunk has no text, or the disk refuses.
    pub async fn put<G: Into<Given>>(&mut self, given: impl IntoIterator<Item = G>) -> Result<BuildReport> {
        let inner = self.inner.clone();
        let given: Vec<Given> = given.into_iter().map(Into::into).collect();
        let (stop, waiter) = (StopToken::default(), Waiter::here());
        let guard = stop.stop_on_drop();
        let report = self.pool.run(move || build::put(&inner, given, &waiter, &stop)).await;
        guard.disarm();
        report
    }

    /// Removes a document by its name; says whether it was there. A build of its source may read it again.
    ///
    /// # Errors
    /// When another build is running, or the disk refuses.
    pub async fn remove(&mut self, document: &str) -> Result<bool> {
        let (inner, document) = (self.inner.clone(), document.to_owned());
        self.pool.run(move || build::remove(&inner, &document)).await
    }

    /// Removes a chunk that was [put](Self::put) under an id of its own; says whether it was there.
    ///
    /// # Errors
    /// When it was cut from a document, another build is running, or the disk refuses.
    pub async fn remove_chunk(&mut self, id: &str) -> Result<bool> {
        let (inner, id) = (self.inner.clone(), id.to_owned());
        self.pool.run(move || build::remove_chunk(&inner, &id)).await
    }

    /// Removes a document and every trace of it from the corpus's files: its text, its vectors and postings, what was cached for
    /// it, and the free pages that they leave. Costs writing anew each segment that it had rows in, and the catalogue.
    ///
    /// # Errors
    /// When there is none of this name, another build is running, or another process still reads what was there before.
    pub async fn forget(&mut self, document: &str) -> Result<Forgotten> {
        let (inner, document) = (self.inner.clone(), document.to_owned());
        self.pool.run(move || build::forget(&inner, &document)).await
    }

    /// Merges all segments into one, drops deleted rows, and writes the catalogue anew without its free pages.
    ///
    /// # Errors
    /// When another build is running, or the disk refuses.
    pub async fn compact(&mut self) -> Result<()> {
        let inner = self.inner.clone();
        self.pool.run(move || build::compact(&inner)).await
    }

    /// Writes all of the corpus as JSON Lines, as it is now; returns how many lines there are.
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn export<W: Write + Send + 'static>(&self, mut to: W) -> Result<u64> {
        let inner = self.inner.clone();
        self.pool.run(move || build::export(&inner, &mut to)).await
    }

    /// Fills an empty corpus with what was [exported](Self::export) from one with the same encoder; returns how many lines there
    /// were. All of it, or nothing.
    ///
    /// # Errors
    /// When the corpus is not empty, or a line is not as it was exported; the error names it.
    pub async fn import<R: BufRead + Send + 'static>(&mut self, mut from: R) -> Result<u64> {
        let inner = self.inner.clone();
        self.pool.run(move || build::import(&inner, &mut from)).await
    }

    /// Reads as of now, whatever is committed later, until it is [pinned](Self::pin) again or [unpinned](Self::unpin).
    ///
    /// Without it every call sees the newest commit. When another process has encoded the corpus anew with another encoder, one
    /// that has searched before goes on with the vectors that it knows until documents change, and one that is pinned after that
    /// too. The log of the catalogue grows as long as it is pinned.
    ///
    /// # Errors
    /// When the corpus is damaged.
    pub async fn pin(&mut self) -> Result<()> {
        let inner = self.inner.clone();
        self.pool.run(move || inner.pin()).await
    }

    /// Lets every call see the newest commit again.
    pub fn unpin(&mut self) {
        self.inner.unpin();
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
    /// Takes a string, or a [`SearchRequest`] with a filter, an order, a range of scores.
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
        let mut answers = self.ask_all([request]).await?;
        Ok(answers.remove(0))
    }

    /// Answers several questions, all from the corpus as of one moment.
    ///
    /// # Errors
    /// As [`ask`](Self::ask); the first question that fails ends it.
    pub async fn ask_all<R: Into<SearchRequest>>(&self, requests: impl IntoIterator<Item = R>) -> Result<Vec<Answer>> {
        let inner = self.inner.clone();
        let requests: Vec<SearchRequest> = requests.into_iter().map(Into::into).collect();
        self.pool.run(move || ask::ask(&inner, &requests)).await
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
