//! Answers about the whole, from the summaries of the tree: the sentences that they stand on, each with its place.

use logothete_core::Result;
use logothete_core::chunk::{ChunkId, Sentence};
use logothete_core::document::{BlockKind, Span};
use logothete_core::evidence::{EvidenceSettings, SelectedSentence, extract};
use logothete_core::query::{Question, question_terms, subject_of_the_whole};
use logothete_core::search::Passage;
use logothete_core::text::count_words;

use super::cite::Draft;
use crate::search::Searcher;

/// The most sentences of an answer.
const MAX_SENTENCES: usize = 8;
/// A sentence of fewer words tells nothing of its section.
const MIN_WORDS: usize = 6;

/// Cites what the summaries nearest to a question about the whole stand on, and returns why. `None` means that it is not about the whole, or that no summary can
/// be told.
pub(super) fn answer(
    searcher: &Searcher<'_>,
    part: &str,
    question: &Question,
    found: &[Passage],
    settings: &EvidenceSettings<'_>,
    draft: &mut Draft,
) -> Result<Option<String>> {
    let Some(told) = searcher.summed_up(part)? else { return Ok(None) };
    // Something must be said of what it names.
    if let Some(subject) = subject_of_the_whole(part) {
        let statistics = searcher.view.snapshot.statistics(&question_terms(subject));
        let named = Question::new(subject, |term| statistics.weight(term));
        if extract(&named, found, settings).related < settings.model.min_related {
            return Ok(None);
        }
    }
    let chunks: Vec<ChunkId> = told.chunks.iter().map(|(chunk, _)| chunk.clone()).collect();
    let passages = searcher.view.catalogue().passages_with_duplicates(&chunks)?;
    let before = draft.claims.len();
    let mut sections: Vec<(&str, Option<&String>)> = Vec::new();
    for (chunk, quoted) in &told.chunks {
        let Some(passage) = passages.iter().find(|passage| passage.chunk == *chunk) else { continue };
        // One sentence of a section, so that many are told of.
        let section = (passage.location.document.as_str(), passage.location.section.last());
        if sections.contains(&section) || draft.claims.len() - before == MAX_SENTENCES {
            continue;
        }
        let Some(sentence) = telling(passage, quoted, question) else { continue };
        sections.push(section);
        let text = sentence.row.clone().unwrap_or_else(|| passage.slice(sentence.span).to_owned());
        let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let selected = SelectedSentence { passage: 0, sentence: sentence.clone(), text, coverage: 0.0 };
        draft.cite(question, passage, &selected);
    }
    let (label, size) = (told.label.join(", "), told.size);
    Ok((draft.claims.len() > before).then(|| {
        format!("the question is about the whole, and the nearest summary is one of {size} chunks about {label}")
    }))
}

/// Returns the sentence of a passage that tells of it: one that summaries quote, or that has the most words of the question, or the first one. Fragments and code
/// tell nothing.
fn telling<'p>(passage: &'p Passage, quoted: &[Span], question: &Question) -> Option<&'p Sentence> {
    let is_running = |kind| matches!(kind, BlockKind::Paragraph | BlockKind::ListItem);
    let words = |sentence: &Sentence| count_words(passage.slice(sentence.span));
    let all: Vec<&Sentence> = passage
        .sentences
        .iter()
        .filter(|sentence| is_running(sentence.kind) && words(sentence) >= MIN_WORDS)
        .filter(|sentence| !passage.slice(sentence.span).trim_end().ends_with(['?', ':']))
        .collect();
    let score = |sentence: &Sentence| {
        let covered: f32 = question.matches(passage.slice(sentence.span)).len() as f32;
        covered + if quoted.contains(&sentence.span) { 1.0 } else { 0.0 }
    };
    all.iter()
        .enumerate()
        .max_by(|(a, one), (b, other)| score(one).total_cmp(&score(other)).then(b.cmp(a)))
        .map(|(_, one)| *one)
}
