//! Chunking: which spans of a document are indexed.
//!
//! A [`Chunker`] only says where to cut. [`chunks`] does the rest in the same way for every chunker: the text (exactly the
//! slice at the span), the pages, the section path, the context, the identity. So no chunker can put words into a chunk that
//! its document does not have.
//!
//! The chunkers of the library: [`Structure`], the default, [`Sentences`], [`Separators`], [`Window`], [`ByPage`], [`Marked`],
//! [`Rows`], [`Whole`], and [`Topics`], which takes vectors. All keep a [`Limit`], whole words and whole characters.

mod by_sentence;
mod context;
mod divided;
mod fitted;
pub(crate) mod identity;
mod limit;
mod near_duplicates;
mod pack;
mod piece;
mod review;
mod sentence;
mod separators;
mod structure;
mod topics;
mod window;

pub use by_sentence::Sentences;
pub use divided::{ByPage, LinePattern, Marked, Rows, Whole};
pub use fitted::Fitted;
pub use identity::ChunkId;
pub use limit::{Limit, TokenCounter, Unit};
pub use near_duplicates::{SKETCH, Statements};
pub use review::{Review, Spread};
pub use sentence::{Sentence, sentences};
pub use separators::{Separator, Separators};
pub use structure::Structure;
pub use topics::Topics;
pub use window::Window;

use std::sync::Arc;

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use unicode_segmentation::GraphemeCursor;

use crate::document::{BlockKind, Document, Pages, Span};
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use context::{Above, Contexts};

/// Decides where a document is cut.
pub trait Chunker: Send + Sync {
    /// Returns a text that changes if the same document would be cut in another way.
    fn fingerprint(&self) -> Fingerprint;

    /// Returns the spans to index, in order. They may overlap, and should lie on character boundaries.
    ///
    /// # Errors
    /// If the document cannot be cut under the chunker's settings.
    fn cut(&self, document: &Document) -> Result<Vec<Span>>;

    /// Returns the limit of its chunks, context included. Contexts are shortened to half of it.
    fn limit(&self) -> Option<&Limit> {
        None
    }

    /// Returns `true` if the chunker cuts only sentences, rows and lines that alone exceed the limit.
    fn keeps_sentences(&self) -> bool {
        false
    }

    /// Returns `false` if a document has nothing of what the chunker cuts at, such as marked lines.
    fn applies_to(&self, _document: &Document) -> bool {
        true
    }
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: Chunker + ?Sized> Chunker for $pointer {
            fn fingerprint(&self) -> Fingerprint {
                (**self).fingerprint()
            }

            fn cut(&self, document: &Document) -> Result<Vec<Span>> {
                (**self).cut(document)
            }

            fn limit(&self) -> Option<&Limit> {
                (**self).limit()
            }

            fn keeps_sentences(&self) -> bool {
                (**self).keeps_sentences()
            }

            fn applies_to(&self, document: &Document) -> bool {
                (**self).applies_to(document)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);

/// A span chosen for indexing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Chunk {
    /// Its identity.
    #[serde(rename = "chunk")]
    pub id: ChunkId,
    /// The name of its document.
    pub document: String,
    /// The span in the document's text.
    pub span: Span,
    /// The span of its section: from the heading above it to the next heading after it.
    pub parent: Span,
    /// The pages it touches.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// The length of its text in the unit of the chunker's limit; in words if there is no limit.
    pub size: usize,
    /// The length of its context.
    pub context_size: usize,
    /// Whether it begins or ends inside a sentence.
    pub cuts_sentence: bool,
    /// The slice of the document's text at the span.
    pub text: String,
    /// Text that helps a search to find it and is not part of its text: title, section path, the header of a table that began
    /// before it.
    pub context: String,
    /// The smallest units in it that can be quoted.
    #[serde(skip)]
    pub sentences: Vec<Sentence>,
}

impl Chunk {
    /// Returns the text for encoders and indexes: the context, then the text.
    pub fn indexed_text(&self) -> String {
        indexed_text(&self.context, &self.text)
    }

    /// Returns how much of what can be quoted, without headings, is a list of contents, in percent of the bytes.
    pub fn percent_of_contents(&self) -> u8 {
        self.percent_of(|sentence| sentence.kind == BlockKind::Contents)
    }

    /// Returns how much of what can be quoted, without headings, are lines of a few words that end no sentence, in percent of the bytes.
    pub fn percent_of_entries(&self) -> u8 {
        const MAX_WORDS: usize = 12;
        self.percent_of(|sentence| {
            let text = self.text.get(sentence.span.start - self.span.start..sentence.span.end - self.span.start);
            let text = text.unwrap_or_default().trim_end();
            let ends = text.ends_with(['.', '!', '?', ':', ';', '。', '！', '？']);
            !matches!(sentence.kind, BlockKind::Table | BlockKind::Code)
                && !ends
                && text.split_whitespace().count() <= MAX_WORDS
        })
    }

    fn percent_of(&self, counts: impl Fn(&Sentence) -> bool) -> u8 {
        let quotable = || self.sentences.iter().filter(|sentence| sentence.kind != BlockKind::Heading);
        let bytes: usize = quotable().filter(|sentence| counts(sentence)).map(|sentence| sentence.span.len()).sum();
        let all: usize = quotable().map(|sentence| sentence.span.len()).sum();
        (100 * bytes).checked_div(all).unwrap_or(0) as u8
    }

