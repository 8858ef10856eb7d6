//! Answers that a model writes from the passages of a search.

use std::time::Instant;

use logothete_core::chunk::ChunkId;
use logothete_core::keyword::Query;
use logothete_core::prompt::{
    Author, Message, Prompt, REFUSAL, condensed_question, hypothetical_passage, hypothetical_prompt, phrasings_prompt,
    repair_message, rewrite_prompt, split_prompt, split_questions,
};
use logothete_core::query::question_parts;
use logothete_core::search::{Passage, TransformKind, merged};
use logothete_core::trace::{ClaimRecord, TraceDetails};
use logothete_core::verify::Judge;
use logothete_core::{Result, TokenUsage};
use serde::Serialize;

use super::cite;
use super::extractive::{self, MAX_NEAREST};
use super::reading;
use super::streamed::StreamedClaims;
use super::{Answer, AskEvent, Claim, Listener, Reply, Status, UnsupportedPolicy};
use crate::checking::object_to_answer;
use crate::generate::{Answering, GenerationRequest, Job, Runner, usual_tokens};
use crate::opened::Opened;
use crate::pipeline::{Equipped, Pipeline};
use crate::search::{Found, SearchRequest, Searcher, Transformed};
use crate::spending::Spending;
use crate::threads::{Driver, StopToken};
use crate::trace::{Recorder, milliseconds};

/// A question, and what was said before it.
#[derive(Clone, Debug)]
pub(crate) struct Asked {
    pub request: SearchRequest,
    /// The summary and the last turns of the conversation.
    pub history: Vec<Message>,
}

/// The prompt for a question, as it would be sent. Nothing was sent.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PromptPreview {
    /// The question.
    pub question: String,
    /// The messages.
    pub messages: Vec<PreviewMessage>,
    /// The number of tokens of all messages.
    pub tokens: u64,
    /// The number of tokens that are kept for the reply.
    pub reply_tokens: u64,
    /// The number of tokens that the model reads and writes together.
    pub context_tokens: u64,
    /// The passages in it, in the order of their markers.
    pub passages: Vec<Passage>,
    /// The documents of passages of which only the first sentences are in it.
    pub shortened: Vec<String>,
    /// The documents of passages that had no room, or that others contain.
    pub left_out: Vec<String>,
    /// The generator that would get it; `None` if no model is configured.
    pub generator: Option<String>,
    /// The host that would receive it; `None` for a generator on this machine.
    pub host: Option<String>,
    /// The highest cost, at the prices of the configuration; `None` without prices.
    pub max_cost: Option<f64>,
}

/// A message that would be sent.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PreviewMessage {
    /// The message.
    #[serde(flatten)]
    pub message: Message,
    /// The number of its tokens, by the generator's estimate.
    pub tokens: u64,
}

/// What the searches for a question found together.
pub(crate) struct Gathered {
    pub passages: Vec<Passage>,
    /// The parts of a question that asks several things, each with the chunks that were found for it.
    pub parts: Vec<(String, Vec<ChunkId>)>,
    /// What did not work and was left out.
    pub notes: Vec<String>,
}

/// Finds the passages for a question and for other queries. Those of its parts, if it has several, and of the queries take turns.
pub(crate) fn find(
    searcher: &Searcher<'_>,
    request: &SearchRequest,
    queries: &[String],
    recorder: &mut Recorder,
) -> Result<Gathered> {
    let question = request.query.as_str();
    let Found { passages, mut notes, .. } = searcher.find(&Query::plain(question), request, recorder)?;
    let mut lists = vec![passages];
    let start = recorder.start("split");
    let parts = question_parts(question).into_iter().map(|part| part.question.into_owned());
    let mut parts: Vec<String> = parts.collect();
    match parts.len() > 1 {
        true => {
            recorder.step(start, || TraceDetails::Split { parts: parts.clone() });
        }
        false => parts.clear(),
    }
    let mut by_part = Vec::with_capacity(parts.len());
    for (at, query) in parts.iter().chain(queries).enumerate() {
        let found = searcher.find(&Query::plain(query), request, recorder)?;
        extractive::add_notes(&mut notes, found.notes);
        if at < parts.len() {
            by_part.push((query.clone(), found.passages.iter().map(|passage| passage.chunk.clone()).collect()));
        }
        lists.push(found.passages);
    }
    let count = lists[0].len();
    // Parts of the question must all be heard, whatever else is searched for.
    Ok(Gathered { passages: merged(lists, TransformKind::Split, count), parts: by_part, notes })
}

