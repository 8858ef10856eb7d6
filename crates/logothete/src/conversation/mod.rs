//! Conversations: questions that build on those before them, kept in the corpus by name.
//!
//! A follow-up becomes a question that stands alone before the search, by the generator for
//! [`Condense`](crate::config::GeneratorRole::Condense), or by rule if there is none. The last turns go into the prompt word for word,
//! older ones as a summary. `docs/format.md` describes the tables.

mod turn;

pub(crate) use turn::forgotten_answer;
pub use turn::{ConversationInfo, Turn};

use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use logothete_core::answer::{Answer, Status};
use logothete_core::prompt::{
    PastTurn, condense_prompt, condensed_question, history, plain_summary, summarise_prompt, tidy_summary,
};
use logothete_core::query::{asks_for_source, standing_alone};
use logothete_core::trace::TraceDetails;
use logothete_core::{Error, ErrorKind, Result};

use crate::answer::{AskEvent, Asked, Listener, Model, PromptPreview, Reply};
use crate::config::GeneratorRole;
use crate::corpus::Corpus;
use crate::opened::Opened;
use crate::search::SearchRequest;
use crate::spending::Spending;
use crate::storage::{StoredSummary, StoredTurn};
use crate::threads::{Driver, StopToken};
use crate::trace::Recorder;
use turn::moment;

/// A conversation of a corpus. Several processes may converse at a time, also in the same one: each sees the turns of the others.
#[derive(Clone, Debug)]
pub struct Conversation {
    corpus: Corpus,
    name: String,
}

/// What was said so far.
struct Past {
    summary: StoredSummary,
    /// The turns that are not in the summary.
    turns: Vec<Turn>,
}

impl Corpus {
    /// Returns the conversation of a name, to continue it or to begin it: it is kept from its first turn on.
    ///
    /// # Errors
    /// If the name is empty.
    pub fn conversation(&self, name: impl Into<String>) -> Result<Conversation> {
        Ok(Conversation { corpus: self.clone(), name: checked(&name.into())? })
    }

    /// Returns all conversations, the latest first.
    ///
    /// # Errors
    /// If the disk fails.
    pub async fn conversations(&self) -> Result<Vec<ConversationInfo>> {
        let list = self.drive(&StopToken::default(), |opened, _, _| opened.storage.conversations.list()).await?;
        let info = |stored: crate::storage::StoredConversation| ConversationInfo {
            name: stored.name,
            begun: moment(stored.begun),
            last: moment(stored.last),
            turns: stored.turns,
            first_question: stored.first_question,
        };
        Ok(list.into_iter().map(info).collect())
    }
}

fn checked(name: &str) -> Result<String> {
    match name.trim().is_empty() {
        true => Err(Error::new(ErrorKind::InvalidRequest, "a conversation needs a name")),
        false => Ok(name.trim().to_owned()),
    }
}

impl Conversation {
    /// Returns the name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns all turns, in order.
    ///
    /// # Errors
    /// If the disk fails.
    pub async fn turns(&self) -> Result<Vec<Turn>> {
        let name = self.name.clone();
        let work = move |opened: &Opened, _: &Driver, _: &StopToken| opened.storage.conversations.turns(&name, 1);
        let (_, turns) = self.corpus.drive(&StopToken::default(), work).await?;
        turns.into_iter().map(Turn::read).collect()
    }

    /// Asks the next question, and keeps the turn.
    ///
    /// # Errors
    /// As [`Corpus::ask`]. A question that failed is not kept.
    pub async fn ask(&self, request: impl Into<SearchRequest>) -> Result<Turn> {
        self.asked(request.into(), Listener::default()).await
    }

