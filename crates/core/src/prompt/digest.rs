//! The prompt for a digest: the fields that are wanted, and passages of a document or notes on its parts, within a number of tokens.

use serde::Serialize;
use serde_json::json;

use super::answer::{AnswerSettings, REFUSAL, Shown, fitting, unseen};
use super::templates::Templates;
use super::{Prompt, fenced};
use crate::digest::DigestField;
use crate::document::Span;
use crate::error::{Error, ErrorKind, Result};
use crate::search::Passage;

/// A prompt for a digest, and how much of the material it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DigestPrompt {
    /// The messages.
    pub prompt: Prompt,
    /// The number of notes that it holds, from the first one.
    pub notes: usize,
    /// The number of passages that it holds, from the first one.
    pub passages: usize,
    /// The number of tokens of the messages, as the generator counts them.
    pub tokens: u64,
}

/// What a digest is made of.
#[derive(Clone, Copy, Debug)]
pub struct DigestMaterial<'a> {
    /// The title of the document.
    pub title: &'a str,
    /// Replies to such prompts about parts of the document.
    pub notes: &'a [String],
    /// Passages of the document.
    pub passages: &'a [Passage],
    /// The number of passages before the first of these: its marker is one more.
    pub first: usize,
}

/// A field as templates see it.
#[derive(Serialize)]
struct Wanted<'a> {
    name: &'a str,
    question: &'a str,
    form: &'static str,
    max_words: usize,
}

/// Returns the prompt that asks for the fields of a digest. As many notes and passages as fit are in it, notes first, both from the first one. Markers mean
/// the same in the prompts of all parts of a document. Read the reply with [`fields_of_reply`](crate::digest::fields_of_reply).
///
/// Costs counting the tokens of each part.
///
/// # Errors
/// If the context has no room for the instruction and a sentence of a passage, or for a note.
pub fn digest_prompt(
    fields: &[DigestField],
    material: DigestMaterial<'_>,
    templates: &Templates,
    settings: &AnswerSettings,
    count: &dyn Fn(&str) -> u64,
) -> Result<DigestPrompt> {
    let DigestMaterial { title, notes, passages, first } = material;
    let wanted = fields.iter().map(|field| Wanted {
        name: &field.name,
        question: &field.question,
        form: if field.kind.is_list() { "A list, one item a line" } else { "Running text" },
        max_words: field.max_words,
    });
    let wanted: Vec<Wanted<'_>> = wanted.collect();
    let instruction = templates.render("digest_instruction", json!({ "fields": wanted, "refusal": REFUSAL }))?;
    let filled = |notes: &str, shown: &[Shown]| {
        templates.render("digest_passages", json!({ "passages": shown, "notes": notes, "title": title }))
    };
    let fixed = count(&instruction) + count(&filled("", &[])?);
    let mut room = settings.context_tokens.saturating_sub(settings.reply_tokens).saturating_sub(fixed);
    let mut kept: Vec<String> = Vec::new();
    for (at, note) in notes.iter().enumerate() {
        let note = fenced(&format!("notes {}", at + 1), note);
        let tokens = count(&note);
        if tokens > room {
            break;
        }
        room -= tokens;
        kept.push(note);
    }
    let (mut shown, mut taken): (Vec<Shown>, usize) = (Vec::new(), 0);
    let mut seen: Vec<(&str, Span)> = Vec::new();
    for passage in if kept.len() == notes.len() { passages } else { &[] } {
        // What the passage before has too is not repeated.
        if let Some(rest) = unseen(passage, &seen) {
            let (one, is_whole) = fitting(first + taken + 1, passage, rest, room, count);
            let Some(one) = one.filter(|_| is_whole || shown.is_empty()) else { break };
            room = room.saturating_sub(count(&one.fenced));
            seen.push((&passage.location.document, rest));
            shown.push(one);
        }
        taken += 1;
    }
    let has_none = if notes.is_empty() { shown.is_empty() && taken < passages.len() } else { kept.is_empty() };
    if has_none {
        let message = format!(
            "a context of {} tokens has no room for a part of the document beside the instruction, {fixed} tokens, and {} tokens of reply; set \
             context_tokens to what the model reads, or ask for fewer fields",
            settings.context_tokens, settings.reply_tokens
        );
        return Err(Error::new(ErrorKind::Configuration, message).at("[generator] context_tokens"));
    }
    let prompt = Prompt::new(instruction, filled(&kept.join("\n\n"), &shown)?);
    let tokens = prompt.messages.iter().map(|message| count(&message.content)).sum();
    Ok(DigestPrompt { prompt, notes: kept.len(), passages: taken, tokens })
}
