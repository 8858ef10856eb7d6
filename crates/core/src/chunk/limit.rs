//! The limit of a chunk, and its overlap with the chunk before.

use std::fmt;
use std::sync::Arc;

use unicode_segmentation::UnicodeSegmentation;

use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::text::count_words;

/// Longer words, in bytes, count as several. So a run of signs without blanks cannot make an endless chunk.
const WORD_BYTES: usize = 64;

/// The unit of lengths.
#[derive(Clone)]
pub enum Unit {
    /// Words, by Unicode Annex 29. In a script without spaces each character is a word.
    Words,
    /// Extended grapheme clusters, the characters that people see.
    Characters,
    /// The tokens of an encoder.
    Tokens(TokenCounter),
}

/// Counts the tokens of a text as an encoder would.
#[derive(Clone)]
pub struct TokenCounter {
    fingerprint: Fingerprint,
    count: Arc<dyn Fn(&str) -> usize + Send + Sync>,
}

impl fmt::Debug for TokenCounter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TokenCounter").field("fingerprint", &self.fingerprint).finish_non_exhaustive()
    }
}

impl TokenCounter {
    /// Creates a counter. `fingerprint` is that of the encoder; if it changes, documents are cut again.
    pub fn new(fingerprint: Fingerprint, count: impl Fn(&str) -> usize + Send + Sync + 'static) -> Self {
        Self { fingerprint, count: Arc::new(count) }
    }

    /// Returns the fingerprint of the encoder.
    pub(super) fn fingerprint(&self) -> &Fingerprint {
        &self.fingerprint
    }
}

impl Unit {
    /// Returns its name in JSON and in configurations.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Words => "words",
            Self::Characters => "characters",
            Self::Tokens(_) => "tokens",
        }
    }

    /// The limit of chunks in tokens that is used when none is set.
    pub const USUAL_TOKENS: usize = 200;

    /// Returns the limit of chunks that is used when none is set.
    pub fn usual(&self) -> usize {
        match self {
            Self::Words => 150,
            Self::Characters => 1000,
            Self::Tokens(_) => Self::USUAL_TOKENS,
        }
    }

    /// Returns the length of a text. Costs one pass.
    pub fn measure(&self, text: &str) -> usize {
        match self {
            Self::Words => count_words(text),
            Self::Characters if text.is_ascii() => text.len() - text.matches("\r\n").count(),
            Self::Characters => text.graphemes(true).count(),
            Self::Tokens(counter) => (counter.count)(text),
        }
    }
}

impl fmt::Debug for Unit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// The highest length of a chunk with its context, and the overlap with the chunk before.
#[derive(Clone, Debug)]
pub struct Limit {
    unit: Unit,
    most: usize,
    overlap: usize,
    reserve: usize,
}

impl Default for Limit {
    /// 150 words with an overlap of 10: among the best of those measured on the demo's dev questions.
    fn default() -> Self {
        Self { unit: Unit::Words, most: 150, overlap: 10, reserve: 0 }
    }
}

impl Limit {
    /// Creates a limit with an overlap.
    ///
    /// # Errors
    /// If the limit is 0, or the overlap is half the limit or more, because most of each chunk would then be a repetition.
    pub fn new(unit: Unit, most: usize, overlap: usize) -> Result<Self> {
        let name = unit.name();
        let wrong = |message| Err(Error::new(ErrorKind::Configuration, message));
        if most == 0 {
            return wrong(format!("a chunk limit of 0 {name} leaves nothing to index; set 20 or more"));
        }
        if overlap.saturating_mul(2) >= most {
            let best = most.saturating_sub(1) / 2;
            return wrong(format!(
                "an overlap of {overlap} {name} in chunks of {most} would make most of each chunk a repetition; set the \
                 overlap to {best} or less"
            ));
        }
        Ok(Self { unit, most, overlap, reserve: 0 })
    }

    /// Creates a limit in words.
    ///
    /// # Errors
    /// As [`new`](Self::new).
    pub fn words(most: usize, overlap: usize) -> Result<Self> {
        Self::new(Unit::Words, most, overlap)
    }

