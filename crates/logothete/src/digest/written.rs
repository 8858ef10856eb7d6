//! A digest that a model writes: part by part, within its context.

use std::ops::Range;

use logothete_core::digest::{Digest, ReplyFields, fields_of_reply};
use logothete_core::prompt::{AnswerSettings, DigestMaterial, Prompt, digest_prompt};
use logothete_core::search::Passage;
use logothete_core::verify::Judge;
use logothete_core::{Error, ErrorKind, Result, TokenUsage};

use super::WholeDocument;
use crate::config::{DigestConfig, DigestMethod};
use crate::generate::{GenerationRequest, Job, Runner};
use crate::opened::Opened;
use crate::pipeline::Equipped;
use crate::spending::Spending;
use crate::threads::{Driver, StopToken};

/// A digest of a model, and the names of the fields that it left out.
pub(crate) struct WrittenDigest {
    pub digest: Digest,
    pub missing: Vec<String>,
}

/// A model at work on digests.
pub(crate) struct Writer<'a> {
    pub opened: &'a Opened,
    pub driver: &'a Driver,
    pub equipped: &'a Equipped,
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
    pub config: &'a DigestConfig,
}

impl Writer<'_> {
    /// Returns the name of the model.
    pub(crate) fn name(&self) -> String {
        self.equipped.generator.name()
    }

    /// Returns the digest of a document that the model writes.
    ///
    /// # Errors
    /// If the model fails, a limit is reached, or its context has no room.
    pub(crate) fn written(&self, document: &WholeDocument) -> Result<WrittenDigest> {
        let (reply, tokens) = match self.config.method {
            DigestMethod::Combine => self.combined(document)?,
            DigestMethod::Refine => self.refined(document)?,
        };
        self.read(document, &reply, tokens)
    }

    /// Returns one digest of the replies about several documents, whose passages follow each other in `document`.
    ///
    /// # Errors
    /// As [`written`](Self::written).
    pub(crate) fn over_all(&self, document: &WholeDocument, digests: &[Digest]) -> Result<WrittenDigest> {
        let notes: Vec<String> = digests.iter().map(|digest| as_note(digest, &document.passages)).collect();
        let (reply, tokens) = self.joined(document, notes, TokenUsage::default())?;
        self.read(document, &reply, tokens)
    }

    fn read(&self, document: &WholeDocument, reply: &str, tokens: TokenUsage) -> Result<WrittenDigest> {
        let judge = Judge::new(&*self.opened.encoder);
        let ReplyFields { fields, missing, .. } =
            fields_of_reply(reply, &self.config.fields, &document.passages, &judge)?;
        let mut digest = Digest::new(&document.name, document.title.clone());
        fields.into_iter().for_each(|field| digest.add(field));
        (digest.tokens, digest.generator) = (tokens, Some(self.name()));
        Ok(WrittenDigest { digest, missing })
    }

    /// Reads parts of the document, several at a time, and joins what was said of them.
    fn combined(&self, document: &WholeDocument) -> Result<(String, TokenUsage)> {
        let parts = self.parts(document)?;
        let prompt = |at: usize| {
            let part: Range<usize> = parts[at].clone();
            let material = DigestMaterial { first: part.start, ..self.material(document, &document.passages[part]) };
            self.prompt(material).map(|(prompt, _, _)| prompt)
        };
        let (notes, tokens) = self.replies(document, parts.len(), prompt)?;
        self.joined(document, notes, tokens)
    }

    /// Returns the ranges of passages that fit into one prompt each.
    fn parts(&self, document: &WholeDocument) -> Result<Vec<Range<usize>>> {
        let (mut parts, mut from) = (Vec::new(), 0);
        while from < document.passages.len() {
            let rest = &document.passages[from..];
            let (_, _, taken) = self.prompt(DigestMaterial { first: from, ..self.material(document, rest) })?;
            let taken = taken.max(1);
            parts.push(from..from + taken);
            from += taken;
        }
        Ok(parts)
    }

    /// Joins notes until one is left.
    fn joined(
        &self,
        document: &WholeDocument,
        mut notes: Vec<String>,
        mut tokens: TokenUsage,
    ) -> Result<(String, TokenUsage)> {
        while notes.len() > 1 {
            let (mut groups, mut from) = (Vec::new(), 0);
            while from < notes.len() {
                let material = DigestMaterial { notes: &notes[from..], ..self.material(document, &[]) };
                let taken = self.prompt(material)?.1.max(1);
                groups.push(from..from + taken);
                from += taken;
            }
            // Where no two have room together, they stand one after the other.
            if groups.len() == notes.len() {
                return Ok((notes.join("\n"), tokens));
            }
            let prompt = |at: usize| {
                let group: Range<usize> = groups[at].clone();
                let material = DigestMaterial { notes: &notes[group], ..self.material(document, &[]) };
                self.prompt(material).map(|(prompt, _, _)| prompt)
            };
            let (joined, more) = self.replies(document, groups.len(), prompt)?;
            tokens += more;
            notes = joined;
        }
        Ok((notes.pop().unwrap_or_default(), tokens))
    }

    /// Reads the document part after part, each with what was said so far.
    fn refined(&self, document: &WholeDocument) -> Result<(String, TokenUsage)> {
        let (mut notes, mut tokens, mut from) = (Vec::new(), TokenUsage::default(), 0);
        while from < document.passages.len() {
            let rest = &document.passages[from..];
            let material = DigestMaterial { notes: &notes, first: from, ..self.material(document, rest) };
            let (prompt, _, taken) = self.prompt(material)?;
            if taken == 0 {
                let message = "what was said of the document so far leaves no room for more of it in the context of the model; set method = \"combine\", \
                               or a larger context_tokens";
                return Err(Error::new(ErrorKind::Configuration, message).at("[generator] context_tokens"));
            }
            let (mut replies, more) = self.replies(document, 1, |_| Ok(prompt.clone()))?;
            tokens += more;
            notes = replies.pop().into_iter().collect();
            from += taken;
        }
        Ok((notes.pop().unwrap_or_default(), tokens))
    }

    fn material<'a>(&self, document: &'a WholeDocument, passages: &'a [Passage]) -> DigestMaterial<'a> {
        let title = document.title.as_deref().unwrap_or(&document.name);
        DigestMaterial { title, notes: &[], passages, first: 0 }
    }

    /// Returns a prompt, and how many notes and passages it holds.
    fn prompt(&self, material: DigestMaterial<'_>) -> Result<(Prompt, usize, usize)> {
        let Equipped { generator, config, .. } = self.equipped;
        let mut settings = AnswerSettings::default();
        (settings.context_tokens, settings.reply_tokens) = (config.context_tokens, config.max_tokens);
        let count = |text: &str| generator.count_tokens(text);
        let templates = self.opened.pipeline.templates();
        let made = digest_prompt(&self.config.fields, material, templates, &settings, &count)?;
        Ok((made.prompt, made.notes, made.passages))
    }

    /// Sends prompts, several at a time, and returns the replies in their order.
    fn replies(
        &self,
        document: &WholeDocument,
        count: usize,
        prompt: impl Fn(usize) -> Result<Prompt>,
    ) -> Result<(Vec<String>, TokenUsage)> {
        let Equipped { generator, config, mask } = self.equipped;
        let job = |at: usize| {
            let mut request = GenerationRequest::new(prompt(at)?);
            request.parameters = config.parameters();
            let sent = generator.count_tokens(&request.prompt.text());
            let expected = TokenUsage { sent, received: config.max_tokens };
            Ok(Job { request, owner: document.name.clone(), expected })
        };
        let (cache, limits) = (&*self.opened.storage.cache, &self.opened.config().limits);
        let mask = mask.as_ref();
        let runner = Runner { generator, cache, config, limits, mask, spending: self.spending, stop: self.stop };
        let (mut texts, mut tokens) = (Vec::new(), TokenUsage::default());
        for outcome in runner.run(self.driver, count, job)? {
            let Some(reply) = outcome? else {
                self.spending.check()?;
                return Err(Error::new(ErrorKind::Cancelled, "the digest was stopped"));
            };
            tokens += reply.usage;
            texts.push(reply.text);
        }
        Ok((texts, tokens))
    }
}

/// Returns a digest as a reply about it would be, with markers of passages of several documents.
fn as_note(digest: &Digest, passages: &[Passage]) -> String {
    let marker = |marker: &usize| {
        let source = digest.sources.iter().find(|source| source.marker == *marker)?;
        let holds = |passage: &Passage| {
            passage.location.document == source.location.document
                && passage.location.span.contains(source.location.span)
        };
        Some(format!("[{}]", passages.iter().position(holds)? + 1))
    };
    let mut note = digest.title.clone().unwrap_or_else(|| digest.document.clone());
    for field in &digest.fields {
        note.push_str(&format!("\n## {}\n", field.name));
        for statement in &field.statements {
            let label = statement.label.as_ref().map(|label| format!("{label}: ")).unwrap_or_default();
            let markers: String = statement.claim.citations.iter().filter_map(marker).collect();
            note.push_str(&format!("- {label}{} {markers}\n", statement.claim.text));
        }
    }
    note
}
