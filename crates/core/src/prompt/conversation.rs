//! Prompts that keep a conversation: a follow-up becomes a question that stands alone, and older turns a summary.

use serde::{Deserialize, Serialize};
use serde_json::json;

use super::templates::Templates;
use super::{Author, Message, Prompt, fenced};
use crate::error::Result;
use crate::text::{count_words, sentences};

/// A turn of a conversation, as later turns see it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct PastTurn {
    /// The question, so that it stands alone.
    pub question: String,
    /// The answer.
    pub answer: String,
}

impl PastTurn {
    /// Creates a turn.
    pub fn new(question: impl Into<String>, answer: impl Into<String>) -> Self {
        Self { question: question.into(), answer: answer.into() }
    }
}

fn written(turns: &[PastTurn]) -> String {
    let lines: Vec<String> =
        turns.iter().map(|turn| format!("Question: {}\nAnswer: {}", turn.question, turn.answer)).collect();
    lines.join("\n\n")
}

/// Returns a prompt that asks for a follow-up question as one that stands alone. `turns` are the last turns before it.
///
/// # Errors
/// If a template fails.
pub fn condense_prompt(question: &str, turns: &[PastTurn], templates: &Templates) -> Result<Prompt> {
    let instruction = templates.render("condense_instruction", json!({}))?;
    let material =
        json!({ "conversation": fenced("conversation", &written(turns)), "question": fenced("question", question) });
    Ok(Prompt::new(instruction, templates.render("condense_question", material)?))
}

/// Returns the question of a reply to [`condense_prompt`]; `None` if the reply is none: empty, or much longer than a question.
pub fn condensed_question(reply: &str) -> Option<String> {
    /// More words are no question.
    const MAX_WORDS: usize = 80;
    let line = reply.split_whitespace().collect::<Vec<_>>().join(" ");
    let line = line.strip_prefix("Question:").unwrap_or(&line).trim().trim_matches('"').to_owned();
    (1..=MAX_WORDS).contains(&count_words(&line)).then_some(line)
}

/// Returns a prompt that asks for a summary of older turns, and of the summary before them.
///
/// # Errors
/// If a template fails.
pub fn summarise_prompt(summary: &str, turns: &[PastTurn], max_words: usize, templates: &Templates) -> Result<Prompt> {
    let instruction = templates.render("summarise_instruction", json!({ "max_words": max_words }))?;
    let summary = if summary.is_empty() { String::new() } else { fenced("summary", summary) };
    let material = json!({ "summary": summary, "turns": fenced("turns", &written(turns)) });
    Ok(Prompt::new(instruction, templates.render("summarise_turns", material)?))
}

/// Returns the summary of a reply: its first whole sentences, or its first words, that keep to `max_words`.
pub fn tidy_summary(reply: &str, max_words: usize) -> String {
    let text = reply.trim();
    if count_words(text) <= max_words {
        return text.to_owned();
    }
    let whole = sentences(text).into_iter().rev().map(|span| &text[..span.end]);
    let whole = whole.filter(|part| count_words(part) <= max_words).map(str::to_owned).next();
    whole.unwrap_or_else(|| text.split_whitespace().take(max_words).collect::<Vec<_>>().join(" "))
}

/// Returns a summary without a model: the questions of older turns with the first sentence of each answer, the latest that fit.
pub fn plain_summary(summary: &str, turns: &[PastTurn], max_words: usize) -> String {
    let line = |turn: &PastTurn| {
        let first = sentences(&turn.answer).first().map_or("", |span| &turn.answer[span.range()]);
        format!("{} {first}", turn.question.trim())
    };
    let lines = summary.lines().filter(|line| !line.trim().is_empty()).map(str::to_owned).chain(turns.iter().map(line));
    let mut kept: Vec<String> = Vec::new();
    let mut room = max_words;
    for line in lines.collect::<Vec<_>>().into_iter().rev() {
        let words = count_words(&line);
        if words > room {
            break;
        }
        room -= words;
        kept.push(line);
    }
    kept.reverse();
    kept.join("\n")
}

/// Returns the messages of a conversation: the summary of older turns, and the last turns word for word.
pub fn history(summary: &str, turns: &[PastTurn]) -> Vec<Message> {
    let summary = (!summary.is_empty()).then(|| Message {
        author: Author::User,
        content: format!("What was said before, in short:\n{}", fenced("summary", summary)),
    });
    let turns = turns.iter().flat_map(|turn| {
        [
            Message { author: Author::User, content: turn.question.clone() },
            Message { author: Author::Assistant, content: turn.answer.clone() },
        ]
    });
    summary.into_iter().chain(turns).collect()
}
