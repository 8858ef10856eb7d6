//! Chunking: which spans of a document are indexed.
//!
//! A [`Chunker`] only says where to cut. [`chunks`] does the rest the same way for every chunker: the text (exactly the
//! slice at the span), the pages, the section path, the context, the identity. So no chunker, ours or yours, can put
//! words into a chunk that its document does not have.

mod sentence;
mod structure;

pub use sentence::{Sentence, sentences};
pub use structure::Structure;

use std::collections::HashMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::document::{BlockKind, Document, Pages, Span};
use crate::error::Result;
use crate::fingerprint::Fingerprint;
use crate::text::count_words;

/// Says where a document is cut.
pub trait Chunker: Send + Sync {
    /// Changes whenever the same document would be cut in another way.
    fn fingerprint(&self) -> Fingerprint;

    /// The spans to index, in order. They may overlap, and must lie on character boundaries.
    ///
    /// # Errors
    /// When the document cannot be cut under the chunker's settings.
    fn cut(&self, document: &Document) -> Result<Vec<Span>>;
}

/// The identity of a chunk: a hash of its document's identity, its text, and how often that text came before in it.
///
/// An edit elsewhere in the document leaves it alone.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ChunkId(Fingerprint);

impl ChunkId {
    /// An id as it was written down earlier.
    pub fn from_stored(text: impl Into<String>) -> Self {
        Self(Fingerprint::from_stored(text))
    }

    /// The sixteen digits.
    pub fn as_str(&self) -> &str {
        self.0.as_str()
    }
}

impl fmt::Display for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Debug for ChunkId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// One span chosen for indexing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Chunk {
    /// Its identity.
    #[serde(rename = "chunk")]
    pub id: ChunkId,
    /// The name of its document.
    pub document: String,
    /// Where it is in the document's text.
    pub span: Span,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Its length in words, context left out.
    pub size: usize,
    /// Exactly the slice of the document's text at the span.
    pub text: String,
    /// What helps to find it and is not its text: title, section path, the header of a table that began before it.
    pub context: String,
    /// The smallest things in it that can be quoted.
    #[serde(skip)]
    pub sentences: Vec<Sentence>,
}

impl Chunk {
    /// What an encoder and an index read: the context, then the text.
    pub fn indexed_text(&self) -> String {
        if self.context.is_empty() { self.text.clone() } else { format!("{}\n\n{}", self.context, self.text) }
    }
}

/// Cuts a document and makes the chunks. `identity` is what the corpus knows the document by.
///
/// Spans that are empty, out of the text or off a character boundary are left out. Costs one pass over the blocks plus
/// one over each chunk's text.
///
/// # Errors
/// What the chunker returns.
pub fn chunks(document: &Document, identity: &str, chunker: &dyn Chunker) -> Result<Vec<Chunk>> {
    let paths = document.heading_paths();
    let all_sentences = sentences(document);
    let mut seen: HashMap<String, u64> = HashMap::new();
    let mut made = Vec::new();
    for span in chunker.cut(document)? {
        let text = document.slice(span);
        if text.trim().is_empty() {
            continue;
        }
        let occurrence = seen.entry(text.to_owned()).or_default();
        let id = Fingerprint::of([identity.as_bytes(), text.as_bytes(), &occurrence.to_le_bytes()]);
        *occurrence += 1;
        let section = section_path(document, &paths, span);
        let first = all_sentences.partition_point(|sentence| sentence.span.end <= span.start);
        made.push(Chunk {
            id: ChunkId(id),
            document: document.name.clone(),
            span,
            pages: document.pages(span),
            context: context(document, &section, span),
            section,
            size: count_words(text),
            text: text.to_owned(),
            sentences: all_sentences[first..]
                .iter()
                .take_while(|sentence| sentence.span.start < span.end)
                .filter(|sentence| span.contains(sentence.span))
                .cloned()
                .collect(),
        });
    }
    Ok(made)
}

/// The headings above a span: those of its first block that is not itself a heading, or of its last heading.
fn section_path(document: &Document, paths: &[Vec<usize>], span: Span) -> Vec<String> {
    let first = document.blocks.partition_point(|block| block.span.end <= span.start);
    let inside = || (first..document.blocks.len()).take_while(|&index| document.blocks[index].span.start < span.end);
    let told = inside()
        .find(|&index| !matches!(document.blocks[index].kind, BlockKind::Heading | BlockKind::Furniture))
        .or_else(|| inside().filter(|&index| document.blocks[index].kind == BlockKind::Heading).last());
    told.map_or_else(Vec::new, |index| {
        paths[index].iter().map(|&heading| one_line(document.slice(document.blocks[heading].span))).collect()
    })
}

/// Title and section path, and the header of a table that the chunk enters below its header.
fn context(document: &Document, section: &[String], span: Span) -> String {
    let mut path: Vec<&str> = document.title.as_deref().into_iter().collect();
    path.extend(section.iter().map(String::as_str).filter(|heading| Some(*heading) != document.title.as_deref()));
    let mut context = path.join(" › ");
    let at = document.blocks.partition_point(|block| block.span.end <= span.start);
    if let Some(block) = document.blocks.get(at)
        && let Some(table) = &block.table
        && block.span.start < span.start
    {
        let header = table.header_line(&document.text);
        if !header.is_empty() {
            context.push('\n');
            context.push_str(header);
        }
    }
    context
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
