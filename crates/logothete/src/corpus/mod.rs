//! The corpus, as its users hold it.

mod access;
mod asking;
mod batch;
mod checking;
mod digesting;
mod drafting;
mod evaluating;
mod growing;
mod info;
mod inspect;
mod tuning;
mod variant;

use access::Asker;
pub use batch::{AskBatch, BatchProgress, BatchReport};
pub(crate) use digesting::document_named;
pub use info::{CorpusInfo, SegmentInfo};
pub use tuning::{TuneRequest, Tuning};

use std::collections::HashSet;
use std::fmt;
use std::io::{BufRead, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::document::Span;
use logothete_core::{Error, ErrorKind, Result};

use crate::answer::Model;
use crate::config::GeneratorRole;
use crate::ingest::{self, BuildReport, BuildRequest, Estimate, Upsert};
use crate::maintenance::{self, Forgotten};
use crate::opened::{Opened, OtherEncoder};
use crate::pipeline::{Equipped, Pipeline};
use crate::search::{
    self, Ahead, Judgements, RerankKind, SearchRequest, SearchResult, Searcher, TransformKind, Transformed, Transforms,
    made_by_own,
};
use crate::spending::Spending;
use crate::storage::View;
pub use crate::storage::{ChunkDetail, ChunkInfo, DocumentDetail, DocumentInfo, FieldInfo, Section, VectorInfo};
use crate::threads::{Driver, StopToken, Threads};
use crate::trace::Recorder;

/// An open corpus.
///
/// Cheap to clone: clones share one open corpus, and may be used by many tasks at a time. Many processes may have the same folder
/// open. Writers of one process take turns; a writer in another process makes a writing call fail with
/// [`Busy`](logothete_core::ErrorKind::Busy). Dropping the future of a call stops what it asked for.
#[derive(Clone)]
pub struct Corpus {
    opened: Arc<Opened>,
    /// The moment that is read; `None` means the newest commit.
    pinned: Option<Arc<View>>,
    /// The key that the generator is asked with, in place of its own.
    key: Option<Arc<str>>,
    asker: Asker,
}

impl fmt::Debug for Corpus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Corpus").field("folder", &self.folder()).field("is_pinned", &self.pinned.is_some()).finish()
    }
}

/// Opens the corpus in a folder, and renews postings of an older format or with other weights of fields.
fn open(pipeline: Pipeline, folder: &Path, other: OtherEncoder) -> Result<Opened> {
    let opened = Opened::open(pipeline, folder, other)?;
    maintenance::renew_postings(&opened).map_err(|error| opened.storage.at(error))?;
    Ok(opened)
}

impl Pipeline {
    /// Opens the corpus in a folder, or creates an empty one there.
    ///
    /// # Errors
    /// If the folder cannot be used, the corpus is damaged or of a newer format, or it was made with another encoder.
    pub async fn open(&self, folder: impl AsRef<Path>) -> Result<Corpus> {
        let (pipeline, folder): (Self, PathBuf) = (self.clone(), folder.as_ref().to_path_buf());
        let open = move |_: &Driver| open(pipeline, &folder, OtherEncoder::Refused);
        Ok(Corpus::new(Threads::default().drive(open).await?))
    }

    /// Opens the corpus in a folder. If it was made with another encoder, all its chunks are encoded with this one first.
    ///
    /// New vectors are written beside the old ones and take their place in one commit; until then others read the old ones.
    /// Vectors are cached as they are computed, so a call that was stopped continues where it was. If a limit of the configuration
    /// stops it, the report says so, and the corpus cannot be searched yet.
    ///
    /// # Errors
    /// As [`open`](Self::open), and if another writer is at work.
    pub async fn reencode(&self, folder: impl AsRef<Path>, stop: &StopToken) -> Result<(Corpus, BuildReport)> {
        let (pipeline, folder, stop): (Self, PathBuf, _) = (self.clone(), folder.as_ref().to_path_buf(), stop.clone());
        let guard = stop.stop_on_drop();
        let work = move |driver: &Driver| {
            let opened = open(pipeline, &folder, OtherEncoder::Expected)?;
            let report = maintenance::reencode(&opened, driver, &stop)?;
            Ok((opened, report))
        };
        let (opened, report) = Threads::default().drive(work).await?;
        guard.disarm();
        Ok((Corpus::new(opened), report))
    }

    /// Creates an empty corpus in memory. It is lost when its last handle is dropped.
    ///
    /// # Errors
    /// If a setting is invalid.
    pub async fn in_memory(&self) -> Result<Corpus> {
        let pipeline = self.clone();
        Ok(Corpus::new(Threads::default().drive(move |_| Opened::in_memory(pipeline)).await?))
    }
}

