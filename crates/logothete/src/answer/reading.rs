//! How a model reads the passages: all at once, each alone, one after the other, or for each part of the question.

use logothete_core::prompt::{
    AnswerPrompt, AnswerSettings, PastTurn, REFUSAL, Reading, answer_prompt, combine_prompt, refine_prompt,
};
use logothete_core::search::Passage;
use logothete_core::trace::TraceDetails;
use logothete_core::{Error, ErrorKind, Result, TokenUsage};

use super::model::{Asked, Gathered, Model, Written};
use super::{Answer, AnsweredPart, AskEvent, Listener, Status, UnsupportedPolicy};
use crate::generate::{Answering, GenerationRequest, Job, Runner, usual_tokens};
use crate::pipeline::{Equipped, Pipeline};
use crate::trace::{Recorder, Started};

/// Returns the prompt for a question from some passages, whose markers count from 1 if none are given.
pub(super) fn prompt(
    pipeline: &Pipeline,
    asked: &Asked,
    passages: &[Passage],
    markers: Vec<usize>,
    equipped: Option<&Equipped>,
) -> Result<AnswerPrompt> {
    let settings = settings(pipeline, markers, equipped);
    let count = |text: &str| match equipped {
        Some(equipped) => equipped.generator.count_tokens(text),
        None => usual_tokens(text),
    };
    answer_prompt(&asked.request.query, &asked.history, passages, pipeline.templates(), &settings, &count)
}

fn settings(pipeline: &Pipeline, markers: Vec<usize>, equipped: Option<&Equipped>) -> AnswerSettings {
    let config = pipeline.config();
    let mut settings = config.prompt.answers(equipped.map_or(&config.generator, |equipped| &equipped.config));
    settings.markers = markers;
    settings
}

/// Returns the parts of an answer that stand under the lines of their questions.
pub(super) fn parts_of(answer: &Answer, questions: &[String]) -> Vec<AnsweredPart> {
    let mut parts: Vec<(String, Vec<&str>)> = Vec::new();
    for line in answer.answer.lines() {
        if questions.iter().any(|question| question == line.trim()) {
            parts.push((line.trim().to_owned(), Vec::new()));
        } else if let Some((_, lines)) = parts.last_mut() {
            lines.push(line);
        }
    }
    let part = |(question, lines): (String, Vec<&str>)| {
        let text = lines.join("\n").trim().to_owned();
        let status = if text.is_empty() || text == REFUSAL { Status::Refused } else { Status::Answered };
        AnsweredPart::new(question, status, text)
    };
    parts.into_iter().map(part).collect()
}

