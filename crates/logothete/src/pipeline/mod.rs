//! The pipeline: the stages that a configuration describes, or that the user brings.

mod chunking;
mod describe;
mod encoder;
mod generator;
mod parsers;
mod reranker;
mod secret;
mod templates;
mod tesseract;

pub(crate) use chunking::{Chunking, Writing};
pub use describe::{Journey, PipelineDescription, StageDescription};
pub(crate) use generator::Equipped;
pub(crate) use parsers::{budget, settings as parse_settings};
#[cfg(feature = "http")]
pub(crate) use secret::Secret;
pub(crate) use secret::secret;
pub use templates::write_templates;
pub use tesseract::Tesseract;

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use logothete_core::chunk::{Chunk, Chunker, Review};
use logothete_core::document::{Document, Parser};
use logothete_core::prompt::Templates;
use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use logothete_encoder::CrossEncoder;
use logothete_parse::Parsers;

use crate::checking::Check;
use crate::config::{ChunkContext, Config, GeneratorRole};
use crate::generate::Generator;
use crate::reading::{Drawing, Drawn, Workers, draw_here, read_here};
use crate::search::{Leg, RerankKind, Reranker, Rule, Transform, TransformKind};
use crate::source::Content;
use crate::threads::caught;
use encoder::EncoderChoice;
use generator::Generators;
use reranker::Rerankers;

/// How documents are read, cut and encoded, and how passages are found. Cheap to clone.
///
/// The default needs nothing: chunks by structure, the embedded English encoder, a keyword leg and a vector leg.
#[derive(Clone)]
pub struct Pipeline {
    config: Arc<Config>,
    parsers: Parsers,
    /// The processes that read documents; `None` means that this one does.
    readers: Option<Arc<Workers>>,
    encoder: EncoderChoice,
    /// The user's own chunker; `None` means the one that the configuration describes.
    chunker: Option<Arc<dyn Chunker>>,
    generators: Generators,
    templates: Arc<Templates>,
    legs: Vec<Arc<dyn Leg>>,
    rerankers: Rerankers,
    /// The user's own transform of questions.
    transform: Option<Arc<dyn Transform>>,
    /// The user's own checks of claims.
    checks: Vec<Arc<dyn Check>>,
}

impl fmt::Debug for Pipeline {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Pipeline")
            .field("config", &self.config)
            .field("generators", &self.generators.names())
            .finish_non_exhaustive()
    }
}

impl Default for Pipeline {
    fn default() -> Self {
        let config = Config::default();
        // The default has no password to look up and no pointer to get wrong.
        let settings = parsers::settings(&config).unwrap_or_default();
        Self {
            parsers: Parsers::new(&settings),
            readers: None,
            encoder: EncoderChoice::default(),
            config: Arc::new(config),
            chunker: None,
            generators: Generators::default(),
            templates: Arc::default(),
            legs: Vec::new(),
            rerankers: Rerankers::default(),
            transform: None,
            checks: Vec::new(),
        }
    }
}

impl Pipeline {
    /// Creates a pipeline that a configuration describes. Nothing is sent to anyone.
    ///
    /// # Errors
    /// If a setting is invalid; the place names its table and key.
    pub fn from_config(config: &Config) -> Result<Self> {
        config.validate()?;
        config.privacy.masking()?;
        let pipeline = Self {
            parsers: Parsers::new(&parsers::settings(config)?),
            readers: None,
            encoder: EncoderChoice::new(&config.encoder, &config.privacy)?,
            config: Arc::new(config.clone()),
            chunker: None,
            generators: Generators::default(),
            templates: Arc::new(templates::read(&config.prompt.templates)?),
            legs: Vec::new(),
            rerankers: Rerankers::default(),
            transform: None,
            checks: Vec::new(),
        };
        if let EncoderChoice::Ready(encoder) = &pipeline.encoder {
            pipeline.chunking(encoder)?;
        }
        if config.search.rerank.kind == RerankKind::Cross {
            pipeline.cross_encoder()?;
        }
        Ok(pipeline)
    }

    /// Returns the configuration.
    pub fn config(&self) -> &Config {
        &self.config
    }

    /// Returns the encoder. One that is a service is asked for a vector the first time, which blocks the thread until it has
    /// responded.
    ///
    /// # Errors
    /// If the service does not respond.
    pub fn encoder(&self) -> Result<Arc<dyn Encoder>> {
        self.encoder.connect()
    }

    /// Returns the chunker. Its limits are those of the [encoder](Self::encoder).
    ///
    /// # Errors
    /// If the settings of `[chunk]` are invalid, or ask for more than the encoder reads.
    pub fn chunker(&self) -> Result<Arc<dyn Chunker>> {
        Ok(self.chunking(&self.encoder()?)?.chunker)
    }

    /// Adds the chunks of a document to a review of how documents are cut for an encoder.
    pub fn review(
        review: &mut Review,
        document: &Document,
        chunks: &[Chunk],
        chunker: &dyn Chunker,
        encoder: &dyn Encoder,
    ) {
        chunking::add_to_review(review, document, chunks, chunker, encoder);
    }

