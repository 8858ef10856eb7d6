//! The prompt for an answer: an instruction, the turns before, and the question with its passages, within a number of tokens.

use serde::{Deserialize, Serialize};
use serde_json::json;

use super::templates::Templates;
use super::{Author, Message, Prompt, fenced};
use crate::document::Span;
use crate::error::{Error, ErrorKind, Result};
use crate::search::Passage;
use crate::text::citation_marker;

/// The reply that the instruction asks for if the passages do not answer the question.
pub const REFUSAL: &str = "The documents do not say.";
/// The beginning of sentences that a model adds from its own knowledge in the mode `open`.
pub const OWN_KNOWLEDGE: &str = "Not from the documents:";

/// What an answer may be made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum AnswerMode {
    /// The passages only.
    #[default]
    Strict,
    /// The passages, and the model's own knowledge, which is marked and never cited.
    Open,
}

/// How the passages are given to a model.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Reading {
    /// All at once.
    #[default]
    Together,
    /// Each one alone; then the answers are combined.
    Apart,
    /// One after the other, each with the answer so far.
    InOrder,
    /// All at once for each part of a question that asks several things. Each part has an answer of its own.
    ByPart,
}

/// How an answer is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct AnswerSettings {
    /// What the answer may be made of.
    pub mode: AnswerMode,
    /// The language of the reply; empty means that of the question.
    pub language: String,
    /// The highest number of sentences; `None` means no limit.
    pub max_sentences: Option<u32>,
    /// A sentence about the style; may be empty.
    pub style: String,
    /// The markers of the passages, in their order; empty means that they count from 1.
    pub markers: Vec<usize>,
    /// The number of tokens that the generator reads and writes together.
    pub context_tokens: u64,
    /// The number of tokens that are kept for the reply.
    pub reply_tokens: u64,
}

impl Default for AnswerSettings {
    fn default() -> Self {
        let mode = AnswerMode::default();
        let (language, style) = (String::new(), String::new());
        let markers = Vec::new();
        Self { mode, language, max_sentences: None, style, markers, context_tokens: 8_000, reply_tokens: 1_000 }
    }
}

/// A prompt for an answer.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct AnswerPrompt {
    /// The messages.
    pub prompt: Prompt,
    /// The passages in it, by their positions in the list that was given. The first one has the marker 1.
    pub passages: Vec<usize>,
    /// The passages of which only the first sentences are in it.
    pub shortened: Vec<usize>,
    /// The passages that had no room, or that others contain.
    pub left_out: Vec<usize>,
    /// The number of the oldest messages of the history that had no room.
    pub messages_left_out: usize,
    /// The number of tokens of the messages, as the generator counts them.
    pub tokens: u64,
}

impl AnswerPrompt {
    /// Creates a prompt without passages of its own, such as one that combines answers.
    pub fn of(prompt: Prompt, tokens: u64) -> Self {
        let (passages, shortened, left_out) = (Vec::new(), Vec::new(), Vec::new());
        Self { prompt, passages, shortened, left_out, messages_left_out: 0, tokens }
    }
}

/// A passage as templates see it.
#[derive(Serialize)]
pub(super) struct Shown {
    number: usize,
    place: String,
    text: String,
    pub(super) fenced: String,
}

impl Shown {
    pub(super) fn new(number: usize, passage: &Passage, text: &str) -> Self {
        let dated = |date: &String| format!("{} ({date})", passage.location);
        let place = passage.location.date.as_ref().map_or_else(|| passage.location.to_string(), dated);
        let text = without_markers(text);
        let fenced = fenced(&format!("passage {number}"), &format!("{}\n\n{text}", without_markers(&place)));
        Self { number, place, text, fenced }
    }
}

/// Returns the prompt for a question. The latest messages of the history get up to a third of the room. `passages` are taken in their
/// order while there is room: each as a whole, or its first whole sentences. Its place and date stand above each. What an earlier
/// passage of the same document contains is not repeated. `count` returns the number of tokens of a text.
///
/// Costs counting the tokens of each part.
///
/// # Errors
/// If the context has no room for the instruction, the history, the question and a sentence of a passage.
pub fn answer_prompt(
    question: &str,
    history: &[Message],
    passages: &[Passage],
    templates: &Templates,
    settings: &AnswerSettings,
    count: &dyn Fn(&str) -> u64,
) -> Result<AnswerPrompt> {
    let asked =
        |shown: &[Shown]| templates.render("answer_question", json!({ "passages": shown, "question": question }));
    assembled(instruction(templates, settings)?, history, passages, settings, count, &asked)
}

/// Returns the prompt that asks for an answer once more, with the answer so far and further passages. The other values are those of [`answer_prompt`].
///
/// # Errors
/// As [`answer_prompt`].
pub fn refine_prompt(
    question: &str,
    answer: &str,
    passages: &[Passage],
    templates: &Templates,
    settings: &AnswerSettings,
    count: &dyn Fn(&str) -> u64,
) -> Result<AnswerPrompt> {
    let answer = fenced("answer", answer);
    let asked = |shown: &[Shown]| {
        templates.render("refine_question", json!({ "passages": shown, "answer": answer, "question": question }))
    };
    assembled(instruction(templates, settings)?, &[], passages, settings, count, &asked)
}

fn instruction(templates: &Templates, settings: &AnswerSettings) -> Result<String> {
    let values = json!({
        "mode": settings.mode,
        "refusal": REFUSAL,
        "own_knowledge": OWN_KNOWLEDGE,
        "language": settings.language,
        "max_sentences": settings.max_sentences,
        "style": settings.style,
    });
    templates.render("answer_instruction", values)
}