    /// Returns no limit, for chunks as long as their pages, parts or documents.
    pub fn none(unit: Unit) -> Self {
        Self { unit, most: usize::MAX, overlap: 0, reserve: 0 }
    }

    /// Returns the limit with room reserved in each chunk for context that is written later.
    ///
    /// # Errors
    /// If the reserve is half the limit or more.
    pub fn reserving(mut self, reserve: usize) -> Result<Self> {
        if reserve.saturating_mul(2) >= self.most {
            let name = self.unit.name();
            let message = format!(
                "chunks of {} {name} have no room for {reserve} {name} of written context; set the limit to {} or more",
                self.most,
                reserve * 2 + 1
            );
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        self.reserve = reserve;
        Ok(self)
    }

    /// Returns the unit of lengths.
    pub fn unit(&self) -> &Unit {
        &self.unit
    }

    /// Returns the highest length of a chunk, with its context; `None` means unlimited.
    pub fn most(&self) -> Option<usize> {
        (self.most < usize::MAX).then_some(self.most)
    }

    /// Returns the highest length that a chunk repeats of the chunk before.
    pub fn overlap(&self) -> usize {
        self.overlap
    }

    /// Returns the room that is reserved for context that is written later.
    pub fn reserve(&self) -> usize {
        self.reserve
    }

    /// Returns the part of a chunker's fingerprint that depends on the limit.
    pub fn fingerprint(&self) -> Fingerprint {
        let counter = match &self.unit {
            Unit::Tokens(counter) => counter.fingerprint.as_str(),
            _ => "",
        };
        let parts = [self.unit.name(), counter, &format!("{} {} {}", self.most, self.overlap, self.reserve)];
        Fingerprint::of(parts.map(str::to_owned))
    }

    /// Returns the length that another line of context takes from the limit.
    pub(crate) fn measure_addition(&self, line: &str) -> usize {
        // The line end is a character, and the blank line may become one.
        self.weight(line) + if matches!(self.unit, Unit::Characters) { 2 } else { 0 }
    }

    /// Returns the highest length of the context: half the limit, so that every chunk has room for text.
    pub(super) fn most_context(&self) -> usize {
        if self.most == usize::MAX { usize::MAX } else { (self.most - self.reserve) / 2 }
    }

    /// Returns the length that a context takes from the limit, with the blank line between it and the text.
    pub(super) fn context_weight(&self, context: &str) -> usize {
        match self.unit {
            _ if context.is_empty() => 0,
            Unit::Characters => self.unit.measure(context) + 2,
            _ => self.unit.measure(context),
        }
    }

    /// Returns the room that a context leaves for text.
    pub(super) fn room(&self, context: &str) -> usize {
        if self.most == usize::MAX {
            return usize::MAX;
        }
        (self.most - self.reserve).saturating_sub(self.context_weight(context)).max(1)
    }

    /// Returns the length of a text for the limit. Very long words count as several.
    pub(crate) fn weight(&self, text: &str) -> usize {
        self.weigh(self.unit.measure(text), text.len())
    }

    /// Does the same for a text whose length is known, in its unit and in bytes.
    pub(super) fn weigh(&self, length: usize, bytes: usize) -> usize {
        if matches!(self.unit, Unit::Words) { length.max(bytes.div_ceil(WORD_BYTES)) } else { length }
    }

    /// Returns the number of bytes that certainly exceed the room.
    pub(super) fn too_many_bytes(&self, room: usize) -> usize {
        // A character may have many bytes, and a token many characters; only words have a bound.
        if matches!(self.unit, Unit::Words) { room.saturating_mul(WORD_BYTES) } else { usize::MAX }
    }

    /// Returns `true` if the length of a text is the sum of the lengths of its parts.
    pub(super) fn adds_up(&self) -> bool {
        !matches!(self.unit, Unit::Tokens(_))
    }

    /// Returns the length of the white space between two runs of text.
    pub(super) fn gap(&self, text: &str) -> usize {
        if matches!(self.unit, Unit::Characters) { self.unit.measure(text) } else { 0 }
    }
}