/// Returns what would be sent for a question.
pub(crate) fn preview(
    pipeline: &Pipeline,
    asked: &Asked,
    passages: &[Passage],
    equipped: Option<&Equipped>,
) -> Result<PromptPreview> {
    let mut made = reading::prompt(pipeline, asked, passages, Vec::new(), equipped)?;
    if let Some(equipped) = equipped {
        made.prompt = equipped.as_sent(made.prompt);
    }
    let config = equipped.map_or(&pipeline.config().generator, |equipped| &equipped.config);
    let count = |text: &str| equipped.map_or_else(|| usual_tokens(text), |own| own.generator.count_tokens(text));
    let names = |all: &[usize]| all.iter().map(|at| passages[*at].location.document.clone()).collect();
    let cost = config.price(TokenUsage { sent: made.tokens, received: config.max_tokens });
    Ok(PromptPreview {
        question: asked.request.query.clone(),
        tokens: made.tokens,
        reply_tokens: config.max_tokens,
        context_tokens: config.context_tokens,
        passages: made.passages.iter().map(|at| passages[*at].clone()).collect(),
        shortened: names(&made.shortened),
        left_out: names(&made.left_out),
        generator: equipped.map(|equipped| equipped.generator.name()),
        host: equipped.and_then(|equipped| equipped.generator.host()),
        max_cost: (cost > 0.0).then_some(cost),
        messages: made
            .prompt
            .messages
            .into_iter()
            .map(|message| PreviewMessage { tokens: count(&message.content), message })
            .collect(),
    })
}

/// What a model wrote, or why it did not.
pub(crate) struct Written {
    pub outcome: Result<Answering>,
    /// The passages that markers mean, in their order.
    pub passages: Vec<Passage>,
    pub generator: String,
    /// The parts of the question that were answered one by one; none if it was answered as a whole.
    pub parts: Vec<String>,
}

/// A model at work for a corpus.
pub(crate) struct Model<'a> {
    pub opened: &'a Opened,
    pub driver: &'a Driver,
    pub equipped: &'a Equipped,
    /// The budget of the question.
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
}

