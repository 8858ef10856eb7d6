//! Documents and single chunks that code adds to a corpus, without a source.

use logothete_core::chunk::{self, Chunk, ChunkId, Whole};
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Metadata, Value, check_metadata};
use logothete_core::{Error, ErrorKind, Result};

use super::batch::{Batch, Change};
use super::contexts::{self, Target};
use super::read::now;
use super::{BuildReport, Meter, list};
use crate::opened::Opened;
use crate::spending::Spending;
use crate::storage::{FileState, UPSERTED, Which};
use crate::threads::{Driver, StopToken, caught_in};

/// The location of such documents.
const LOCATION: &str = "memory:given";
/// The number of texts that are encoded together.
const WINDOW: usize = 32;

/// A document or a chunk that is added to a corpus, or replaces one.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Upsert {
    /// A document, identified by its name. It is cut as others are.
    Document(Box<Document>),
    /// A chunk, identified by its id.
    Chunk(OwnChunk),
}

/// A chunk under an id of your own. It has a document of its own, whose name is the id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct OwnChunk {
    id: String,
    text: String,
    title: Option<String>,
    context: String,
    metadata: Metadata,
}

impl OwnChunk {
    /// Creates a chunk with an id and a text.
    pub fn new(id: impl Into<String>, text: impl Into<String>) -> Self {
        Self { id: id.into(), text: text.into(), ..Self::default() }
    }

    /// Returns the chunk with a title, which helps to find it.
    #[must_use]
    pub fn title(mut self, title: impl Into<String>) -> Self {
        self.title = Some(title.into());
        self
    }

    /// Returns the chunk with a context, which helps to find it and is never quoted.
    #[must_use]
    pub fn context(mut self, context: impl Into<String>) -> Self {
        self.context = context.into();
        self
    }

    /// Returns the chunk with a field of metadata, for filters.
    #[must_use]
    pub fn metadata(mut self, name: impl Into<String>, value: impl Into<Value>) -> Self {
        self.metadata.insert(name.into(), value.into());
        self
    }

    /// Returns it as a document with one chunk.
    fn into_parts(self) -> Result<(Document, Vec<Chunk>)> {
        let unusable = |message: &str| Error::new(ErrorKind::InvalidRequest, message.to_owned()).at(&self.id);
        if self.id.trim().is_empty() || self.id.len() > 200 || self.id.chars().any(char::is_control) {
            return Err(unusable("a chunk's id has 1 to 200 bytes and no control characters"));
        }
        let mut builder = DocumentBuilder::new(self.id.clone(), "text/plain");
        builder.block(BlockKind::Paragraph, &self.text);
        if builder.is_empty() {
            return Err(unusable("this chunk has no text"));
        }
        let mut document = builder.finish();
        document.title = self.title;
        document.metadata.extend(self.metadata);
        let mut chunks = chunk::chunks(&document, &self.id, &Whole::default())?;
        if let Some(chunk) = chunks.first_mut() {
            chunk.id = ChunkId::from_stored(self.id);
            chunk.add_context(&self.context, None);
        }
        Ok((document, chunks))
    }
}

impl From<Document> for Upsert {
    fn from(document: Document) -> Self {
        Self::Document(Box::new(document))
    }
}

impl From<OwnChunk> for Upsert {
    fn from(chunk: OwnChunk) -> Self {
        Self::Chunk(chunk)
    }
}

impl Upsert {
    fn name(&self) -> &str {
        match self {
            Self::Document(document) => &document.name,
            Self::Chunk(chunk) => &chunk.id,
        }
    }
}