    /// Adds a line to its context.
    pub fn add_context(&mut self, line: &str, limit: Option<&Limit>) {
        if line.is_empty() {
            return;
        }
        if !self.context.is_empty() {
            self.context.push('\n');
        }
        self.context.push_str(line);
        self.context_size = context_size(&self.context, limit);
    }
}

/// Returns the length that a context takes from a limit; in words if there is none.
fn context_size(context: &str, limit: Option<&Limit>) -> usize {
    limit.map_or_else(|| Unit::Words.measure(context), |limit| limit.context_weight(context))
}

/// Returns a context and a text as an encoder reads them. Long runs of one sign, such as the dots before a page number, are shortened:
/// they mean nothing, and each sign would be a token.
pub fn indexed_text(context: &str, text: &str) -> String {
    let whole = if context.is_empty() { text.to_owned() } else { format!("{context}\n\n{text}") };
    match shortened_runs(&whole) {
        Cow::Borrowed(_) => whole,
        Cow::Owned(shortened) => shortened,
    }
}

/// Returns a text in which a sign that is repeated more than three times, with or without blanks in between, is there three times.
pub fn shortened_runs(text: &str) -> Cow<'_, str> {
    /// The longest run that is kept.
    const MAX_RUN: usize = 3;
    let is_sign = |c: char| !c.is_alphanumeric() && !c.is_whitespace() && !c.is_control();
    let mut shortened: Option<String> = None;
    let (mut last, mut run) = ('\0', 0);
    // The blanks since the last sign belong to the run if the same sign follows.
    let mut blanks = 0;
    for (at, c) in text.char_indices() {
        if c == ' ' && run > 0 {
            blanks += 1;
        } else {
            run = match is_sign(c) {
                true if c == last => run + 1,
                true => 1,
                false => 0,
            };
            last = c;
            if run > MAX_RUN {
                let kept = shortened.get_or_insert_with(|| text[..at].to_owned());
                kept.truncate(kept.len() - blanks);
                blanks = 0;
                continue;
            }
            blanks = 0;
        }
        if let Some(kept) = &mut shortened {
            kept.push(c);
        }
    }
    shortened.map_or(Cow::Borrowed(text), Cow::Owned)
}

/// Cuts a document and makes the chunks. `identity` is the document's identity in the corpus.
///
/// Empty spans are left out. A span that begins or ends inside a character is widened to include it. Costs one pass over the
/// blocks plus a few over each chunk's text.
///
/// # Errors
/// Returns the errors of the chunker, and an error if one of its spans lies outside the text.
pub fn chunks(document: &Document, identity: &str, chunker: &dyn Chunker) -> Result<Vec<Chunk>> {
    let spans = chunker.cut(document)?;
    let length = document.text.len();
    if let Some(Span { start, end }) = spans.iter().find(|span| span.end > length) {
        let message =
            format!("the chunker returned the span {start}..{end} of a text with {length} bytes; check the chunker");
        return Err(Error::new(ErrorKind::Unreadable, message));
    }
    Ok(chunks_at(document, identity, spans, chunker.limit()))
}

/// Makes the chunks at known spans.
pub fn chunks_at(document: &Document, identity: &str, spans: Vec<Span>, limit: Option<&Limit>) -> Vec<Chunk> {
    let contexts = Contexts::new(document);
    let all_sentences = sentences(document);
    let unit = limit.map_or(&Unit::Words, Limit::unit);
    let spans: Vec<Span> = spans
        .into_iter()
        .filter_map(|span| whole_characters(&document.text, span))
        .filter(|span| !document.slice(*span).trim().is_empty())
        .collect();
    let texts: Vec<&str> = spans.iter().map(|span| document.slice(*span)).collect();
    let ids = identity::ids(identity, &texts);
    let made = spans.iter().zip(texts).zip(ids).map(|((&span, text), id)| {
        let Above { section, context, size: context_size } = contexts.above(span, limit);
        let (inside, cuts_sentence) = sentence::inside(document, &all_sentences, span);
        Chunk {
            id,
            document: document.name.clone(),
            span,
            parent: contexts.parent(span),
            pages: document.pages(span),
            section,
            size: unit.measure(text),
            context_size,
            cuts_sentence,
            text: text.to_owned(),
            context,
            sentences: inside,
        }
    });
    made.collect()
}

/// Widens a span so that it begins and ends between grapheme clusters. Returns `None` for a span outside the text.
fn whole_characters(text: &str, span: Span) -> Option<Span> {
    if span.start >= span.end || span.end > text.len() {
        return None;
    }
    let start = boundary(text, span.start, false)?;
    Some(Span::new(start, boundary(text, span.end, true)?))
}

/// Returns the nearest boundary of extended grapheme clusters (Unicode Annex 29) before or after a place.
fn boundary(text: &str, at: usize, behind: bool) -> Option<usize> {
    let bytes = text.as_bytes();
    let plain = |at: usize| bytes.get(at).is_none_or(|byte| byte.is_ascii() && *byte != b'\n');
    if at == 0 || at == text.len() || (plain(at) && plain(at - 1)) {
        return Some(at);
    }
    let at = if behind { (at..=text.len()).find(|&at| text.is_char_boundary(at))? } else { floor(text, at) };
    let mut cursor = GraphemeCursor::new(at, text.len(), true);
    match cursor.is_boundary(text, 0) {
        Ok(true) => Some(at),
        _ if behind => cursor.next_boundary(text, 0).ok().flatten(),
        _ => cursor.prev_boundary(text, 0).ok().flatten(),
    }
}

fn floor(text: &str, at: usize) -> usize {
    (0..=at).rev().find(|&at| text.is_char_boundary(at)).unwrap_or(0)
}