/// Fills the room that an instruction leaves with the history and the passages.
fn assembled(
    instruction: String,
    history: &[Message],
    passages: &[Passage],
    settings: &AnswerSettings,
    count: &dyn Fn(&str) -> u64,
    asked: &dyn Fn(&[Shown]) -> Result<String>,
) -> Result<AnswerPrompt> {
    let fixed = count(&instruction) + count(&asked(&[])?);
    let mut room = settings.context_tokens.saturating_sub(settings.reply_tokens).saturating_sub(fixed);
    let messages_left_out = beyond(history, room / 3, count);
    let history = &history[messages_left_out..];
    room -= history.iter().map(|message| count(&message.content)).sum::<u64>();
    let (mut shown, mut kept): (Vec<Shown>, Vec<usize>) = (Vec::new(), Vec::new());
    let (mut shortened, mut left_out) = (Vec::new(), Vec::new());
    let mut seen: Vec<(&str, Span)> = Vec::new();
    for (at, passage) in passages.iter().enumerate() {
        let Some(rest) = unseen(passage, &seen) else {
            left_out.push(at);
            continue;
        };
        let number = settings.markers.get(at).copied().unwrap_or(shown.len() + 1);
        let (one, is_whole) = fitting(number, passage, rest, room, count);
        shortened.extend((one.is_some() && !is_whole).then_some(at));
        let Some(one) = one else {
            left_out.push(at);
            continue;
        };
        room -= count(&one.fenced);
        seen.push((&passage.location.document, rest));
        kept.push(at);
        shown.push(one);
    }
    if shown.is_empty() && !passages.is_empty() {
        let message = format!(
            "a context of {} tokens has no room for a passage beside the instruction and the question, {fixed} tokens, and {} tokens \
             of reply; set context_tokens to what the model reads",
            settings.context_tokens, settings.reply_tokens
        );
        return Err(Error::new(ErrorKind::Configuration, message).at("[generator] context_tokens"));
    }
    let mut prompt = Prompt::default().with(Author::System, instruction);
    prompt.messages.extend(history.iter().cloned());
    let prompt = prompt.with(Author::User, asked(&shown)?);
    let tokens = prompt.messages.iter().map(|message| count(&message.content)).sum();
    Ok(AnswerPrompt { prompt, passages: kept, shortened, left_out, messages_left_out, tokens })
}

/// Returns a part of a passage as it is shown in a room of some tokens, whole or its first whole sentences, and whether it is whole; `None` if not even one
/// sentence has room.
pub(super) fn fitting(
    number: usize,
    passage: &Passage,
    part: Span,
    room: u64,
    count: &dyn Fn(&str) -> u64,
) -> (Option<Shown>, bool) {
    let fits = |candidate: &Shown| count(&candidate.fenced) <= room;
    let whole = Shown::new(number, passage, passage.slice(part));
    if fits(&whole) {
        return (Some(whole), true);
    }
    let ends = passage.sentences.iter().map(|sentence| sentence.span.end);
    let ends: Vec<usize> = ends.filter(|end| *end > part.start && *end < part.end).collect();
    let cut = |end: usize| Shown::new(number, passage, passage.slice(Span::new(part.start, end)));
    (ends.iter().rev().map(|end| cut(*end)).find(fits), false)
}

/// Returns the number of the oldest messages that must go so that the rest fits. The rest begins with a message of the asker.
fn beyond(history: &[Message], room: u64, count: &dyn Fn(&str) -> u64) -> usize {
    let mut used = 0;
    let kept = history.iter().rev().take_while(|message| {
        used += count(&message.content);
        used <= room
    });
    let first = history.len() - kept.count();
    let asker = history[first..].iter().position(|message| message.author == Author::User);
    asker.map_or(history.len(), |at| first + at)
}

/// Returns the part of a passage that no earlier one of its document has; `None` if there is none.
pub(super) fn unseen(passage: &Passage, seen: &[(&str, Span)]) -> Option<Span> {
    let mut rest = passage.location.span;
    for (_, span) in seen.iter().filter(|(document, _)| *document == passage.location.document) {
        if span.start <= rest.start && span.end > rest.start {
            rest.start = span.end.min(rest.end);
        }
        if span.end >= rest.end && span.start < rest.end {
            rest.end = span.start.max(rest.start);
        }
    }
    let text = passage.slice(rest);
    let (lead, end) = (text.len() - text.trim_start().len(), text.trim_end().len());
    (!text.trim().is_empty()).then(|| Span::new(rest.start + lead, rest.start + end))
}

/// Returns a text in which nothing looks like a marker of a source: a document must not plant citations.
fn without_markers(text: &str) -> String {
    let (mut plain, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(at) = rest.find(['[', '【']) {
        plain.push_str(&rest[..at]);
        rest = &rest[at..];
        match citation_marker(rest) {
            Some(length) => {
                plain.push_str(&format!("({})", &rest[1..length - 1]));
                rest = &rest[length..];
            }
            None => {
                let sign = rest.chars().next().unwrap_or_default();
                plain.push(if sign == '【' { '(' } else { sign });
                rest = &rest[sign.len_utf8()..];
            }
        }
    }
    plain + rest
}

/// Returns the message that asks for an answer once more, with what was wrong with it: a line for each sentence.
///
/// # Errors
/// If the template fails.
pub fn repair_message(problems: &str, templates: &Templates) -> Result<Message> {
    let values = json!({ "problems": fenced("problems", problems) });
    Ok(Message { author: Author::User, content: templates.render("repair_answer", values)? })
}