impl Model<'_> {
    /// Returns what the model makes of a question before the search. If it fails, nothing, and why.
    ///
    /// # Errors
    /// If a template fails.
    pub(crate) fn transformed(
        &self,
        question: &str,
        transform: TransformKind,
        recorder: &mut Recorder,
    ) -> Result<Transformed> {
        let templates = self.opened.pipeline.templates();
        let prompt = match transform {
            TransformKind::Rewrite => rewrite_prompt(question, templates)?,
            TransformKind::Phrasings => phrasings_prompt(question, templates)?,
            TransformKind::Split => split_prompt(question, templates)?,
            TransformKind::Hypothetical => hypothetical_prompt(question, templates)?,
            _ => return Ok(Transformed::default()),
        };
        let (start, started) = (recorder.start("transform"), Instant::now());
        let reply = match self.generate(prompt, recorder, &mut |_| ()) {
            Ok(reply) => reply,
            Err(error) => {
                let name = self.equipped.generator.name();
                let note = format!("{name} made nothing of the question ({error}); it was searched as it is.");
                return Ok(Transformed { note: Some(note), ..Transformed::default() });
            }
        };
        let mut queries = match transform {
            TransformKind::Split | TransformKind::Phrasings => split_questions(&reply.text),
            TransformKind::Hypothetical => hypothetical_passage(&reply.text).into_iter().collect(),
            _ => condensed_question(&reply.text).into_iter().collect(),
        };
        // A query without a word to search for is no query.
        queries.retain(|query| query != question && Query::plain(query).has_words());
        let record = || TraceDetails::Transform { kind: transform.name().to_owned(), queries: queries.clone() };
        recorder.step(start, record);
        let usage = if reply.cached { TokenUsage::default() } else { reply.usage };
        Ok(Transformed { queries, note: None, usage, took_ms: milliseconds(started) })
    }

    /// Sends a prompt for an answer. The text is told as it comes, and each claim when it has ended and was held against its sources.
    pub(super) fn stream(
        &self,
        prompt: Prompt,
        asked: &Asked,
        passages: &[Passage],
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Answering> {
        if !listener.is_some() {
            return self.generate(prompt, recorder, &mut |_| ());
        }
        let (judge, checks) = (Judge::new(&*self.opened.encoder), self.opened.pipeline.checks());
        let mut claims = StreamedClaims::new(&asked.request.query, passages.to_vec(), judge, checks);
        let outcome = self.generate(prompt, recorder, &mut |text| {
            listener.tell(AskEvent::Text(text));
            claims.add(text, listener);
        });
        if outcome.is_ok() {
            claims.end(listener);
        }
        outcome
    }

    /// Returns a reply in which the model was told what its sources do not bear out, or the first one if that has no fewer faults.
    pub(super) fn repaired(
        &self,
        first: Answering,
        mut prompt: Prompt,
        asked: &Asked,
        passages: &[Passage],
        recorder: &mut Recorder,
    ) -> Result<Answering> {
        let judge = Judge::new(&*self.opened.encoder);
        let faults = |reply: &str| -> Result<Vec<Claim>> {
            let mut answer = Answer::from_reply(&asked.request.query, reply, passages);
            answer.judge(passages, &judge)?;
            object_to_answer(self.opened.pipeline.checks(), &mut answer);
            answer.claims.retain(|claim| claim.is_judged() && !claim.verdict.is_borne_out());
            Ok(answer.claims)
        };
        let problems = faults(&first.text)?;
        if problems.is_empty() {
            return Ok(first);
        }
        let named = problems.iter().map(|claim| {
            let why = claim.reason.as_deref().unwrap_or("no source is cited for it");
            format!("- {} ({}: {why})", claim.text, claim.verdict)
        });
        let named: Vec<String> = named.collect();
        prompt.messages.push(Message { author: Author::Assistant, content: first.text.clone() });
        prompt.messages.push(repair_message(&named.join("\n"), self.opened.pipeline.templates())?);
        // A model that fails the second time has answered once.
        let Ok(second) = self.generate(prompt, recorder, &mut |_| ()) else { return Ok(first) };
        let better = faults(&second.text)?.len() < problems.len();
        let mut usage = first.usage;
        usage += second.usage;
        Ok(Answering { usage, ..if better { second } else { first } })
    }

    /// Sends a prompt, and records what came of it.
    pub(crate) fn generate(
        &self,
        prompt: Prompt,
        recorder: &mut Recorder,
        show: &mut (dyn FnMut(&str) + Send),
    ) -> Result<Answering> {
        let Equipped { generator, config, mask } = self.equipped;
        let start = recorder.start("generate");
        let mut request = GenerationRequest::new(prompt);
        request.parameters = config.parameters();
        let sent = request.prompt.messages.iter().map(|message| generator.count_tokens(&message.content)).sum();
        let expected = TokenUsage { sent, received: config.max_tokens };
        // It is about many documents. An entry without an owner goes when any document is forgotten.
        let job = Job { request, owner: String::new(), expected };
        let (cache, limits) = (&*self.opened.storage.cache, &self.opened.config().limits);
        let mask = mask.as_ref();
        let runner = Runner { generator, cache, config, limits, mask, spending: self.spending, stop: self.stop };
        let outcome = self.driver.wait(runner.answer(&job, show));
        let details = |answering: Option<&Answering>| TraceDetails::Generate {
            generator: generator.name(),
            host: generator.host(),
            cached: answering.is_some_and(|answering| answering.cached),
            retries: answering.map_or(0, |answering| answering.retries),
            reply: answering.map(|answering| answering.text.clone()).unwrap_or_default(),
            broken: answering.and_then(|answering| answering.broken.as_ref()).map(ToString::to_string),
            cost: answering.map(|answering| config.price(answering.usage)).filter(|cost| *cost > 0.0),
        };
        match &outcome {
            Ok(answering) => recorder.spent_step(start, answering.usage, || details(Some(answering))),
            Err(error) => recorder.failed_step(start, error, || details(None)),
        }
        outcome
    }
}