    /// Asks the next question, and tells what happens as it happens; see [`Corpus::ask_streaming`].
    ///
    /// # Errors
    /// As [`ask`](Self::ask).
    pub async fn ask_streaming(
        &self,
        request: impl Into<SearchRequest>,
        tell: impl FnMut(AskEvent<'_>) + Send + 'static,
    ) -> Result<Turn> {
        self.asked(request.into(), Listener::new(tell)).await
    }

    /// Returns the prompt that [`ask`](Self::ask) would send for the next question. A follow-up is made to stand alone by rule; nothing
    /// is sent, and nothing kept.
    ///
    /// # Errors
    /// As [`Corpus::ask`].
    pub async fn preview_prompt(&self, request: impl Into<SearchRequest>) -> Result<PromptPreview> {
        let mut request = request.into();
        let past = self.past().await?;
        let said: Vec<PastTurn> = past.turns.iter().map(Turn::past).collect();
        if let Some(question) = standing_alone(&request.query, &said) {
            request.query = question;
        }
        let history = history(&past.summary.text, &said);
        self.corpus.preview(Asked { request, history }).await
    }

    /// Removes the conversation. Returns `false` if it was not kept yet.
    ///
    /// # Errors
    /// If the disk fails.
    pub async fn delete(&self) -> Result<bool> {
        let name = self.name.clone();
        let work = move |opened: &Opened, _: &Driver, _: &StopToken| opened.storage.conversations.delete(&name);
        self.corpus.drive(&StopToken::default(), work).await
    }

    /// Gives the conversation another name.
    ///
    /// # Errors
    /// If the conversation was not kept yet, the name is empty or taken, or the disk fails.
    pub async fn rename(&mut self, name: impl Into<String>) -> Result<()> {
        let (from, to) = (self.name.clone(), checked(&name.into())?);
        let new = to.clone();
        let work = move |opened: &Opened, _: &Driver, _: &StopToken| opened.storage.conversations.rename(&from, &to);
        if !self.corpus.drive(&StopToken::default(), work).await? {
            let message = "a conversation is kept from its first question on, and a name belongs to one conversation; ask first, or \
                           choose another name";
            return Err(Error::new(ErrorKind::InvalidRequest, message).at(new));
        }
        self.name = new;
        Ok(())
    }

    /// Returns the whole conversation as Markdown.
    ///
    /// # Errors
    /// If the disk fails.
    pub async fn to_markdown(&self) -> Result<String> {
        let turns = self.turns().await?;
        let parts = turns.iter().map(Turn::to_markdown);
        Ok(std::iter::once(format!("# {}\n", self.name)).chain(parts).collect::<Vec<_>>().join("\n"))
    }

    /// Returns the summary of the first turns, and the turns after it.
    async fn past(&self) -> Result<Past> {
        let name = self.name.clone();
        let work = move |opened: &Opened, _: &Driver, _: &StopToken| {
            let store = &opened.storage.conversations;
            let (summary, _) = store.turns(&name, u64::MAX >> 1)?;
            store.turns(&name, summary.turns + 1)
        };
        let (summary, turns) = self.corpus.drive(&StopToken::default(), work).await?;
        Ok(Past { summary, turns: turns.into_iter().map(Turn::read).collect::<Result<_>>()? })
    }

    async fn asked(&self, mut request: SearchRequest, listener: Listener) -> Result<Turn> {
        let past = self.past().await?;
        let (question, keeps_trace) = (request.query.clone(), request.traced);
        let mut recorder = Recorder::telling(keeps_trace, &listener);
        if let Some(last) = past.turns.last().filter(|_| asks_for_source(&question)) {
            let reply = sources_of(last);
            listener.tell(AskEvent::Text(&reply.answer.answer));
            return self.keep(question, reply, past).await;
        }
        let said: Vec<PastTurn> = past.turns.iter().map(Turn::past).collect();
        let spending = Arc::new(Spending::for_question(&self.corpus.pipeline().config().limits));
        if !said.is_empty() {
            let condensed = self.condensed(&question, &said, &spending, recorder).await?;
            recorder = condensed.1;
            if let Some(alone) = condensed.0 {
                request.query = alone;
            }
        }
        let asked = Asked { request, history: history(&past.summary.text, &said) };
        let reply = self.corpus.replied(asked, spending.clone(), recorder, listener).await?;
        let past = self.summarised(past, &spending).await?;
        self.keep(question, reply, past).await
    }

    /// Returns a follow-up as a question that stands alone; `None` if it does already.
    async fn condensed(
        &self,
        question: &str,
        said: &[PastTurn],
        spending: &Arc<Spending>,
        mut recorder: Recorder,
    ) -> Result<(Option<String>, Recorder)> {
        let start = recorder.start("condense");
        let by_rule = standing_alone(question, said);
        let equipped = self.corpus.generator(GeneratorRole::Condense)?;
        let mut alone = by_rule;
        if let Some(equipped) = equipped {
            let prompt = condense_prompt(question, said, self.corpus.pipeline().templates())?;
            let spending = spending.clone();
            let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
                let model = Model { opened, driver, equipped: &equipped, spending: &spending, stop };
                let outcome = model.generate(prompt, &mut recorder, &mut |_| ());
                Ok((outcome.map(|answering| answering.text), recorder))
            };
            let (reply, back) = self.corpus.drive(&StopToken::default(), work).await?;
            recorder = back;
            // If the model fails, the rule has the word; the trace shows why.
            if let Some(condensed) = reply.ok().as_deref().and_then(condensed_question) {
                alone = Some(condensed);
            }
        }
        let alone = alone.filter(|alone| alone != question);
        if let Some(alone) = &alone {
            recorder.step(start, || TraceDetails::Condense { follow_up: question.to_owned(), question: alone.clone() });
        }
        Ok((alone, recorder))
    }

