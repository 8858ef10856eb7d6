//! Digests of documents of a corpus.

use std::sync::Arc;

use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};

use super::Corpus;
use super::access::Sight;
use crate::answer::{AskEvent, Asked, Listener, Reply, Status};
use crate::config::{DigestConfig, GeneratorRole};
use crate::digest::{self, Digest, DigestField, DigestReport, FieldKind, WholeDocument, Writer, WrittenDigest};
use crate::opened::Opened;
use crate::search::{Ahead, SearchRequest, Searcher, Transforms};
use crate::spending::Spending;
use crate::storage::View;
use crate::threads::StopToken;
use crate::trace::{Recorder, TraceDetails};

impl Corpus {
    /// Says what whole documents tell, field by field, each statement with its place: one digest of each document; of several also one over all, and where
    /// they differ. `name` is that of a digest of the configuration; `default` needs none.
    ///
    /// The model of `[generator]` writes the digests, and each statement is held against the passages that it cites. Without a model, or if it fails,
    /// they are made of sentences of the documents. A document may be named by the end of its name.
    ///
    /// Costs reading each document once, and comparing its sentences; with a model, all of its text and the replies in tokens.
    ///
    /// # Errors
    /// If there is no such document or digest, the corpus is damaged, or the settings are invalid.
    pub async fn digest<N: Into<String>>(
        &self,
        documents: impl IntoIterator<Item = N>,
        name: &str,
    ) -> Result<DigestReport> {
        let config = self.opened.config().digest(name)?;
        let wanted: Vec<String> = documents.into_iter().map(Into::into).collect();
        self.digested(wanted, config, Arc::new(Spending::new(&self.opened.config().limits))).await
    }

    /// Makes digests with the fields of a configuration. Each view of the corpus is released before the model is asked.
    pub(crate) async fn digested(
        &self,
        wanted: Vec<String>,
        config: DigestConfig,
        spending: Arc<Spending>,
    ) -> Result<DigestReport> {
        if wanted.is_empty() {
            return Err(Error::new(ErrorKind::InvalidRequest, "a digest needs the name of a document"));
        }
        let documents = Arc::new(self.query(move |_, view, _| read(view, &wanted)).await?);
        let requests: Vec<SearchRequest> = config
            .fields
            .iter()
            .filter(|field| !field.question.is_empty() && field.kind == FieldKind::Answer)
            .map(|field| SearchRequest::new(&field.question))
            .collect();
        let ahead = self.ahead(&requests, Transforms::default(), &spending, |_| Ok(())).await?;
        let equipped = self.generator(GeneratorRole::Digest)?;
        let sight = self.sight();
        self.drive(&StopToken::default(), move |opened, driver, stop| {
            let maker = Maker { opened, sight, ahead: &ahead, stop, config: &config };
            let model = equipped.as_ref();
            let model =
                model.map(|equipped| Writer { opened, driver, equipped, spending: &spending, stop, config: &config });
            let mut digests = Vec::with_capacity(documents.len());
            for document in documents.iter() {
                digests.push(match &model {
                    Some(model) => {
                        let written = model.written(document);
                        maker.completed(document, &model.name(), written)?
                    }
                    None => maker.of_sentences(document, &config.fields)?,
                });
            }
            let (mut together, mut differences) = (None, Vec::new());
            if digests.len() > 1 {
                differences = digest::differing(opened, &digests, &documents)?;
                let all = WholeDocument::together(&documents);
                together = Some(match &model {
                    Some(model) => {
                        let written = model.over_all(&all, &digests);
                        maker.completed(&all, &model.name(), written)?
                    }
                    None => maker.of_sentences(&all, &config.fields)?,
                });
            }
            let view = maker.sight.view(opened)?;
            digests.iter_mut().chain(&mut together).try_for_each(|digest| digest::pinpoint(&view, digest))?;
            digest::pinpoint_differences(&view, &mut differences)?;
            Ok(DigestReport::new(digests, together, differences))
        })
        .await
    }
}

impl Corpus {
    /// Returns the document that a question wants a digest of, if it does.
    pub(super) async fn document_wanted(&self, request: &SearchRequest) -> Result<Option<String>> {
        let Some(wish) = request.digest_wish() else { return Ok(None) };
        self.query(move |_, view, _| {
            let mut infos = view.document_infos()?;
            let at = wish.document(infos.iter().map(|info| (info.document.as_str(), info.title.as_deref())));
            Ok(at.map(|at| infos.swap_remove(at).document))
        })
        .await
    }

