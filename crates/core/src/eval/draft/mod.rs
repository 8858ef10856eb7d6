//! Drafts of questions about documents, by rule: from headings, table cells, definitions, figures and dates.
//!
//! A draft takes its words from its source, so it is easier than what people ask. Somebody must judge it: see [`SetQuestion`]'s field
//! `draft`.

mod near;
mod wording;

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use super::questions::{Relevant, SetQuestion, plain};
use crate::document::{Block, BlockKind, Document, Span};
use crate::random::Random;
use crate::text::{fold, sentences, words};
use near::Attributes;
use wording::{Worded, defined, of_cell, of_heading, of_sentence};

/// The highest number of drafts of one kind from one document that are considered.
const MAX_OF_KIND: usize = 12;
/// The fewest words of a section whose heading becomes a question.
const MIN_SECTION_WORDS: usize = 12;
/// The kinds of drafts, in the order in which they take turns.
const KINDS: [&str; 5] = ["figure", "table", "definition", "heading", "date"];
/// The highest number of bytes of the passage of a draft.
const MAX_PASSAGE: usize = 2_000;
const SEED: u64 = 2026;

/// Makes drafts of questions about documents.
///
/// Holds the candidates of each document and the words of all of them; costs one pass over the text of each.
#[derive(Clone, Debug, Default)]
pub struct Drafter {
    /// The candidates of each document, by kind.
    documents: Vec<Vec<Vec<Candidate>>>,
    /// How often each heading occurs; one that occurs twice asks nothing in particular.
    headings: HashMap<String, usize>,
    /// All words of the documents, folded.
    words: HashSet<String>,
    attributes: Attributes,
}

/// A draft of a question.
#[derive(Clone, Debug, PartialEq)]
pub struct Draft {
    /// The question, marked as a draft, with its place, or as one to refuse.
    pub question: SetQuestion,
    /// The text around its source in its document, of a few hundred words; `None` for one to refuse.
    pub passage: Option<Span>,
}

/// A draft, before it has an id.
#[derive(Clone, Debug)]
struct Candidate {
    passage: Span,
    kind: &'static str,
    worded: Worded,
    relevant: Relevant,
    /// The text that it was made from.
    source: String,
}

impl Drafter {
    /// Adds a document. The hash of its content lets an evaluation tell whether it has changed since.
    pub fn add(&mut self, document: &Document, content_hash: &str) {
        let mut kinds: Vec<Vec<Candidate>> = vec![Vec::new(); KINDS.len()];
        let paths = document.heading_paths();
        let lower: HashSet<&str> =
            words(&document.text).map(|word| word.text).filter(|word| word.starts_with(char::is_lowercase)).collect();
        for word in words(&document.text) {
            self.words.insert(fold(word.text));
        }
        for (at, block) in document.blocks.iter().enumerate() {
            let section = paths[at].last().map(|heading| document.block_text(&document.blocks[*heading]).trim());
            let place = |block: &Block, contains: Option<String>| Relevant {
                document: document.name.clone(),
                section: section.map(str::to_owned),
                page: document.block_pages(block).map(|pages| pages.first),
                contains,
                grade: 1,
                content_hash: (!content_hash.is_empty()).then(|| content_hash.chars().take(16).collect()),
            };
            let text = document.block_text(block);
            for Found { kind, worded, contains, source } in found(document, at, &lower) {
                if kind == "heading" {
                    *self.headings.entry(plain(text)).or_default() += 1;
                }
                // A heading stands on its own page; its section may end on a later one.
                let mut relevant = place(block, contains);
                if kind == "heading" {
                    relevant.page = None;
                }
                let of_kind = KINDS.iter().position(|known| *known == kind).unwrap_or_default();
                kinds[of_kind].push(Candidate { passage: passage(document, at), kind, worded, relevant, source });
            }
            if let Some(table) = &block.table {
                self.attributes.add_table(&document.text, table);
            }
            self.attributes.add_text(text);
        }
        self.documents.push(kinds.into_iter().map(|kind| thinned(kind, MAX_OF_KIND)).collect());
    }