/// Adds documents and chunks, and replaces those with the same names or ids. If something fails, the windows before are kept.
pub(crate) fn upsert(opened: &Opened, driver: &Driver, all: Vec<Upsert>, stop: &StopToken) -> Result<BuildReport> {
    let lease = opened.write_lease()?;
    let (spending, mut report) = (Spending::new(&opened.config().limits), BuildReport::default());
    let source = list::entry(&opened.storage, Some(&lease), LOCATION, false, || UPSERTED.to_owned())?;
    let mut batch = Batch::new(opened, driver, &lease, &spending);
    let mut window = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for upsert in all {
        let name = upsert.name().to_owned();
        if !seen.insert(name.clone()) || window.len() == WINDOW {
            // The same name once more replaces what was added just now.
            batch.add(std::mem::take(&mut window), stop, &mut report, &mut Meter::silent())?;
            batch.commit(&mut report)?;
        }
        let catalogue = opened.storage.read()?;
        let known = catalogue.known(Which::At(source.id, &[&name]))?.pop();
        if known.is_none() && !catalogue.taken_names(&[&name])?.is_empty() {
            let message = "the corpus has a document of this name from another source; choose another name";
            return Err(Error::new(ErrorKind::InvalidRequest, message).at(name));
        }
        drop(catalogue);
        let Some(mut change) = change(opened, driver, upsert, stop, &spending)? else { break };
        let chunker = opened.chunking.fingerprint().to_string();
        let own = change.chunker.as_ref().unwrap_or(&chunker);
        let hash = change.state.as_ref().map(|state| &state.hash);
        if known.as_ref().is_some_and(|known| Some(&known.hash) == hash && known.chunker == *own) {
            report.unchanged += 1;
            continue;
        }
        change.place = Some((source.id, name));
        change.replaces = known;
        window.push(change);
    }
    batch.add(window, stop, &mut report, &mut Meter::silent())?;
    report.advice = batch.advice();
    batch.finish(stop, &mut report)?;
    report.stopped = stop.is_stopped();
    report.capped = spending.message();
    report.chunks = opened.storage.read()?.counts()?.chunks;
    Ok(report)
}

/// Returns the change that an upsert makes; `None` if it was stopped, or the budget was spent, before all contexts were
/// written.
fn change(
    opened: &Opened,
    driver: &Driver,
    upsert: Upsert,
    stop: &StopToken,
    spending: &Spending,
) -> Result<Option<Change>> {
    let (document, chunks, chunker) = match upsert {
        Upsert::Document(document) => {
            let identity = format!("{UPSERTED}/{}", document.name);
            let chunks = driver.compute(|| {
                caught_in("the chunker", || chunk::chunks(&document, &identity, &*opened.chunking.chunker))
            })?;
            (*document, chunks, None)
        }
        Upsert::Chunk(chunk) => {
            let (document, chunks) = chunk.into_parts()?;
            (document, chunks, Some(UPSERTED.to_owned()))
        }
    };
    check_metadata(&document.metadata).map_err(|error| error.at(&document.name))?;
    let contexts: Vec<&str> = chunks.iter().map(|chunk| chunk.context.as_str()).collect();
    let json = serde_json::to_vec(&(&document, &contexts))
        .map_err(|error| Error::new(ErrorKind::System, "the document cannot be written as JSON").because(error))?;
    let hash = blake3::hash(&json).to_hex().to_string();
    let state = FileState { size: document.text.len() as u64, seen: now(), hash, ..FileState::default() };
    let mut change =
        Change { state: Some(state), parser: UPSERTED.to_owned(), chunker, ..Change::new(document, chunks) };
    if change.chunker.is_none() && opened.chunking.writing.is_some() {
        let mut targets = [Target { document: &change.document, chunks: &mut change.chunks }];
        change.written = contexts::write(opened, driver, &mut targets, stop, spending)?.remove(0)?;
        if change.written.count() < change.chunks.len() {
            return Ok(None);
        }
    }
    change.compare();
    Ok(Some(change))
}

/// Removes a document by its name. Returns `false` if there is none.
pub(crate) fn remove(opened: &Opened, driver: &Driver, name: &str) -> Result<bool> {
    let lease = opened.write_lease()?;
    let spending = Spending::new(&opened.config().limits);
    let Some(known) = opened.storage.read()?.known(Which::Named(&[name]))?.pop() else { return Ok(false) };
    let mut batch = Batch::new(opened, driver, &lease, &spending);
    let mut report = BuildReport::default();
    batch.remove(&known, &mut report);
    batch.finish(&StopToken::default(), &mut report)?;
    spending.check()?;
    Ok(true)
}

/// Removes a chunk that was upserted under an id of its own. Returns `false` if there is none.
pub(crate) fn remove_chunk(opened: &Opened, driver: &Driver, id: &str) -> Result<bool> {
    let id = ChunkId::from_stored(id);
    let owner = opened.storage.read()?.owners(std::slice::from_ref(&id))?.remove(&id);
    match owner {
        None => Ok(false),
        Some(owner) if owner.chunker == UPSERTED => remove(opened, driver, &owner.document),
        Some(owner) => {
            let message =
                format!("this chunk was cut from {}; remove that document, or cut it in another way", owner.document);
            Err(Error::new(ErrorKind::Refused, message).at(id.as_str()))
        }
    }
}
