//! From the settings of `[chunk]` to a chunker, bound to the encoder whose tokens it may count.

use std::sync::Arc;

use logothete_core::chunk::{
    ByPage, Chunk, Chunker, Fitted, Limit, LinePattern, Marked, Review, Rows, Sentences, Separator, Separators,
    Structure, TokenCounter, Topics, Unit, Whole, Window,
};
use logothete_core::document::{Document, Span};
use logothete_core::prompt::Templates;
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::Equipped;
use crate::config::{ChunkConfig, ChunkContext, ChunkUnit, Strategy};

/// How long chunks are and how they are made, with one encoder.
struct Factory<'a> {
    config: &'a ChunkConfig,
    encoder: &'a Arc<dyn Encoder>,
}

impl Factory<'_> {
    /// Returns the limit in force.
    ///
    /// # Errors
    /// If the settings make no sense; the message says what to set.
    fn limit(&self) -> Result<Limit> {
        let (config, encoder) = (self.config, self.encoder);
        let unit = match config.unit {
            ChunkUnit::Words => Unit::Words,
            ChunkUnit::Characters => Unit::Characters,
            ChunkUnit::Tokens => Unit::Tokens(self.counter()),
        };
        let usual = match config.unit {
            ChunkUnit::Tokens => encoder.max_tokens().unwrap_or(usize::MAX).min(unit.usual()),
            _ => unit.usual(),
        };
        let most = config.limit.unwrap_or(usual);
        let limit = if config.limit.is_none() && config.strategy.is_unlimited() {
            Limit::none(unit)
        } else {
            Limit::new(unit, most, config.overlap.unwrap_or(most / 15))?
        };
        match config.context {
            ChunkContext::Headings => Ok(limit),
            ChunkContext::Generated => limit.reserving(config.generated_limit.unwrap_or(most / 3)),
        }
    }

    /// Returns the writer of contexts; `None` if none are written.
    fn writing(&self, limit: Option<&Limit>, generator: Option<Equipped>, templates: &Templates) -> Option<Writing> {
        if self.config.context != ChunkContext::Generated {
            return None;
        }
        // A chunker without a limit says nothing of the room for contexts.
        let limit = limit.cloned().unwrap_or_else(|| Limit::none(Unit::Words).reserving(50).unwrap_or_default());
        let prompt = templates.fingerprint("context");
        let prompt = (prompt != Templates::default().fingerprint("context")).then_some(prompt);
        Some(Writing { generator, prompt, around: self.config.generated_from, limit })
    }

    /// Returns the chunker that these settings describe.
    ///
    /// # Errors
    /// If they make no sense; the message says what to set.
    fn chunker(&self) -> Result<Arc<dyn Chunker>> {
        let (config, limit) = (self.config, self.limit()?);
        Ok(match config.strategy {
            Strategy::Structure => Arc::new(Structure::new(limit)),
            Strategy::Sentences => Arc::new(Sentences::new(limit)),
            Strategy::Separators => {
                let separators = config.separators.iter().map(|name| separator(name)).collect();
                Arc::new(Separators::new(limit, separators)?)
            }
            Strategy::Window => Arc::new(Window::new(limit)),
            Strategy::Pages => Arc::new(ByPage::new(limit)),
            Strategy::Marked if config.marker.trim().is_empty() => {
                let message = "cutting at marked lines needs their pattern; set marker, such as \"=== * ===\"";
                return Err(Error::new(ErrorKind::Configuration, message));
            }
            Strategy::Marked => Arc::new(Marked::new(limit, LinePattern::new(&config.marker)?)),
            Strategy::Rows => Arc::new(Rows::new(limit, config.rows)?),
            Strategy::Whole => Arc::new(Whole::new(limit)),
            Strategy::Topics => Arc::new(ByTopic { topics: Topics::new(limit), encoder: self.encoder.clone() }),
        })
    }
}

impl Factory<'_> {
    /// Wraps a chunker whose limit is in words or characters, so that the encoder truncates no chunk.
    fn fitted(&self, chunker: Arc<dyn Chunker>) -> Arc<dyn Chunker> {
        let limit = chunker.limit().filter(|limit| limit.most().is_some() && !matches!(limit.unit(), Unit::Tokens(_)));
        let Some((max_tokens, limit)) = self.encoder.max_tokens().zip(limit) else { return chunker };
        // A word of a context that is written later has about one and a half tokens.
        let reserve = if matches!(limit.unit(), Unit::Words) { limit.reserve() * 3 / 2 } else { limit.reserve() / 3 };
        let room = max_tokens.saturating_sub(reserve).max(max_tokens / 2);
        Arc::new(Fitted::new(chunker, self.counter(), room))
    }

    fn counter(&self) -> TokenCounter {
        let counting = self.encoder.clone();
        TokenCounter::new(self.encoder.fingerprint(), move |text| counting.count_tokens(text))
    }
}

/// How chunks are made in a corpus: the chunker, and what writes their contexts.
pub(crate) struct Chunking {
    pub chunker: Arc<dyn Chunker>,
    pub writing: Option<Writing>,
}

