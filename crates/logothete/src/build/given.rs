//! Documents and single chunks that code puts into a corpus, without a source.

use logothete_core::chunk::{self, Chunk, ChunkId, Whole};
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Metadata, Value};
use logothete_core::{Error, ErrorKind, Result};

use super::batch::{Batch, Change};
use super::repeats::Compared;
use super::spending::Spending;
use super::work::now;
use super::{BuildReport, Meter, StopToken, contexts, plan};
use crate::corpus::{FileState, Inner};
use crate::pool::Waiter;

/// Where the corpus says that such documents come from.
const LOCATION: &str = "memory:given";
/// Stands where other documents have the fingerprint of the stage that made something.
pub(crate) const GIVEN: &str = "given";
/// So many are encoded together.
const WINDOW: usize = 32;

/// Something that is put into a corpus from code: a document, or a chunk.
#[derive(Clone, Debug, PartialEq)]
pub enum Given {
    /// A document, known by its name. It is cut as others are.
    Document(Box<Document>),
    /// A chunk, known by its id.
    Chunk(OwnChunk),
}

/// A chunk under an id of your own. It stands in a document of its own, whose name is the id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct OwnChunk {
    id: String,
    text: String,
    title: Option<String>,
    context: String,
    metadata: Metadata,
}

impl OwnChunk {
    /// A chunk with an id and a text.
    pub fn new(id: impl Into<String>, text: impl Into<String>) -> Self {
        Self { id: id.into(), text: text.into(), ..Self::default() }
    }

    /// With a title, which helps to find it.
    #[must_use]
    pub fn title(mut self, title: impl Into<String>) -> Self {
        self.title = Some(title.into());
        self
    }

    /// With a context, which helps to find it and is never quoted.
    #[must_use]
    pub fn context(mut self, context: impl Into<String>) -> Self {
        self.context = context.into();
        self
    }

    /// With a field of metadata, for filters.
    #[must_use]
    pub fn metadata(mut self, name: impl Into<String>, value: impl Into<Value>) -> Self {
        self.metadata.insert(name.into(), value.into());
        self
    }

    /// As a document, and the one chunk that it is cut into.
    fn into_parts(self) -> Result<(Document, Vec<Chunk>)> {
        let unusable = |message: &str| Error::new(ErrorKind::Configuration, message.to_owned()).at(&self.id);
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

impl From<Document> for Given {
    fn from(document: Document) -> Self {
        Self::Document(Box::new(document))
    }
}

impl From<OwnChunk> for Given {
    fn from(chunk: OwnChunk) -> Self {
        Self::Chunk(chunk)
    }
}

impl Given {
    fn name(&self) -> &str {
        match self {
            Self::Document(document) => &document.name,
            Self::Chunk(chunk) => &chunk.id,
        }
    }
}

/// Adds some, and replaces those that are there under the same name or id. All of them or, when something fails, those of the
/// windows before.
pub(crate) fn put(inner: &Inner, all: Vec<Given>, waiter: &Waiter, stop: &StopToken) -> Result<BuildReport> {
    let _lock = inner.write_lock()?;
    let (spending, mut report) = (Spending::new(&inner.pipeline.settings), BuildReport::default());
    let source = plan::entry(&mut inner.catalogue(), LOCATION, false, false, || GIVEN.to_owned())?;
    let mut batch = Batch::new(inner, &spending);
    let mut window = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for given in all {
        let name = given.name().to_owned();
        if !seen.insert(name.clone()) || window.len() == WINDOW {
            // The same once more replaces what was put just now.
            batch.add(std::mem::take(&mut window), stop, &mut report, &mut Meter::silent())?;
            batch.commit()?;
        }
        let known = inner.catalogue().known_at(source.id, &name)?;
        if known.is_none() && inner.catalogue().has_name(&name)? {
            let message = "the corpus has a document of this name from another source; choose another name";
            return Err(Error::new(ErrorKind::Configuration, message).at(name));
        }
        let chunker = inner.chunking.fingerprint().to_string();
        let Some(mut change) = change(inner, given, (waiter, stop, &spending))? else { break };
        let state = change.state.get_or_insert_default();
        let own = change.chunker.as_deref().unwrap_or(&chunker);
        if known.as_ref().is_some_and(|known| known.hash == state.hash && known.chunker == own) {
            report.unchanged += 1;
            continue;
        }
        change.place = Some((source.id, name));
        change.replaces = known;
        window.push(change);
    }
    batch.add(window, stop, &mut report, &mut Meter::silent())?;
    report.stopped = stop.is_stopped();
    report.capped = spending.message();
    batch.finish(stop)?;
    report.chunks = inner.catalogue().count_chunks()?;
    Ok(report)
}

/// What is to be added; nothing when it was stopped, or would have spent too much, before all contexts were written.
fn change(
    inner: &Inner,
    given: Given,
    (waiter, stop, spending): (&Waiter, &StopToken, &Spending),
) -> Result<Option<Change>> {
    let (document, mut chunks, chunker) = match given {
        Given::Document(document) => {
            let identity = format!("{GIVEN}/{}", document.name);
            let chunks = chunk::chunks(&document, &identity, &*inner.chunking.chunker)?;
            (*document, chunks, None)
        }
        Given::Chunk(chunk) => {
            let (document, chunks) = chunk.into_parts()?;
            (document, chunks, Some(GIVEN.to_owned()))
        }
    };
    let contexts: Vec<&str> = chunks.iter().map(|chunk| chunk.context.as_str()).collect();
    let written = serde_json::to_vec(&(&document, &contexts))
        .map_err(|error| Error::new(ErrorKind::System, "the document cannot be written as JSON").because(error))?;
    let state = FileState {
        size: document.text.len() as u64,
        modified: 0,
        inode: None,
        seen: now(),
        hash: blake3::hash(&written).to_hex().to_string(),
    };
    let written = match chunker {
        None => contexts::write(inner, &document, &mut chunks, waiter, stop, spending)?,
        Some(_) => contexts::Written::default(),
    };
    if chunker.is_none() && inner.chunking.writing.is_some() && written.asked + written.cached < chunks.len() {
        return Ok(None);
    }
    Ok(Some(Change {
        replaces: None,
        place: None,
        compared: chunks.iter().map(Compared::of_chunk).collect(),
        state: Some(state),
        parser: GIVEN.to_owned(),
        chunker,
        like: None,
        document,
        chunks,
        written,
    }))
}

/// Removes a document by its name; returns whether it was there.
pub(crate) fn remove(inner: &Inner, name: &str) -> Result<bool> {
    let _lock = inner.write_lock()?;
    let spending = Spending::new(&inner.pipeline.settings);
    let Some(known) = inner.catalogue().known_by_name(name)? else { return Ok(false) };
    let mut batch = Batch::new(inner, &spending);
    batch.remove(&known, &mut BuildReport::default());
    batch.finish(&StopToken::default())?;
    Ok(true)
}

/// Removes a chunk that was put under an id of its own; returns whether it was there.
pub(crate) fn remove_chunk(inner: &Inner, id: &str) -> Result<bool> {
    let found = inner.catalogue().document_of(id)?;
    match found {
        None => Ok(false),
        Some((name, chunker)) if chunker == GIVEN => remove(inner, &name),
        Some((name, _)) => {
            let message = format!("this chunk was cut from {name}; remove that document, or cut it otherwise");
            Err(Error::new(ErrorKind::Refused, message).at(id))
        }
    }
}