/// Makes the answer of what the model wrote. If it wrote nothing, the answer is made of sentences of the documents, and says so.
pub(crate) fn finish(
    searcher: &Searcher<'_>,
    asked: &Asked,
    found: Gathered,
    written: Written,
    mut recorder: Recorder,
    listener: &Listener,
) -> Result<Reply> {
    let Gathered { passages, notes, .. } = found;
    let answered = answer(searcher, asked, &passages, written, &mut recorder, listener);
    let (answer, trace) = recorder.attach(answered)?;
    Ok(Reply { passages, notes, ..Reply::new(answer, trace) })
}

fn answer(
    searcher: &Searcher<'_>,
    asked: &Asked,
    found: &[Passage],
    written: Written,
    recorder: &mut Recorder,
    listener: &Listener,
) -> Result<Answer> {
    let answering = match written.outcome {
        Ok(answering) => answering,
        Err(error) => {
            let mut answer = extractive::answer(searcher, &asked.request, recorder)?;
            answer.note = Some(format!(
                "{} gave no answer ({error}). These are sentences of the documents instead.",
                written.generator
            ));
            listener.tell(AskEvent::Text(&answer.answer));
            return Ok(answer);
        }
    };
    let start = recorder.start("check");
    let mut answer = Answer::from_reply(&asked.request.query, &answering.text, &written.passages);
    answer.judge(&written.passages, &Judge::new(&*searcher.opened.encoder))?;
    let objections = object_to_answer(searcher.opened.pipeline.checks(), &mut answer);
    let policy = searcher.opened.config().answer.unsupported;
    settle(policy, &mut answer, objections);
    answer.parts = reading::parts_of(&answer, &written.parts);
    if answer.status == Status::Refused {
        answer.nearest = found.iter().take(MAX_NEAREST).cloned().collect();
    }
    cite::pinpoint(searcher.view, &mut answer.sources)?;
    recorder.step(start, || {
        let record = |claim: &Claim| ClaimRecord {
            verdict: claim.verdict,
            support: claim.support,
            reason: claim.reason.clone(),
        };
        TraceDetails::Check { claims: answer.claims.iter().map(record).collect() }
    });
    answer.tokens = answering.usage;
    answer.generator = Some(written.generator);
    if let Some(error) = answering.broken {
        answer.incomplete = true;
        answer.note = Some(format!("The reply broke off: {error}"));
    }
    if policy != UnsupportedPolicy::Flag {
        listener.tell(AskEvent::Text(&answer.answer));
    }
    Ok(answer)
}

/// Does with claims that their sources do not bear out what the settings say.
///
/// `objections` is the number of claims that checks of the user's own object to.
pub(super) fn settle(policy: UnsupportedPolicy, answer: &mut Answer, objections: usize) {
    let unsupported = answer.claims.iter().filter(|claim| claim.is_unsupported()).count();
    if unsupported == 0 || answer.status == Status::Refused {
        return;
    }
    let sentences = |count: usize| if count == 1 { "1 sentence".to_owned() } else { format!("{count} sentences") };
    let is_by_checks = objections >= unsupported;
    match policy {
        UnsupportedPolicy::Drop => {
            let dropped = answer.drop_unsupported();
            let why = if is_by_checks { "a check objects to" } else { "the sources do not bear out" };
            answer.note = Some(format!("{} left out that {why}.", sentences(dropped)));
            if answer.status == Status::Refused {
                REFUSAL.clone_into(&mut answer.answer);
            }
        }
        UnsupportedPolicy::Refuse => {
            answer.status = Status::Refused;
            let count = sentences(unsupported);
            answer.answer = match is_by_checks {
                true => format!("There is an answer, but a check objects to {count} of it; it is not shown."),
                false => {
                    format!("The model answered, but its sources do not bear out {count}; the answer is not shown.")
                }
            };
            answer.sources.clear();
        }
        _ => {}
    }
}

/// Returns the reply to a question for which nothing was found; the model is not asked.
pub(crate) fn nothing_found(asked: &Asked, recorder: Recorder) -> Reply {
    Reply::new(extractive::refusal(&asked.request.query, Vec::new()), recorder.finish())
}
