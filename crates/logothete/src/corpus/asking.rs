//! Asking a corpus: extractive answers, and those that a model writes.

use std::sync::Arc;

use futures_util::{StreamExt, TryStreamExt, stream};
use logothete_core::Result;

use super::Corpus;
use crate::answer::{self, AskEvent, AskSteps, Asked, Listener, Model, PromptPreview, Reply};
use crate::config::{GeneratorRole, TransformKind};
use crate::pipeline::Equipped;
use crate::search::{SearchRequest, Searcher, Transforms};
use crate::spending::Spending;
use crate::threads::StopToken;
use crate::trace::{Recorder, TraceDetails};

impl Corpus {
    /// Answers a question, each sentence with its source; or refuses, and names what came nearest.
    ///
    /// The model of `[generator]` writes the answer from the passages that the search finds. Without a model, the answer is made of
    /// sentences of the documents; also if the model fails, and then the [note](crate::answer::Answer::note) says so.
    ///
    /// # Errors
    /// If the question is empty, the corpus is damaged, or the settings of the model are invalid.
    pub async fn ask(&self, request: impl Into<SearchRequest>) -> Result<Reply> {
        self.asked(request.into(), Listener::default()).await
    }

    /// Answers a question, and tells what happens as it happens: each stage that has ended, and the text of the answer as the model
    /// writes it. `tell` is called on threads of the corpus and must not take long.
    ///
    /// # Errors
    /// As [`ask`](Self::ask).
    pub async fn ask_streaming(
        &self,
        request: impl Into<SearchRequest>,
        tell: impl FnMut(AskEvent<'_>) + Send + 'static,
    ) -> Result<Reply> {
        self.asked(request.into(), Listener::new(tell)).await
    }

    /// Answers a question as a stream: the stages that have ended, the text as the model writes it, its claims, and last the reply. Nothing happens until the
    /// stream is polled; dropping it stops what it asked for.
    pub fn ask_steps(&self, request: impl Into<SearchRequest>) -> AskSteps {
        let (corpus, request) = (self.clone(), request.into());
        AskSteps::new(move |tell| async move { corpus.asked(request, Listener::new(tell)).await })
    }

    /// Answers several questions, in their order. Without a model, all are answered from the corpus as of one moment; with one, as many at a time as
    /// `max_concurrent` of `[generator]` says. For many questions see [`ask_batch`](Self::ask_batch).
    ///
    /// # Errors
    /// As [`ask`](Self::ask). The first question that fails ends the call.
    pub async fn ask_all<R: Into<SearchRequest>>(&self, requests: impl IntoIterator<Item = R>) -> Result<Vec<Reply>> {
        let requests: Vec<SearchRequest> = requests.into_iter().map(Into::into).collect();
        let wants_digest = requests.iter().any(|request| request.digest_wish().is_some());
        if !wants_digest && self.generator(GeneratorRole::Answer)?.is_none() {
            let spending = Arc::new(Spending::for_question(&self.opened.config().limits));
            let requests = Arc::new(requests);
            let ahead = self.ahead(&requests, Transforms::default(), &spending, rehearse_answers(&requests)).await?;
            return self.query(move |opened, view, stop| answer::ask_all(opened, view, &requests, &ahead, stop)).await;
        }
        let at_once = self.opened.config().generator.max_concurrent.max(1);
        let asked = stream::iter(requests).map(|request| self.asked(request, Listener::default()));
        asked.buffered(at_once).try_collect().await
    }

    /// Returns the prompt that [`ask`](Self::ask) would send for a question, with its number of tokens and the host that would receive
    /// it. Nothing is sent to a model. Without one, the prompt is what a model would get.
    ///
    /// # Errors
    /// As [`ask`](Self::ask).
    pub async fn preview_prompt(&self, request: impl Into<SearchRequest>) -> Result<PromptPreview> {
        let asked = Asked { request: request.into(), history: Vec::new() };
        self.preview(asked).await
    }

    pub(crate) async fn preview(&self, asked: Asked) -> Result<PromptPreview> {
        let equipped = self.generator(GeneratorRole::Answer)?;
        let spending = Arc::new(Spending::for_question(&self.opened.config().limits));
        let request = asked.request.clone().untraced();
        let ahead =
            self.ahead(std::slice::from_ref(&asked.request), Transforms::default(), &spending, move |searcher| {
                answer::find(searcher, &request, &[], &mut Recorder::new(false)).map(drop)
            });
        let ahead = ahead.await?;
        self.query(move |opened, view, stop| {
            let searcher = Searcher { opened, view, ahead: &ahead, stop };
            let found = answer::find(&searcher, &asked.request, &[], &mut Recorder::new(false))?;
            answer::preview(&opened.pipeline, &asked, &found.passages, equipped.as_ref())
        })
        .await
    }

    async fn asked(&self, request: SearchRequest, listener: Listener) -> Result<Reply> {
        let recorder = Recorder::telling(request.traced, &listener);
        let spending = Arc::new(Spending::for_question(&self.opened.config().limits));
        self.replied(Asked { request, history: Vec::new() }, spending, recorder, listener).await
    }

    /// Answers a question, with a model if there is one.
    pub(crate) async fn replied(
        &self,
        asked: Asked,
        spending: Arc<Spending>,
        recorder: Recorder,
        listener: Listener,
    ) -> Result<Reply> {
        if let Some(document) = self.document_wanted(&asked.request).await? {
            return self.summarised(document, asked, spending, recorder, listener).await;
        }
        match self.generator(GeneratorRole::Answer)? {
            None => self.extracted(asked.request, &spending, recorder, listener).await,
            Some(equipped) => self.written(asked, equipped, spending, recorder, listener).await,
        }
    }

    /// Answers a question without a model.
    async fn extracted(
        &self,
        request: SearchRequest,
        spending: &Arc<Spending>,
        recorder: Recorder,
        listener: Listener,
    ) -> Result<Reply> {
        let requests = Arc::new(vec![request]);
        let ahead = self.ahead(&requests, Transforms::default(), spending, rehearse_answers(&requests)).await?;
        let work = move |opened: &_, view: &_, stop: &_| {
            let searcher = Searcher { opened, view, ahead: &ahead, stop };
            answer::reply(&searcher, &requests[0], recorder)
        };
        let reply = self.query(work).await?;
        listener.tell(AskEvent::Text(&reply.answer.answer));
        Ok(reply)
    }

    /// Returns what is searched for besides a question, if the configuration has a model make something of it.
    async fn transformed(
        &self,
        asked: &Arc<Asked>,
        spending: &Arc<Spending>,
        mut recorder: Recorder,
    ) -> Result<(Vec<String>, Recorder)> {
        let pipeline = &self.opened.pipeline;
        let transform = asked.request.transform(&pipeline.config().search.plan());
        let equipped = match transform {
            TransformKind::None | TransformKind::Own => None,
            _ => self.generator(GeneratorRole::Rewrite)?,
        };
        let Some(equipped) = equipped else { return Ok((Vec::new(), recorder)) };
        let (asked, spending) = (asked.clone(), spending.clone());
        self.drive(&StopToken::default(), move |opened, driver, stop| {
            let model = Model { opened, driver, equipped: &equipped, spending: &spending, stop };
            let made = model.transformed(&asked.request.query, transform, &mut recorder)?;
            Ok((made.queries, recorder))
        })
        .await
    }

    /// Lets a model answer. Each view of the corpus is released before the model is asked.
    async fn written(
        &self,
        asked: Asked,
        equipped: Equipped,
        spending: Arc<Spending>,
        mut recorder: Recorder,
        listener: Listener,
    ) -> Result<Reply> {
        recorder.begin("ask", || TraceDetails::Ask { question: asked.request.query.clone() });
        let asked = Arc::new(asked);
        let (queries, back) = self.transformed(&asked, &spending, recorder).await?;
        recorder = back;
        let texts: Vec<SearchRequest> =
            std::iter::once(asked.request.clone()).chain(queries.iter().map(SearchRequest::new)).collect();
        let rehearse = {
            let (request, queries) = (asked.request.clone().untraced(), queries.clone());
            move |searcher: &Searcher<'_>| {
                answer::find(searcher, &request, &queries, &mut Recorder::new(false)).map(drop)
            }
        };
        let ahead = Arc::new(self.ahead(&texts, Transforms::default(), &spending, rehearse).await?);
        let (mut recorder, found) = {
            let (asked, ahead) = (asked.clone(), ahead.clone());
            self.query(move |opened, view, stop| {
                let searcher = Searcher { opened, view, ahead: &ahead, stop };
                match answer::find(&searcher, &asked.request, &queries, &mut recorder) {
                    Ok(found) => Ok((recorder, found)),
                    Err(error) => Err(recorder.failed(error)),
                }
            })
            .await?
        };
        if found.passages.is_empty() {
            let reply = answer::nothing_found(&asked, recorder);
            listener.tell(AskEvent::Text(&reply.answer.answer));
            return Ok(reply);
        }
        let (written, recorder, found) = {
            let (asked, listener) = (asked.clone(), listener.clone());
            self.drive(&StopToken::default(), move |opened, driver, stop| {
                let model = Model { opened, driver, equipped: &equipped, spending: &spending, stop };
                let written = model.answer(&asked, &found, &mut recorder, &listener)?;
                Ok((written, recorder, found))
            })
            .await?
        };
        self.query(move |opened, view, stop| {
            let searcher = Searcher { opened, view, ahead: &ahead, stop };
            answer::finish(&searcher, &asked, found, written, recorder, &listener)
        })
        .await
    }
}

/// Returns what rehearses some answers without a model.
fn rehearse_answers(requests: &Arc<Vec<SearchRequest>>) -> impl FnOnce(&Searcher<'_>) -> Result<()> + Send + 'static {
    let requests = requests.clone();
    move |searcher| {
        let mut rehearsed = requests.iter().map(|request| request.clone().untraced());
        rehearsed.try_for_each(|request| answer::reply(searcher, &request, Recorder::new(false)).map(drop))
    }
}