impl Model<'_> {
    /// Lets the model answer from passages, in the way that the configuration says. The reply is told to the listener as it comes.
    ///
    /// # Errors
    /// If there is no prompt: a template fails, or the context has no room.
    pub(crate) fn answer(
        &self,
        asked: &Asked,
        found: &Gathered,
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Written> {
        let policy = self.opened.config().answer.unsupported;
        // What may be left out or written again is shown when that is settled.
        let shown = if policy == UnsupportedPolicy::Flag { listener.clone() } else { Listener::default() };
        let passages = &found.passages;
        match self.opened.config().prompt.reading {
            Reading::Apart if passages.len() > 1 => self.apart(asked, passages, recorder, &shown),
            Reading::InOrder if passages.len() > 1 => self.in_order(asked, passages, recorder, &shown),
            Reading::ByPart if found.parts.len() > 1 => self.by_part(asked, found, recorder, &shown),
            _ => self.together(asked, passages, Vec::new(), recorder, &shown),
        }
    }

    /// All passages at once.
    fn together(
        &self,
        asked: &Asked,
        passages: &[Passage],
        markers: Vec<usize>,
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Written> {
        let start = recorder.start("prompt");
        let made = prompt(&self.opened.pipeline, asked, passages, markers, Some(self.equipped))?;
        self.record(start, &made, passages, recorder);
        let kept: Vec<Passage> = made.passages.iter().map(|at| passages[*at].clone()).collect();
        let outcome = self.settled(made, asked, &kept, recorder, listener)?;
        Ok(self.wrote(outcome, kept))
    }

    /// Each passage alone; then the answers are combined. Passages that answer nothing are left out of that.
    fn apart(
        &self,
        asked: &Asked,
        passages: &[Passage],
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Written> {
        let Equipped { generator, config, mask } = self.equipped;
        let one = |at: usize| {
            let alone = std::slice::from_ref(&passages[at]);
            prompt(&self.opened.pipeline, asked, alone, vec![at + 1], Some(self.equipped))
        };
        let job = |at: usize| {
            let made = one(at)?;
            let mut request = GenerationRequest::new(made.prompt);
            request.parameters = config.parameters();
            let expected = TokenUsage { sent: made.tokens, received: config.max_tokens };
            Ok(Job { request, owner: String::new(), expected })
        };
        let (cache, limits) = (&*self.opened.storage.cache, &self.opened.config().limits);
        let mask = mask.as_ref();
        let runner = Runner { generator, cache, config, limits, mask, spending: self.spending, stop: self.stop };
        let start = recorder.start("generate");
        let (mut answers, mut usage, mut failed) = (Vec::new(), TokenUsage::default(), None);
        for (at, outcome) in runner.run(self.driver, passages.len(), job)?.into_iter().enumerate() {
            match outcome {
                Ok(Some(reply)) => {
                    usage += reply.usage;
                    let says = !Answer::from_reply(&asked.request.query, &reply.text, passages).is_refusal();
                    answers.extend(says.then(|| PastTurn::new(passages[at].location.to_string(), reply.text)));
                }
                Ok(None) => {
                    failed = Some(Error::new(ErrorKind::Limit, "a limit on what a question may cost was reached"));
                }
                Err(error) => failed = Some(error),
            }
        }
        recorder.spent_step(start, usage, || TraceDetails::Generate {
            generator: generator.name(),
            host: generator.host(),
            cached: usage == TokenUsage::default(),
            retries: 0,
            reply: answers.iter().map(|turn| turn.answer.as_str()).collect::<Vec<_>>().join("\n"),
            broken: failed.as_ref().map(ToString::to_string),
            cost: Some(config.price(usage)).filter(|cost| *cost > 0.0),
        });
        if let (true, Some(error)) = (answers.is_empty(), failed) {
            return Ok(self.wrote(Err(error), passages.to_vec()));
        }
        if answers.len() < 2 {
            let text = answers.pop().map_or_else(|| REFUSAL.to_owned(), |turn| turn.answer);
            listener.tell(AskEvent::Text(&text));
            let answering = Answering { text, usage, cached: false, retries: 0, broken: None };
            return Ok(self.wrote(Ok(answering), passages.to_vec()));
        }
        let combined = combine_prompt(&asked.request.query, &answers, self.opened.pipeline.templates())?;
        let tokens = generator.count_tokens(&combined.text());
        let made = AnswerPrompt::of(combined, tokens);
        let outcome = self.settled(made, asked, passages, recorder, listener)?;
        Ok(self.wrote(outcome.map(|answering| with_usage(answering, usage)), passages.to_vec()))
    }

    /// One passage after the other, each with the answer so far.
    fn in_order(
        &self,
        asked: &Asked,
        passages: &[Passage],
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Written> {
        let (mut so_far, mut usage): (Option<String>, TokenUsage) = (None, TokenUsage::default());
        let generator = &self.equipped.generator;
        let count = |text: &str| generator.count_tokens(text);
        let (last, silent) = (passages.len() - 1, Listener::default());
        for (at, passage) in passages.iter().enumerate() {
            let start = recorder.start("prompt");
            let (alone, markers) = (std::slice::from_ref(passage), vec![at + 1]);
            let made = match &so_far {
                None => prompt(&self.opened.pipeline, asked, alone, markers, Some(self.equipped))?,
                Some(answer) => {
                    let pipeline = &self.opened.pipeline;
                    let settings = settings(pipeline, markers, Some(self.equipped));
                    refine_prompt(&asked.request.query, answer, alone, pipeline.templates(), &settings, &count)?
                }
            };
            self.record(start, &made, alone, recorder);
            if at == last {
                let outcome = self.settled(made, asked, passages, recorder, listener)?;
                // What was found before is not lost if the last passage adds nothing.
                let outcome = outcome.map(|answering| kept(answering, so_far.as_deref(), usage));
                return Ok(self.wrote(outcome, passages.to_vec()));
            }
            match self.stream(made.prompt, asked, passages, recorder, &silent) {
                Ok(answering) => {
                    usage += answering.usage;
                    let says = !Answer::from_reply(&asked.request.query, &answering.text, passages).is_refusal();
                    if says {
                        so_far = Some(answering.text);
                    }
                }
                Err(error) => return Ok(self.wrote(Err(error), passages.to_vec())),
            }
        }
        Ok(self.wrote(Err(Error::new(ErrorKind::NotFound, "there is no passage to read")), Vec::new()))
    }

    /// Each part of the question from the passages that were found for it.
    fn by_part(
        &self,
        asked: &Asked,
        found: &Gathered,
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Written> {
        let passages = &found.passages;
        let (mut text, mut usage, mut broken) = (String::new(), TokenUsage::default(), None);
        for (question, chunks) in &found.parts {
            let own = (0..passages.len()).filter(|at| chunks.contains(&passages[*at].chunk));
            let own: Vec<usize> = own.collect();
            let heading = format!("{}{}\n", if text.is_empty() { "" } else { "\n\n" }, heading(question));
            listener.tell(AskEvent::Text(&heading));
            text.push_str(&heading);
            let mut part = asked.clone();
            part.request.query.clone_from(question);
            let start = recorder.start("prompt");
            let theirs: Vec<Passage> = own.iter().map(|at| passages[*at].clone()).collect();
            let markers = own.iter().map(|at| at + 1).collect();
            let made = prompt(&self.opened.pipeline, &part, &theirs, markers, Some(self.equipped))?;
            self.record(start, &made, &theirs, recorder);
            match self.settled(made, &part, passages, recorder, listener)? {
                Ok(answering) => {
                    text.push_str(answering.text.trim());
                    usage += answering.usage;
                    broken = answering.broken;
                }
                Err(error) => return Ok(self.wrote(Err(error), passages.clone())),
            }
        }
        let answering = Answering { text, usage, cached: false, retries: 0, broken };
        let parts = found.parts.iter().map(|(question, _)| heading(question)).collect();
        Ok(Written { parts, ..self.wrote(Ok(answering), passages.clone()) })
    }

    /// Sends a prompt, and once more if its reply is to be repaired.
    fn settled(
        &self,
        made: AnswerPrompt,
        asked: &Asked,
        passages: &[Passage],
        recorder: &mut Recorder,
        listener: &Listener,
    ) -> Result<Result<Answering>> {
        match self.stream(made.prompt.clone(), asked, passages, recorder, listener) {
            Ok(first) if self.opened.config().answer.unsupported == UnsupportedPolicy::Repair => {
                self.repaired(first, made.prompt, asked, passages, recorder).map(Ok)
            }
            outcome => Ok(outcome),
        }
    }

    fn wrote(&self, outcome: Result<Answering>, passages: Vec<Passage>) -> Written {
        Written { outcome, passages, generator: self.equipped.generator.name(), parts: Vec::new() }
    }

    fn record(&self, start: Started, made: &AnswerPrompt, passages: &[Passage], recorder: &mut Recorder) {
        let chunks = |all: &[usize]| all.iter().map(|at| passages[*at].chunk.clone()).collect();
        recorder.step(start, || TraceDetails::Prompt {
            messages: self.equipped.as_sent(made.prompt.clone()).messages,
            passages: chunks(&made.passages),
            shortened: chunks(&made.shortened),
            left_out: chunks(&made.left_out),
            messages_left_out: made.messages_left_out,
            prompt_tokens: made.tokens,
        });
    }
}

/// Returns a part of a question as the line above its answer: a question, so that nothing takes it for a claim.
fn heading(question: &str) -> String {
    let bare = question.trim().trim_end_matches(['?', '.', ',', ';', ' ']);
    let mut chars = bare.chars();
    let first = chars.next().map(char::to_uppercase).into_iter().flatten();
    format!("{}?", first.chain(chars).collect::<String>())
}

/// Returns what was written last, or what was written before it if the last reply says that it does not know.
fn kept(last: Answering, before: Option<&str>, usage: TokenUsage) -> Answering {
    let mut answering = with_usage(last, usage);
    if let (REFUSAL, Some(before)) = (answering.text.trim(), before) {
        before.clone_into(&mut answering.text);
    }
    answering
}

fn with_usage(mut answering: Answering, more: TokenUsage) -> Answering {
    answering.usage += more;
    answering
}
