//! The prompt for a chunk's written context, and the use of the reply.

use serde_json::json;

use super::templates::Templates;
use super::{Prompt, fenced};
use crate::chunk::{Chunk, Limit};
use crate::document::{Document, Span};
use crate::error::Result;
use crate::text;

/// Returns a prompt that asks for one or two sentences about the subject of a chunk within its document.
///
/// The prompt contains up to `around` words of the document: all of it if it is shorter, else whole blocks around the chunk.
/// Costs one pass over that text.
///
/// # Errors
/// If a template fails.
pub fn context_prompt(
    document: &Document,
    chunk: &Chunk,
    around: usize,
    max_words: usize,
    templates: &Templates,
) -> Result<Prompt> {
    let instruction = templates.render("context_instruction", json!({ "max_words": max_words }))?;
    let shown = neighbourhood(document, chunk.span, around);
    let title = document.title.as_deref().unwrap_or(&document.name);
    let headings = chunk.section.iter().map(String::as_str).filter(|heading| *heading != title);
    let place: Vec<&str> = [title].into_iter().chain(headings).collect();
    let material = json!({
        "place": fenced("place", &place.join(" › ")),
        "document": fenced("document", document.slice(shown)),
        "passage": fenced("passage", &chunk.text),
    });
    Ok(Prompt::new(instruction, templates.render("context_passage", material)?))
}

/// Returns the blocks around a span with up to `around` words, equally many before and after it if possible.
fn neighbourhood(document: &Document, span: Span, words: usize) -> Span {
    let blocks = &document.blocks;
    let mut first = blocks.partition_point(|block| block.span.end <= span.start);
    let mut last = blocks.partition_point(|block| block.span.start < span.end);
    let mut left = words.saturating_sub(text::count_words(document.slice(span)));
    let size = |index: usize| text::count_words(document.slice(blocks[index].span));
    let (mut before_open, mut behind_open) = (true, true);
    while before_open || behind_open {
        if before_open {
            match first.checked_sub(1).map(size).filter(|size| *size <= left) {
                Some(size) => (first, left) = (first - 1, left - size),
                None => before_open = false,
            }
        }
        if behind_open {
            match (last < blocks.len()).then(|| size(last)).filter(|size| *size <= left) {
                Some(size) => (last, left) = (last + 1, left - size),
                None => behind_open = false,
            }
        }
    }
    let start = blocks.get(first).map_or(span.start, |block| block.span.start.min(span.start));
    let end =
        last.checked_sub(1).and_then(|last| blocks.get(last)).map_or(span.end, |block| block.span.end.max(span.end));
    Span::new(start, end)
}

/// Returns the useful part of a reply: one line of whole sentences that fit in the limit's reserve, or as many words as fit.
pub fn tidy_context(reply: &str, limit: &Limit) -> String {
    let line = reply.split_whitespace().collect::<Vec<_>>().join(" ");
    let fits = |text: &str| limit.measure_addition(text) <= limit.reserve();
    if fits(&line) {
        return line;
    }
    let whole = text::sentences(&line).into_iter().rev().map(|span| &line[..span.end]).find(|part| fits(part));
    let words = || {
        let ends: Vec<usize> = line.match_indices(' ').map(|(at, _)| at).collect();
        let count = ends.partition_point(|end| fits(&line[..*end]));
        count.checked_sub(1).map_or("", |last| &line[..ends[last]])
    };
    whole.unwrap_or_else(words).to_owned()
}