    /// Returns up to `count` drafts, spread over the documents and the kinds, and up to `near_misses` questions that the documents do not
    /// answer though they seem to. All are marked as drafts, split by document into `dev` and `test`, and name their source.
    pub fn finish(mut self, count: usize, near_misses: usize) -> Vec<Draft> {
        let headings = std::mem::take(&mut self.headings);
        let mut documents = std::mem::take(&mut self.documents);
        let mut random = Random::new(SEED);
        for at in (1..documents.len()).rev() {
            documents.swap(at, random.below(at + 1));
        }
        let mut chosen: Vec<(usize, Candidate)> = Vec::new();
        let mut asked = HashSet::new();
        let mut turn = 0;
        while chosen.len() < count && documents.iter().flatten().any(|kind| !kind.is_empty()) {
            for (number, kinds) in documents.iter_mut().enumerate() {
                let kind = (0..KINDS.len()).map(|step| (number + turn + step) % KINDS.len());
                let Some(kind) = kind.into_iter().find(|kind| !kinds[*kind].is_empty()) else { continue };
                let candidate = kinds[kind].remove(0);
                let is_common = candidate.kind == "heading"
                    && headings.get(&plain(&candidate.source)).is_some_and(|count| *count > 1);
                if chosen.len() < count && !is_common && asked.insert(plain(&candidate.worded.question)) {
                    chosen.push((number, candidate));
                }
            }
            turn += 1;
        }
        let near = near::misses(&chosen, &self.words, &self.attributes, near_misses);
        let width = (chosen.len() + near.len()).to_string().len().max(2);
        let id = |at: usize| format!("d{:0width$}", at + 1);
        let half = |number: usize| if number.is_multiple_of(2) { "dev" } else { "test" };
        let answered = chosen.iter().enumerate().map(|(at, (number, candidate))| {
            let mut question = draft(id(at), &candidate.worded.question, candidate.kind, half(*number));
            question.relevant = vec![candidate.relevant.clone()];
            question.answer.clone_from(&candidate.worded.answer);
            question.other.insert("source".to_owned(), Value::String(candidate.source.clone()));
            Draft { question, passage: Some(candidate.passage) }
        });
        let mut drafts: Vec<Draft> = answered.collect();
        for (at, question) in near.into_iter().enumerate() {
            let mut question = draft(id(chosen.len() + at), &question, "near miss", half(at));
            question.refuse = true;
            drafts.push(Draft { question, passage: None });
        }
        drafts
    }
}

fn draft(id: String, question: &str, kind: &str, split: &str) -> SetQuestion {
    let other = [("kind", Value::String(kind.to_owned())), ("draft", Value::Bool(true))];
    SetQuestion {
        id,
        question: question.to_owned(),
        before: Vec::new(),
        relevant: Vec::new(),
        answer: None,
        refuse: false,
        split: Some(split.to_owned()),
        other: other.into_iter().map(|(name, value)| (name.to_owned(), value)).collect(),
    }
}

/// What a block gives: a question, and the words by which its place is known.
struct Found {
    kind: &'static str,
    worded: Worded,
    contains: Option<String>,
    source: String,
}

/// Returns what can be asked of a block. `lower` has the words that the document writes in lower case.
fn found(document: &Document, at: usize, lower: &HashSet<&str>) -> Vec<Found> {
    let block = &document.blocks[at];
    let text = document.block_text(block);
    match (block.kind, &block.table) {
        (BlockKind::Heading, _) => {
            let body = document.blocks[at + 1..].iter().take_while(|next| next.kind != BlockKind::Heading);
            let size: usize = body.map(|block| words(document.block_text(block)).count()).sum();
            // The title of a document with other headings names all of it.
            let headings = document.blocks.iter().filter(|block| block.kind == BlockKind::Heading).count();
            let is_title = headings > 1 && document.title.as_deref().is_some_and(|title| plain(title) == plain(text));
            let worded = of_heading(text.trim(), lower).filter(|_| size >= MIN_SECTION_WORDS && !is_title);
            let found = |worded| Found { kind: "heading", worded, contains: None, source: text.trim().to_owned() };
            worded.map(found).into_iter().collect()
        }
        (BlockKind::Table, Some(table)) => {
            let rows = table.header_rows.max(1)..table.rows.len();
            let cells = rows.flat_map(|row| (1..table.rows[row].cells.len()).map(move |column| (row, column)));
            let found = cells.filter_map(|(row, column)| {
                let worded = of_cell(&document.text, table, row, column, lower)?;
                let key = document.slice(*table.rows[row].cells.first()?).trim().to_owned();
                let source = table.row_alone(&document.text, row)?;
                Some(Found { kind: "table", worded, contains: Some(key), source })
            });
            thinned(found.collect(), MAX_OF_KIND / 2)
        }
        (BlockKind::Paragraph | BlockKind::ListItem | BlockKind::Quotation, _) => {
            let asked = |span: Span| {
                let sentence = text[span.range()].trim();
                let (kind, worded) =
                    of_sentence(sentence).or_else(|| Some(("definition", defined(sentence, lower)?)))?;
                let beginning: Vec<&str> = sentence.split_whitespace().take(6).collect();
                Some(Found { kind, worded, contains: Some(beginning.join(" ")), source: sentence.to_owned() })
            };
            sentences(text).into_iter().filter_map(asked).collect()
        }
        _ => Vec::new(),
    }
}

/// Returns the text around a block: the block, and after a heading its section, up to [`MAX_PASSAGE`] bytes of whole blocks.
fn passage(document: &Document, at: usize) -> Span {
    let block = &document.blocks[at];
    let (start, mut end) = (block.span.start, block.span.end);
    if block.kind == BlockKind::Heading {
        let body = document.blocks[at + 1..].iter().take_while(|next| next.kind != BlockKind::Heading);
        for next in body.take_while(|next| next.span.end <= start + MAX_PASSAGE) {
            end = end.max(next.span.end);
        }
    }
    Span::new(start, end)
}

/// Returns at most `max` of the values, evenly spread.
fn thinned<T>(values: Vec<T>, max: usize) -> Vec<T> {
    let count = values.len();
    if count <= max {
        return values;
    }
    let kept: HashSet<usize> = (0..max).map(|at| at * count / max).collect();
    values.into_iter().enumerate().filter(|(at, _)| kept.contains(at)).map(|(_, value)| value).collect()
}