    pub(crate) fn chunking(&self, encoder: &Arc<dyn Encoder>) -> Result<Chunking> {
        let generator = match self.config.chunk.context {
            ChunkContext::Generated => self.generator(GeneratorRole::Context)?,
            ChunkContext::Headings => None,
        };
        Chunking::new(&self.config.chunk, self.chunker.clone(), encoder, generator, &self.templates)
            .map_err(|error| if error.place().is_none() { error.at("[chunk]") } else { error })
    }

    /// Parses the bytes of a file, within the limits of the configuration.
    ///
    /// # Errors
    /// As [`Parsers::parse`], and if it takes too long.
    pub fn parse(&self, name: &str, bytes: Vec<u8>) -> Result<Document> {
        self.parse_content(name, Content { bytes, media_type: None })
    }

    /// Returns a fingerprint that changes whenever the same bytes may be parsed differently.
    pub(crate) fn parse_fingerprint(&self) -> Fingerprint {
        let (pages, limits) = (self.config.parse.pages, &self.config.limits);
        let limits = format!("{pages:?} {} {}", limits.pages, limits.max_unpacked_bytes());
        Fingerprint::of([self.parsers.fingerprint().to_string(), limits])
    }

    pub(crate) fn parse_content(&self, name: &str, content: Content) -> Result<Document> {
        match &self.readers {
            Some(readers) => readers.read(&self.config, name, content),
            None => read_here(&self.parsers, &self.config, name, content),
        }
    }

    /// Parses some small files, in the same process if that is one of its own. Returns as many results, in the same order.
    pub(crate) fn parse_contents(&self, files: Vec<(String, Content)>) -> Vec<Result<Document>> {
        match &self.readers {
            Some(readers) => readers.read_all(&self.config, files),
            None => files
                .into_iter()
                .map(|(name, content)| caught(|| read_here(&self.parsers, &self.config, &name, content)))
                .collect(),
        }
    }

    /// Returns whether it can [draw](Self::draw): whether it was built with the feature `picture`.
    pub fn draws(&self) -> bool {
        cfg!(feature = "picture")
    }

    /// Draws a page of a PDF file, or a part of one, with so many pixels to a point. Needs the feature `picture`.
    ///
    /// # Errors
    /// If the file cannot be read or has no such page, or drawing takes too long.
    pub fn draw(&self, bytes: Vec<u8>, drawing: Drawing, scale: f32) -> Result<Drawn> {
        match &self.readers {
            Some(readers) => readers.draw(&self.config, bytes, drawing, scale),
            None => draw_here(&self.config, bytes, drawing, scale),
        }
    }

    /// Returns the pipeline with a program that reads documents in processes of its own, within limits of the system on memory, time and files. A file that
    /// ends its reader, or fills its memory, is an error of that file. All that the program does is to call [`serve_reader`](crate::serve_reader).
    ///
    /// A pipeline with a [parser of one's own](Self::with_parser) reads in this process, since that is only here.
    #[must_use]
    pub fn with_reader<A: Into<String>>(
        mut self,
        program: impl Into<PathBuf>,
        arguments: impl IntoIterator<Item = A>,
    ) -> Self {
        let arguments = arguments.into_iter().map(Into::into).collect();
        self.readers = self.config.parse.isolated.then(|| Arc::new(Workers::new(program.into(), arguments)));
        self
    }

    /// Returns what the processes that read documents do without here; `None` means nothing, or that none has read yet.
    pub(crate) fn reading_advice(&self) -> Option<String> {
        self.readers.as_ref()?.advice()
    }

    /// Returns whether the generator is one that takes a key of the asker's own.
    pub fn takes_key(&self) -> bool {
        self.generator(GeneratorRole::Answer)
            .ok()
            .flatten()
            .is_some_and(|equipped| equipped.generator.with_key("").is_some())
    }

    /// Returns the token that requests to a service must carry, from the variable that `token_env` in `[serve]` names; `None` if it names none.
    ///
    /// # Errors
    /// If there is no such variable, or the token could be guessed.
    pub fn serve_token(&self) -> Result<Option<String>> {
        const MIN_LENGTH: usize = 16;
        let name = &self.config.serve.token_env;
        if name.is_empty() {
            return Ok(None);
        }
        let place = "[serve] token_env";
        let token = secret(name).map_err(|error| error.at(place))?;
        if token.value.chars().count() < MIN_LENGTH {
            let message =
                format!("the token in {} could be guessed; choose {MIN_LENGTH} characters or more", token.from);
            return Err(Error::new(ErrorKind::Configuration, message).at(place));
        }
        Ok(Some(token.value))
    }

    /// Returns the pipeline with one more parser, such as your own for a new type. It is tried before those of the library.
    #[must_use]
    pub fn with_parser(mut self, parser: impl Parser + 'static) -> Self {
        self.parsers.register(parser);
        self.readers = None;
        self
    }

    /// Returns the pipeline with another encoder, such as your own.
    #[must_use]
    pub fn with_encoder(mut self, encoder: impl Encoder + 'static) -> Self {
        self.encoder = EncoderChoice::Ready(Arc::new(encoder));
        self
    }