impl Corpus {
    fn new(opened: Opened) -> Self {
        Self { opened: Arc::new(opened), pinned: None, key: None, asker: Asker::default() }
    }

    /// Returns the folder; `None` for a corpus in memory.
    pub fn folder(&self) -> Option<&Path> {
        self.opened.storage.folder.as_deref()
    }

    /// Returns the pipeline that it was opened with.
    pub fn pipeline(&self) -> &Pipeline {
        &self.opened.pipeline
    }

    /// Returns a handle whose questions the generator answers with another key, such as that of a visitor who pays for them. The key stays in memory,
    /// and goes to the host of the generator only. It changes nothing for a generator that takes no keys.
    #[must_use]
    pub fn with_generator_key(&self, key: &str) -> Self {
        Self { key: Some(key.into()), ..self.clone() }
    }

    /// Returns the generator for a role, with its settings; `None` if there is no model for it.
    pub(crate) fn generator(&self, role: GeneratorRole) -> Result<Option<Equipped>> {
        let mut equipped = self.opened.pipeline.generator(role)?;
        if let (Some(key), Some(equipped)) = (&self.key, &mut equipped)
            && let Some(own) = equipped.generator.with_key(key)
        {
            equipped.generator = own;
        }
        Ok(equipped)
    }

    /// Runs a call that writes, when no other of this process does.
    async fn write<T: Send + 'static>(
        &self,
        stop: &StopToken,
        work: impl FnOnce(&Opened, &Driver, &StopToken) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let guard = stop.stop_on_drop();
        let turn = self.opened.writers.clone().lock_owned().await;
        // The turn ends with the work, which may end later than this future.
        let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
            let _turn = turn;
            work(opened, driver, stop)
        };
        let outcome = self.drive(stop, work).await;
        guard.disarm();
        outcome
    }

    /// Runs a call that takes long.
    pub(crate) async fn drive<T: Send + 'static>(
        &self,
        stop: &StopToken,
        work: impl FnOnce(&Opened, &Driver, &StopToken) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let guard = stop.stop_on_drop();
        let (opened, token) = (self.opened.clone(), stop.clone());
        let outcome = self.opened.threads.drive(move |driver| work(&opened, driver, &token)).await;
        guard.disarm();
        outcome
    }

    /// Runs a query on a view.
    async fn query<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Opened, &View, &StopToken) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let stop = StopToken::default();
        let guard = stop.stop_on_drop();
        let (opened, sight) = (self.opened.clone(), self.sight());
        let outcome = self.opened.threads.query(move || work(&opened, &*sight.view(&opened)?, &stop)).await;
        guard.disarm();
        outcome
    }

    /// Brings the corpus up to date with some sources: reads what is new or changed, and removes what is gone.
    ///
    /// Takes a path, several paths, or a [`BuildRequest`]. Files that cannot be read are in the report, and the others are read.
    /// What was committed stays, whatever happens.
    ///
    /// # Errors
    /// If another process is writing, or the disk fails.
    pub async fn build(&self, request: impl Into<BuildRequest>) -> Result<BuildReport> {
        let request = request.into();
        let stop = request.stop_token();
        self.write(&stop, move |opened, driver, _| ingest::build(opened, driver, &request)).await
    }

    /// Adds documents, or chunks under ids of your own, and replaces those with the same names or ids. Documents are cut and
    /// encoded as those of a build are.
    ///
    /// # Errors
    /// If another process is writing, a name belongs to a document of a source, a chunk has no text, or the disk fails.
    pub async fn upsert<U: Into<Upsert>>(&self, upserts: impl IntoIterator<Item = U>) -> Result<BuildReport> {
        let upserts: Vec<Upsert> = upserts.into_iter().map(Into::into).collect();
        let work =
            move |opened: &Opened, driver: &Driver, stop: &StopToken| ingest::upsert(opened, driver, upserts, stop);
        self.write(&StopToken::default(), work).await
    }

    /// Removes a document by its name. Returns `false` if there is none. A build of its source may read it again.
    ///
    /// # Errors
    /// If another process is writing, or the disk fails.
    pub async fn remove(&self, document: &str) -> Result<bool> {
        let document = document.to_owned();
        self.write(&StopToken::default(), move |opened, driver, _| ingest::remove(opened, driver, &document)).await
    }

    /// Removes a chunk that was [upserted](Self::upsert) under an id of its own. Returns `false` if there is none.
    ///
    /// # Errors
    /// If it was cut from a document, another process is writing, or the disk fails.
    pub async fn remove_chunk(&self, id: &str) -> Result<bool> {
        let id = id.to_owned();
        self.write(&StopToken::default(), move |opened, driver, _| ingest::remove_chunk(opened, driver, &id)).await
    }

    /// Removes a document and every trace of it from the files of the corpus: text, vectors, postings, cache entries, and the free
    /// pages that they leave. Costs rewriting each segment that it had rows in, and the catalogue.
    ///
    /// # Errors
    /// If there is no such document, another process is writing, or another reader still sees what was there before.
    pub async fn forget(&self, document: &str) -> Result<Forgotten> {
        let document = document.to_owned();
        self.write(&StopToken::default(), move |opened, driver, _| maintenance::forget(opened, driver, &document)).await
    }

    /// Merges all segments into one, drops deleted rows, rewrites the catalogue without its free pages, and removes the
    /// [variants](Self::variant).
    ///
    /// # Errors
    /// If another process is writing, or the disk fails.
    pub async fn compact(&self) -> Result<()> {
        self.write(&StopToken::default(), |opened, driver, _| maintenance::compact(opened, driver)).await
    }

    /// Writes the whole corpus as JSON Lines; returns the number of lines.
    ///
    /// # Errors
    /// If writing fails.
    pub async fn export<W: Write + Send + 'static>(&self, mut to: W) -> Result<u64> {
        let sight = self.for_owner().sight();
        let work = move |opened: &Opened, _: &Driver, stop: &StopToken| {
            maintenance::export(opened, &*sight.view(opened)?, &mut to, stop)
        };
        self.drive(&StopToken::default(), work).await
    }

    /// Fills an empty corpus with what was [exported](Self::export) from one with the same encoder, all of it or nothing; returns the
    /// number of lines.
    ///
    /// # Errors
    /// If the corpus is not empty, or a line is not as it was exported; the error names the line.
    pub async fn import<R: BufRead + Send + 'static>(&self, mut from: R) -> Result<u64> {
        let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
            maintenance::import(opened, driver, &mut from, stop)
        };
        self.write(&StopToken::default(), work).await
    }

    /// Returns a handle that reads the corpus as it is now, whatever is committed later.
    ///
    /// Other handles see the newest commit in every call. If another process re-encodes the corpus, a handle that has searched
    /// before continues with the vectors that it has until documents change; a pinned one continues after that too. The log of the
    /// catalogue grows as long as a pinned handle exists.
    ///
    /// # Errors
    /// If the corpus is damaged.
    pub async fn pin(&self) -> Result<Self> {
        let opened = self.opened.clone();
        let view = self.opened.threads.query(move || opened.view()).await?;
        Ok(Self { pinned: Some(Arc::new(view)), ..self.clone() })
    }

    /// What a build would do and cost: documents, chunks, contexts, tokens, money. It reads and cuts what has changed, and neither
    /// sends nor stores anything.
    ///
    /// # Errors
    /// If the corpus is damaged.
    pub async fn estimate(&self, request: impl Into<BuildRequest>) -> Result<Estimate> {
        let request = request.into();
        let stop = request.stop_token();
        self.drive(&stop, move |opened, driver, _| ingest::estimate(opened, driver, &request)).await
    }

    /// Finds the passages that fit a query best.
    ///
    /// Takes a string, or a [`SearchRequest`] with a filter, a plan, an order.
    ///
    /// # Errors
    /// If the query is empty, the filter names a field that no document has, or the corpus is damaged.
    pub async fn search(&self, request: impl Into<SearchRequest>) -> Result<SearchResult> {
        first(self.search_all([request]).await?)
    }

    /// Finds the passages for several queries, all in the corpus as of one moment.
    ///
    /// # Errors
    /// As [`search`](Self::search).
    pub async fn search_all<R: Into<SearchRequest>>(
        &self,
        requests: impl IntoIterator<Item = R>,
    ) -> Result<Vec<SearchResult>> {
        let requests: Vec<SearchRequest> = requests.into_iter().map(Into::into).collect();
        let spending = Arc::new(Spending::for_question(&self.opened.config().limits));
        let requests = Arc::new(requests);
        let transforms = self.transforms(&requests, &spending).await?;
        let ahead = self.ahead(&requests, transforms, &spending, rehearse_searches(&requests)).await?;
        self.query(move |opened, view, stop| search::search_all(opened, view, &requests, &ahead, stop)).await
    }

    /// Returns, for each of some texts, the words that mean something like a word of a question, and are not words of it: what a search by meaning
    /// may have found them by. Encodes each word once; returns nothing if the encoder is a service.
    ///
    /// # Errors
    /// If the encoder fails.
    pub async fn alike_words(&self, question: impl Into<String>, texts: Vec<String>) -> Result<Vec<Vec<Span>>> {
        let question = question.into();
        if self.opened.encoder.is_remote() {
            return Ok(vec![Vec::new(); texts.len()]);
        }
        self.query(move |opened, _, _| search::alike_words(&*opened.encoder, &question, &texts)).await
    }

    /// Returns what the transforms of some searches make of their questions.
    async fn transforms(&self, requests: &Arc<Vec<SearchRequest>>, spending: &Arc<Spending>) -> Result<Transforms> {
        let plan = self.opened.config().search.plan();
        let is_made_here = |kind| matches!(kind, TransformKind::None | TransformKind::Own);
        if requests.iter().all(|request| is_made_here(request.transform(&plan))) {
            return Ok(Transforms::default());
        }
        let equipped = self.generator(GeneratorRole::Rewrite)?;
        let (requests, spending) = (requests.clone(), spending.clone());
        self.drive(&StopToken::default(), move |opened, driver, stop| {
            let mut made = Transforms::default();
            for request in requests.iter() {
                let transform = request.transform(&plan);
                let key = (transform, request.query.clone());
                if is_made_here(transform) || made.contains_key(&key) {
                    continue;
                }
                let transformed = match &equipped {
                    None => Transformed::by_rule(&request.query, transform),
                    Some(equipped) => {
                        let model = Model { opened, driver, equipped, spending: &spending, stop };
                        model.transformed(&request.query, transform, &mut Recorder::new(false))?
                    }
                };
                made.insert(key, transformed);
            }
            Ok(made)
        })
        .await
    }

    /// Returns what services say before some searches, which must not wait for them: vectors, if the encoder is a service, and scores, if the
    /// reranker may take long. `rehearse` does the searches, to find what the reranker has to be asked.
    async fn ahead(
        &self,
        requests: &[SearchRequest],
        transforms: Transforms,
        spending: &Arc<Spending>,
        rehearse: impl FnOnce(&Searcher<'_>) -> Result<()> + Send + 'static,
    ) -> Result<Ahead> {
        let mut ahead = Ahead { transforms, ..Ahead::default() };
        let plan = self.opened.config().search.plan();
        if requests.iter().any(|request| request.transform(&plan) == TransformKind::Own) {
            let requests = requests.to_vec();
            let work =
                move |opened: &Opened, _: &Driver, stop: &StopToken| made_by_own(&opened.pipeline, &requests, stop);
            ahead.transforms.extend(self.drive(&StopToken::default(), work).await?);
        }
        if self.opened.encoder.is_remote() {
            let mut texts = search::texts_of(requests);
            texts.extend(ahead.transforms.values().flat_map(|made| made.queries.iter().cloned()));
            let encode =
                move |opened: &Opened, _: &Driver, _: &StopToken| search::QueryVectors::encode(&*opened.encoder, texts);
            ahead.vectors = self.drive(&StopToken::default(), encode).await?;
        }
        let kinds: HashSet<RerankKind> = requests.iter().filter_map(|request| request.asked_reranker(&plan)).collect();
        if kinds.is_empty() {
            return Ok(ahead);
        }
        ahead.judgements = Judgements::rehearsal(&self.opened.pipeline, kinds)?;
        let mut ahead = self
            .query(move |opened, view, stop| {
                rehearse(&Searcher { opened, view, ahead: &ahead, stop })?;
                Ok(ahead)
            })
            .await?;
        let spending = spending.clone();
        self.drive(&StopToken::default(), move |opened, driver, stop| {
            ahead.judgements.ask(opened, driver, &spending, stop)?;
            Ok(ahead)
        })
        .await
    }

    /// Reads every byte of the indexes and compares their checksums, and checks that the catalogue is whole and agrees with them.
    ///
    /// # Errors
    /// If a byte of an index has changed, or the catalogue is damaged; the error names the file.
    pub async fn verify(&self) -> Result<()> {
        let work = |opened: &Opened, _: &Driver, stop: &StopToken| {
            let view = opened.view()?;
            view.snapshot.verify(&|| stop.is_stopped())?;
            view.catalogue().verify()
        };
        self.drive(&StopToken::default(), work).await
    }
}

/// Returns what rehearses some searches.
fn rehearse_searches(requests: &Arc<Vec<SearchRequest>>) -> impl FnOnce(&Searcher<'_>) -> Result<()> + Send + 'static {
    let requests = requests.clone();
    move |searcher| requests.iter().try_for_each(|request| searcher.search(&request.clone().untraced()).map(drop))
}

fn first<T>(results: Vec<T>) -> Result<T> {
    results.into_iter().next().ok_or_else(|| Error::new(ErrorKind::System, "a request has no result"))
}