    /// Answers a question that wants to know what a whole document says with a summary of it, and says so.
    pub(super) async fn summarised(
        &self,
        document: String,
        asked: Asked,
        spending: Arc<Spending>,
        mut recorder: Recorder,
        listener: Listener,
    ) -> Result<Reply> {
        let question = asked.request.query;
        recorder.begin("ask", || TraceDetails::Ask { question: question.clone() });
        let start = recorder.start("digest");
        let fields = DigestField::defaults().into_iter().filter(|field| field.kind == FieldKind::Summary).collect();
        let config = DigestConfig { fields, ..DigestConfig::default() };
        let mut report = match self.digested(vec![document.clone()], config, spending).await {
            Ok(report) => report,
            Err(error) => return Err(recorder.failed(error)),
        };
        let digest = report.digests.remove(0);
        let statements = digest.statements().count();
        recorder.step(start, || TraceDetails::Digest { document: document.clone(), statements });
        let mut answer = digest.into_answer(question);
        if answer.status == Status::Refused {
            answer.answer = format!("The corpus holds no running text of {document}.");
        }
        let told = format!(
            "The question is about a whole document, so this is a summary of {document}. A digest of it tells more: logothete digest {document}"
        );
        answer.note = Some(answer.note.map_or(told.clone(), |note| format!("{note} {told}")));
        listener.tell(AskEvent::Text(&answer.answer));
        Ok(Reply::new(answer, recorder.finish()))
    }
}

/// Makes digests of sentences, each with a view of its own.
struct Maker<'a> {
    opened: &'a Opened,
    sight: Sight,
    ahead: &'a Ahead,
    stop: &'a StopToken,
    config: &'a DigestConfig,
}

impl Maker<'_> {
    fn of_sentences(&self, document: &WholeDocument, fields: &[DigestField]) -> Result<Digest> {
        let view = self.sight.view(self.opened)?;
        let searcher = Searcher { opened: self.opened, view: &view, ahead: self.ahead, stop: self.stop };
        digest::from_sentences(&searcher, fields, document)
    }

    /// Completes what a model wrote: what it left out, or all if it failed, is made of sentences of the document.
    fn completed(&self, document: &WholeDocument, name: &str, written: Result<WrittenDigest>) -> Result<Digest> {
        match written {
            Ok(WrittenDigest { digest, missing }) if missing.is_empty() => Ok(digest),
            Ok(WrittenDigest { digest, missing }) => {
                let left_out = self.config.fields.iter().filter(|field| missing.contains(&field.name));
                let more = self.of_sentences(document, &left_out.cloned().collect::<Vec<_>>())?;
                let mut all = digest.with_fields_of(&more);
                all.notes.push(format!(
                    "{name} wrote nothing for {}. Sentences of the document stand there instead.",
                    missing.join(", ")
                ));
                Ok(all)
            }
            Err(error) if error.kind() == ErrorKind::Cancelled => Err(error),
            Err(error) => {
                let mut digest = self.of_sentences(document, &self.config.fields)?;
                let note = format!("{name} gave no digest ({error}). These are sentences of the document instead.");
                digest.notes.push(note);
                Ok(digest)
            }
        }
    }
}

/// Reads the documents of some names, each once.
fn read(view: &View, wanted: &[String]) -> Result<Vec<WholeDocument>> {
    named_documents(view, wanted)?.iter().map(|name| WholeDocument::read(view, name)).collect()
}

/// Returns the whole names of some documents, each once.
pub(super) fn named_documents(view: &View, wanted: &[String]) -> Result<Vec<String>> {
    let known = view.document_names()?;
    let mut found: Vec<String> = Vec::new();
    for name in wanted {
        let Some(document) = document_named(&known, name) else {
            let hint = closest(name, known.iter().cloned()).map(|near| format!("; did you mean {near}?"));
            let message = format!("the corpus has no document of this name{}", hint.unwrap_or_default());
            return Err(Error::new(ErrorKind::NotFound, message).at(name));
        };
        if !found.contains(document) {
            found.push(document.clone());
        }
    }
    Ok(found)
}

/// Returns the document that a name means: its whole name, or the part behind the last slash.
pub(crate) fn document_named<'a>(known: &'a [String], name: &str) -> Option<&'a String> {
    let ends = |known: &&String| known.rsplit('/').next() == Some(name);
    known.iter().find(|known| *known == name).or_else(|| known.iter().find(ends))
}