/// The writer of contexts.
pub(crate) struct Writing {
    generator: Option<Equipped>,
    /// The templates of the prompt, if they are not the default ones.
    prompt: Option<Fingerprint>,
    /// The number of words of the document in the prompt.
    pub around: usize,
    /// The limit whose reserve the contexts keep to.
    pub limit: Limit,
}

impl Writing {
    /// Returns the generator.
    ///
    /// # Errors
    /// If there is none.
    pub(crate) fn generator(&self) -> Result<&Equipped> {
        self.generator.as_ref().ok_or_else(|| {
            let message = "generated context needs a model, and none is configured; set kind in [generator], give the pipeline one with \
                           with_generator, or set context to headings";
            Error::new(ErrorKind::Configuration, message).at("[chunk] context")
        })
    }

    /// Returns the highest length of a written context for a limit in tokens, words or characters.
    pub(crate) fn max_words(&self) -> usize {
        match self.limit.unit() {
            Unit::Words => self.limit.reserve(),
            Unit::Characters => self.limit.reserve() / 6,
            Unit::Tokens(_) => self.limit.reserve() * 3 / 4,
        }
        .max(1)
    }
}

impl Chunking {
    /// Creates the chunker of a configuration, or the user's own, with an encoder and a generator.
    pub(crate) fn new(
        config: &ChunkConfig,
        own: Option<Arc<dyn Chunker>>,
        encoder: &Arc<dyn Encoder>,
        generator: Option<Equipped>,
        templates: &Templates,
    ) -> Result<Self> {
        let factory = Factory { config, encoder };
        let chunker = match own {
            Some(chunker) => chunker,
            None => factory.fitted(factory.chunker()?),
        };
        check(chunker.limit(), &**encoder)?;
        let writing = factory.writing(chunker.limit(), generator, templates);
        Ok(Self { chunker, writing })
    }

    /// Changes whenever the same document would give other chunks or contexts.
    pub(crate) fn fingerprint(&self) -> Fingerprint {
        match &self.writing {
            None => self.chunker.fingerprint(),
            Some(writing) => {
                let generator = writing.generator.as_ref().map(|equipped| equipped.generator.fingerprint().to_string());
                let prompt = writing.prompt.as_ref().map(ToString::to_string);
                let parts = [self.chunker.fingerprint().to_string(), generator.unwrap_or_default()];
                Fingerprint::of(parts.into_iter().chain([writing.around.to_string()]).chain(prompt))
            }
        }
    }
}

fn separator(name: &str) -> Separator {
    match name {
        "blank line" => Separator::Text("\n\n".to_owned()),
        "line" => Separator::Text("\n".to_owned()),
        "sentence" => Separator::Sentence,
        "word" => Separator::Word,
        other => Separator::Text(other.to_owned()),
    }
}

/// Gives the vectors of an encoder to [`Topics`].
struct ByTopic {
    topics: Topics,
    encoder: Arc<dyn Encoder>,
}

impl Chunker for ByTopic {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([self.topics.fingerprint(), self.encoder.fingerprint()])
    }

    fn limit(&self) -> Option<&Limit> {
        Some(self.topics.limit())
    }

    fn keeps_sentences(&self) -> bool {
        true
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        /// The number of sentences that are encoded in one call.
        const AT_ONCE: usize = 64;
        let spans = Topics::sentences(document);
        let mut vectors = Vectors::new(self.encoder.dimensions());
        for some in spans.chunks(AT_ONCE) {
            let texts: Vec<&str> = some.iter().map(|span| document.slice(*span)).collect();
            let encoded = self.encoder.encode(&texts, Role::Passage)?;
            for vector in encoded.iter() {
                vectors.push(vector)?;
            }
        }
        self.topics.cut(document, &vectors)
    }
}

/// Refuses a limit that is surely above what an encoder reads.
fn check(limit: Option<&Limit>, encoder: &dyn Encoder) -> Result<()> {
    let (Some(limit), Some(longest)) = (limit, encoder.max_tokens()) else { return Ok(()) };
    let Some(most) = limit.most() else { return Ok(()) };
    // A word is a token or more; a token may be of many characters.
    let best = match limit.unit() {
        Unit::Tokens(_) => longest,
        Unit::Words => longest * 3 / 4,
        Unit::Characters => return Ok(()),
    };
    if most <= longest {
        return Ok(());
    }
    let unit = limit.unit().name();
    let message = format!(
        "chunks of up to {most} {unit} are longer than the encoder “{}” reads, {longest} tokens: the end of each would not be \
         found by meaning; set the limit to {best} or less",
        encoder.name()
    );
    Err(Error::new(ErrorKind::Configuration, message))
}

/// Adds the chunks of a document to a review.
pub(crate) fn add_to_review(
    review: &mut Review,
    document: &Document,
    chunks: &[Chunk],
    chunker: &dyn Chunker,
    encoder: &dyn Encoder,
) {
    review.add_document(chunker.applies_to(document));
    review.add(chunks);
    if let Some(longest) = encoder.max_tokens() {
        review.too_long += chunks.iter().filter(|chunk| encoder.count_tokens(&chunk.indexed_text()) > longest).count();
    }
}
