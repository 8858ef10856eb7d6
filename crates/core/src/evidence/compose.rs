//! From the sentence that answers best to the whole answer.

use std::ops::Range;

use super::candidate::is_quotable;
use crate::document::BlockKind;
use crate::query::Expectation;
use crate::search::Passage;
use crate::text::{fold, is_listed, is_stopword, list_marker, words};

/// How long an answer is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AnswerLength {
    /// The sentence that answers, and nothing that is not needed to understand it.
    Brief,
    /// As long as the question asks for: whole lists and steps, rules with their exceptions.
    #[default]
    Whole,
}

/// The most items of a list, lines of code and steps that are quoted.
const MAX_ITEMS: usize = 12;
const MAX_LINES: usize = 20;
/// The most sentences of running text.
const MAX_RUN: usize = 4;

/// Words that point back to the sentence before, at the start of a sentence.
const POINTING: &str = "it this these they that those she he such its their there then er sie es dies diese dieser dieses elle \
    ils elles cela ceci ce cette ello ella ellos esto este esta esso essa essi ciò questo questa";
/// Words that begin or make an exception.
const EXCEPTIONS: &str = "except unless however but only otherwise exempt außer jedoch nur sauf cependant salvo excepto sino tranne \
    eccetto però however,";

/// Returns the sentences around one that belong to the answer, in order, as positions in the passage; the sentence itself is among them.
pub(super) fn around(passage: &Passage, place: usize, expects: &Expectation, length: AnswerLength) -> Vec<usize> {
    let mut chosen = leading(passage, place);
    if length == AnswerLength::Whole {
        chosen.extend(following(passage, place, expects));
    }
    chosen.push(place);
    chosen.sort_unstable();
    chosen.dedup();
    chosen
}

/// Returns the sentences before one that it needs: those that its first word points back to, and what introduces code.
fn leading(passage: &Passage, place: usize) -> Vec<usize> {
    let sentences = &passage.sentences;
    let mut needed = Vec::new();
    let mut at = place;
    while needed.len() < MAX_RUN - 1 && at > 0 {
        let (here, before) = (&sentences[at], &sentences[at - 1]);
        let follows = here.kind == before.kind && is_quotable(before) && here.row.is_none();
        if !follows || here.kind != BlockKind::Paragraph || !points_back(passage.slice(here.span)) {
            break;
        }
        at -= 1;
        needed.push(at);
    }
    needed
}

/// Returns `true` if a sentence begins with a word that stands for something of the sentence before.
fn points_back(sentence: &str) -> bool {
    let first = words(sentence).next();
    first.is_some_and(|word| is_listed(POINTING, &fold(word.text)))
}

fn following(passage: &Passage, place: usize, expects: &Expectation) -> Vec<usize> {
    let sentences = &passage.sentences;
    let kind = sentences[place].kind;
    let text = |at: usize| passage.slice(sentences[at].span);
    let introduces = text(place).trim_end().ends_with(':');
    let next_kind = sentences.get(place + 1).map(|next| next.kind);
    match (kind, expects) {
        (BlockKind::Code, _) => block(passage, place, MAX_LINES).chain(introduction(passage, place)).collect(),
        (_, _) if introduces && matches!(next_kind, Some(BlockKind::ListItem | BlockKind::Code)) => {
            block(passage, place + 1, MAX_ITEMS).collect()
        }
        (BlockKind::ListItem, Expectation::List | Expectation::Steps) if is_list_of_things(passage, place, expects) => {
            block(passage, place, MAX_ITEMS).chain(introduction(passage, place)).collect()
        }
        (BlockKind::Paragraph, Expectation::Steps | Expectation::Reason) => {
            // The steps may be a list below, or go on in the next sentences.
            let end = (place + MAX_RUN).min(sentences.len());
            let run = (place + 1..end).take_while(|at| sentences[*at].kind == BlockKind::Paragraph);
            let run: Vec<usize> = run.take(2).collect();
            match next_kind {
                Some(BlockKind::ListItem) if *expects == Expectation::Steps => {
                    block(passage, place + 1, MAX_ITEMS).collect()
                }
                _ => run,
            }
        }
        (BlockKind::Paragraph, Expectation::YesOrNo) => {
            let end = (place + MAX_RUN).min(sentences.len());
            let run = (place + 1..end).take_while(|at| sentences[*at].kind == BlockKind::Paragraph);
            run.filter(|at| words(text(*at)).take(6).any(|word| is_listed(EXCEPTIONS, &fold(word.text))))
                .take(2)
                .collect()
        }
        (BlockKind::Paragraph, _) if leads_on(text(place)) && next_kind == Some(BlockKind::Paragraph) => {
            vec![place + 1]
        }
        _ => Vec::new(),
    }
}

/// Returns `true` if a sentence says what is so no longer: the next says what is so now.
fn leads_on(sentence: &str) -> bool {
    let lower = sentence.to_lowercase();
    ["no longer", "nicht mehr", "ne plus", "n'est plus", "ya no", "non più"].iter().any(|phrase| lower.contains(phrase))
}

/// Returns `true` if the items beside one are the things or the steps that are asked for: they are introduced, or are no sentences of their own, as the
/// paragraphs of an article are. Steps may be sentences that begin with what is to be done.
fn is_list_of_things(passage: &Passage, place: usize, expects: &Expectation) -> bool {
    let text = |at: usize| passage.slice(passage.sentences[at].span);
    // A step begins with what is to be done, and not with `a`, `the` or `where`.
    let is_step = |at: usize| {
        let item = list_marker(text(at)).map_or(text(at), |marker| &text(at)[marker.len()..]);
        words(item).next().is_some_and(|word| !is_stopword(&fold(word.text)))
    };
    let items: Vec<usize> = block(passage, place, MAX_ITEMS).collect();
    let are_steps = *expects == Expectation::Steps && items.iter().filter(|at| is_step(**at)).count() * 2 > items.len();
    introduction(passage, place).is_some() || !text(place).trim_end().ends_with('.') || are_steps
}

/// Returns the positions of the neighbours of a sentence that are of its kind.
fn block(passage: &Passage, place: usize, max: usize) -> impl Iterator<Item = usize> + use<> {
    let sentences = &passage.sentences;
    let kind = sentences[place].kind;
    let start = (0..place).rev().take_while(|at| sentences[*at].kind == kind).last().unwrap_or(place);
    let end = (place..sentences.len()).take_while(|at| sentences[*at].kind == kind).last().unwrap_or(place);
    let all: Range<usize> = start..end + 1;
    // A list that is too long is quoted from the sentence on.
    let all = if all.len() > max { place..(place + max).min(all.end) } else { all };
    all.into_iter()
}

/// Returns the position of the sentence that introduces the list or the code of a sentence.
fn introduction(passage: &Passage, place: usize) -> Option<usize> {
    let sentences = &passage.sentences;
    let kind = sentences[place].kind;
    let start = (0..place).rev().take_while(|at| sentences[*at].kind == kind).last().unwrap_or(place);
    let before = start.checked_sub(1)?;
    let introduces = sentences[before].kind == BlockKind::Paragraph
        && passage.slice(sentences[before].span).trim_end().ends_with(':');
    introduces.then_some(before)
}