    /// Returns the pipeline with a chunker of your own, or one of the library with settings of your own.
    #[must_use]
    pub fn with_chunker(mut self, chunker: impl Chunker + 'static) -> Self {
        self.chunker = Some(Arc::new(chunker));
        self
    }

    /// Returns the pipeline with one more way of finding passages, of your own, which takes part in every search with a weight. `[search] legs` may
    /// set another weight by its name. A leg of the same name as one of the library takes its place.
    #[must_use]
    pub fn with_leg(mut self, leg: impl Leg + 'static, weight: f32) -> Self {
        let name = leg.name().to_owned();
        self.legs.retain(|other| other.name() != name);
        self.legs.push(Arc::new(leg));
        self.configured(|config| {
            config.search.legs.entry(name).or_insert(weight);
        })
    }

    /// Returns the pipeline with rules by which a leg runs: one of them must hold for the question. `[search] when` says the same.
    #[must_use]
    pub fn with_leg_when(self, name: impl Into<String>, rules: impl IntoIterator<Item = Rule>) -> Self {
        let (name, rules) = (name.into(), rules.into_iter().collect());
        self.configured(|config| drop(config.search.when.insert(name, rules)))
    }

    /// Returns the pipeline with a transform of your own, which makes other questions of a question. They are searched for besides it.
    #[must_use]
    pub fn with_transform(mut self, transform: impl Transform + 'static) -> Self {
        self.transform = Some(Arc::new(transform));
        self.configured(|config| config.search.transform = TransformKind::Own)
    }

    /// Returns the user's own transform.
    pub(crate) fn transform(&self) -> Option<&Arc<dyn Transform>> {
        self.transform.as_ref()
    }

    /// Returns the pipeline with a reranker of your own, which looks at the best candidates of every search.
    #[must_use]
    pub fn with_reranker(mut self, reranker: impl Reranker + 'static) -> Self {
        self.rerankers.own = Some(Arc::new(reranker));
        self.configured(|config| config.search.rerank.kind = RerankKind::Own)
    }

    /// Returns the pipeline with one more check of your own, which looks at each claim of answers and of texts that are checked.
    #[must_use]
    pub fn with_check(mut self, check: impl Check + 'static) -> Self {
        self.checks.push(Arc::new(check));
        self
    }

    /// Returns the user's own checks.
    pub(crate) fn checks(&self) -> &[Arc<dyn Check>] {
        &self.checks
    }

    /// Returns the user's own legs.
    pub(crate) fn legs(&self) -> &[Arc<dyn Leg>] {
        &self.legs
    }

    /// Returns the cross-encoder of the configuration.
    pub(crate) fn cross_encoder(&self) -> Result<Arc<CrossEncoder>> {
        self.rerankers.cross(&self.config)
    }

    /// Returns the user's own reranker, or the service of the configuration.
    pub(crate) fn reranker(&self, kind: RerankKind) -> Result<Arc<dyn Reranker>> {
        self.rerankers.asked(kind, &self.config)
    }

    /// Returns the pipeline with a generator of your own. It writes answers; and contexts, if
    /// [`ChunkContext::Generated`](crate::config::ChunkContext) asks for them.
    #[must_use]
    pub fn with_generator(mut self, generator: impl Generator + 'static) -> Self {
        let generator: Arc<dyn Generator> = Arc::new(generator);
        GeneratorRole::ALL.into_iter().for_each(|role| self.generators.set(role, generator.clone()));
        self
    }

    /// Returns the pipeline with a generator of your own for one role.
    #[must_use]
    pub fn with_generator_for(mut self, role: GeneratorRole, generator: impl Generator + 'static) -> Self {
        self.generators.set(role, Arc::new(generator));
        self
    }

    /// Returns the pipeline with other templates for prompts.
    #[must_use]
    pub fn with_templates(mut self, templates: Templates) -> Self {
        self.templates = Arc::new(templates);
        self
    }

    /// Returns the templates for prompts.
    pub fn templates(&self) -> &Templates {
        &self.templates
    }

    /// Returns the name of the model that writes answers; `None` if there is none, and answers are made of sentences.
    ///
    /// # Errors
    /// If the settings are invalid, or its host is not allowed.
    pub fn model(&self) -> Result<Option<String>> {
        Ok(self.generator(GeneratorRole::Answer)?.map(|equipped| equipped.generator.name()))
    }

    /// Returns the generator for a role, with its settings; `None` if there is no model for it.
    pub(crate) fn generator(&self, role: GeneratorRole) -> Result<Option<Equipped>> {
        self.generators.get(role, &self.config)
    }

    /// Returns the pipeline with changed settings. Its parsers and its encoder stay: for other ones use
    /// [`from_config`](Self::from_config).
    ///
    /// ```
    /// use logothete::Pipeline;
    ///
    /// let pipeline = Pipeline::default().configured(|config| config.search.passages = 5);
    /// assert_eq!(pipeline.config().search.passages, 5);
    /// ```
    #[must_use]
    pub fn configured(mut self, change: impl FnOnce(&mut Config)) -> Self {
        change(Arc::make_mut(&mut self.config));
        self.generators.renew();
        self.rerankers.renew();
        self
    }
}
