//! Prompts that turn a question into better searches, and that join the answers to its parts.

use serde_json::json;

use super::templates::Templates;
use super::{PastTurn, Prompt, condensed_question, fenced};
use crate::error::Result;
use crate::text::{count_words, list_marker};

/// The highest number of parts of a question.
const MAX_PARTS: usize = 4;
/// The highest number of words of a passage that is made up.
const MAX_WORDS: usize = 80;

fn prompt(name: &str, values: serde_json::Value, question: &str, templates: &Templates) -> Result<Prompt> {
    let instruction = templates.render(&format!("{name}_instruction"), values)?;
    let question = json!({ "question": fenced("question", question) });
    Ok(Prompt::new(instruction, templates.render(&format!("{name}_question"), question)?))
}

/// Returns a prompt that asks for a question in the words of the documents. Read the reply with
/// [`condensed_question`](super::condensed_question).
///
/// # Errors
/// If a template fails.
pub fn rewrite_prompt(question: &str, templates: &Templates) -> Result<Prompt> {
    prompt("rewrite", json!({}), question, templates)
}

/// Returns a prompt that asks for a question in several other wordings, each on a line. Read the reply with [`split_questions`].
///
/// # Errors
/// If a template fails.
pub fn phrasings_prompt(question: &str, templates: &Templates) -> Result<Prompt> {
    prompt("phrasings", json!({ "max_phrasings": MAX_PARTS }), question, templates)
}

/// Returns a prompt that asks for the parts of a question, each on a line. Read the reply with [`split_questions`].
///
/// # Errors
/// If a template fails.
pub fn split_prompt(question: &str, templates: &Templates) -> Result<Prompt> {
    prompt("split", json!({ "max_parts": MAX_PARTS }), question, templates)
}

/// Returns the questions of a reply to [`split_prompt`] or [`phrasings_prompt`], without the signs of a list.
pub fn split_questions(reply: &str) -> Vec<String> {
    let bare = |line: &str| {
        let line = line.trim();
        condensed_question(&line[list_marker(line).map_or(0, str::len)..])
    };
    reply.lines().filter_map(bare).take(MAX_PARTS).collect()
}

/// Returns a prompt that asks for a passage as it might answer a question, to search for passages like it (Gao and others, 2022,
/// “Precise zero-shot dense retrieval without relevance labels”). Read the reply with [`hypothetical_passage`].
///
/// # Errors
/// If a template fails.
pub fn hypothetical_prompt(question: &str, templates: &Templates) -> Result<Prompt> {
    prompt("hypothetical", json!({ "max_words": MAX_WORDS }), question, templates)
}

/// Returns the passage of a reply to [`hypothetical_prompt`], on one line; `None` if it has no words.
pub fn hypothetical_passage(reply: &str) -> Option<String> {
    let words: Vec<&str> = reply.split_whitespace().take(2 * MAX_WORDS).collect();
    let passage = words.join(" ");
    (count_words(&passage) > 0).then_some(passage)
}

/// Returns a prompt that asks for one answer from the answers to the parts of a question. Their markers must mean the same passages.
///
/// # Errors
/// If a template fails.
pub fn combine_prompt(question: &str, parts: &[PastTurn], templates: &Templates) -> Result<Prompt> {
    let one = |(at, part): (usize, &PastTurn)| {
        fenced(&format!("answer {}", at + 1), &format!("{}\n\n{}", part.question, part.answer))
    };
    let answers: Vec<String> = parts.iter().enumerate().map(one).collect();
    let instruction = templates.render("combine_instruction", json!({}))?;
    let material = json!({ "answers": answers.join("\n\n"), "question": question });
    Ok(Prompt::new(instruction, templates.render("combine_answers", material)?))
}