    /// Summarises the turns that are too old to be sent word for word.
    async fn summarised(&self, past: Past, spending: &Arc<Spending>) -> Result<Past> {
        let pipeline = self.corpus.pipeline();
        let config = &pipeline.config().prompt;
        let old = (past.turns.len() + 1).saturating_sub(config.history_turns);
        // Several at once, so that a model is not asked in each turn.
        if old == 0 || (old < config.history_turns && past.turns.len() < 2 * config.history_turns) {
            return Ok(past);
        }
        let max_words = config.summary_words;
        let older: Vec<PastTurn> = past.turns[..old.min(past.turns.len())].iter().map(Turn::past).collect();
        let mut text = plain_summary(&past.summary.text, &older, max_words);
        if let Some(equipped) = self.corpus.generator(GeneratorRole::Summarise)? {
            let prompt = summarise_prompt(&past.summary.text, &older, max_words, pipeline.templates())?;
            let spending = spending.clone();
            let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
                let model = Model { opened, driver, equipped: &equipped, spending: &spending, stop };
                Ok(model.generate(prompt, &mut Recorder::new(false), &mut |_| ()))
            };
            let written = self.corpus.drive(&StopToken::default(), work).await?;
            if let Ok(written) = written.as_ref().map(|written| tidy_summary(&written.text, max_words))
                && !written.is_empty()
            {
                text = written;
            }
        }
        let turns = past.summary.turns + older.len() as u64;
        let summary = StoredSummary { text, turns };
        let rest = past.turns.into_iter().skip(older.len()).collect();
        Ok(Past { summary, turns: rest })
    }

    /// Keeps a turn, and the summary of those before.
    async fn keep(&self, question: String, reply: Reply, past: Past) -> Result<Turn> {
        let answer = serde_json::to_string(&reply.answer)
            .map_err(|error| Error::new(ErrorKind::System, "the answer cannot be written as JSON").because(error))?;
        let asked = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs().cast_signed();
        let searched = reply.answer.question.clone();
        let mut stored = StoredTurn { number: 0, asked, question: question.clone(), searched, answer };
        let mut documents = reply.documents();
        if reply.answer.generator.is_some() {
            // A model may repeat what it was shown of earlier turns.
            documents.extend(past.turns.iter().flat_map(|turn| turn.reply.documents()));
        }
        let name = self.name.clone();
        let work = move |opened: &Opened, _: &Driver, _: &StopToken| {
            let store = &opened.storage.conversations;
            let documents: Vec<&str> = documents.iter().map(String::as_str).collect();
            stored.number = store.add(&name, &stored, &documents)?;
            if past.summary.turns > 0 {
                store.summarise(&name, &past.summary)?;
            }
            Ok(stored.number)
        };
        let number = self.corpus.drive(&StopToken::default(), work).await?;
        Ok(Turn { number, asked: moment(asked), question, reply })
    }
}

/// Returns the reply to a question for the sources of a turn.
fn sources_of(last: &Turn) -> Reply {
    let before = &last.reply.answer;
    let (status, text) = match before.sources.is_empty() {
        true => (Status::Refused, "The answer before has no source in the documents."),
        false => (Status::Answered, "The answer before comes from these passages:"),
    };
    let mut answer = Answer::new(&before.question, status, text);
    answer.sources.clone_from(&before.sources);
    let mut reply = last.reply.clone();
    reply.answer = answer;
    reply
}
