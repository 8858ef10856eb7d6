//! Lists of contents, lists of questions and indexes: the blocks that only point to other places.

use std::collections::HashMap;

use super::{BlockKind, Document, Span};

/// Links that are a list, if nothing is between them.
const MIN_LINKS: usize = 4;
/// Lines that are a list, if each repeats a heading or leads to a page.
const MIN_LINES: usize = 3;
/// A longer line, in bytes, is no entry.
const MAX_ENTRY: usize = 400;
/// The share of a block's letters that are in links, if it is an entry.
const MIN_LINKED: f32 = 0.8;

/// Gives the blocks of a document that only point to other places the kind [`BlockKind::Contents`].
///
/// Such a block is a list of links to other parts of the documents, or each of its lines repeats a heading that comes later, or leads to a
/// page by a row of dots. `links` has the places of the links of this kind, ascending. Costs a pass over the text.
pub(super) fn mark(document: &mut Document, links: &[Span]) {
    let headings = Headings::of(document);
    let entries: Vec<Entries> = (0..document.blocks.len()).map(|at| headings.entries(document, at, links)).collect();
    let mut blocks = document.blocks.as_mut_slice();
    for run in entries.chunk_by(|a, b| a.is_entry() && b.is_entry()) {
        let (run_blocks, rest) = blocks.split_at_mut(run.len());
        let links: usize = run.iter().map(|entries| entries.links).sum();
        let lines: usize = run.iter().map(|entries| entries.lines).sum();
        if links >= MIN_LINKS || lines >= MIN_LINES {
            run_blocks.iter_mut().for_each(|block| block.kind = BlockKind::Contents);
        }
        blocks = rest;
    }
}

/// Returns `true` for a text that is a list of links: so many links, with so many of its letters in them.
pub fn is_list_of_links(links: usize, linked: usize, letters: usize) -> bool {
    links >= MIN_LINKS && is_linked(linked, letters)
}

fn is_linked(linked: usize, letters: usize) -> bool {
    linked > 0 && linked as f32 >= MIN_LINKED * letters as f32
}

/// Returns `true` if a line ends as the entries of a list of contents do: dots that lead to a page.
pub fn leads_to_page(line: &str) -> bool {
    let bare = line.trim_end();
    let page = bare.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, 'i' | 'v' | 'x' | 'l'));
    let dots = page.trim_end();
    let led = dots.len() - dots.trim_end_matches(['.', ' ', '·', '…']).len();
    page.len() < bare.len() && led >= 2 && dots.ends_with(['.', '·', '…'])
}

/// The entries of a block that has nothing else.
#[derive(Clone, Copy, Debug, Default)]
struct Entries {
    links: usize,
    lines: usize,
}

impl Entries {
    fn is_entry(self) -> bool {
        self.links > 0 || self.lines > 0
    }
}

/// The words of each heading, and the last block that has them.
struct Headings(HashMap<Vec<String>, usize>);

impl Headings {
    fn of(document: &Document) -> Self {
        let blocks = document.blocks.iter().enumerate();
        let headings = blocks.filter(|(_, block)| block.kind == BlockKind::Heading);
        let words = headings.map(|(at, block)| (words(document.slice(block.span)), at));
        Self(words.filter(|(words, _)| !words.is_empty()).collect())
    }

    /// Counts the entries of a block; none if it has anything else.
    fn entries(&self, document: &Document, at: usize, links: &[Span]) -> Entries {
        let block = &document.blocks[at];
        if !matches!(block.kind, BlockKind::Paragraph | BlockKind::ListItem | BlockKind::Code | BlockKind::Table) {
            return Entries::default();
        }
        let inside = &links[links.partition_point(|link| link.start < block.span.start)..];
        let inside = &inside[..inside.partition_point(|link| link.end <= block.span.end)];
        let linked: usize = inside.iter().map(|link| letters(document.slice(*link))).sum();
        let is_linked = is_linked(linked, letters(document.slice(block.span)));
        let lines = || document.slice(block.span).lines().filter(|line| !line.trim().is_empty());
        let points = lines().all(|line| leads_to_page(line) || self.repeats(line, at));
        Entries { links: if is_linked { inside.len() } else { 0 }, lines: if points { lines().count() } else { 0 } }
    }

    /// Returns `true` if a line is a heading that comes after a block, with or without a page behind it.
    fn repeats(&self, line: &str, at: usize) -> bool {
        if self.0.is_empty() || line.len() > MAX_ENTRY {
            return false;
        }
        let comes = |words: &[String]| self.0.get(words).is_some_and(|&last| last > at);
        let words = words(line);
        let is_page = |word: &String| word.bytes().all(|byte| byte.is_ascii_digit());
        comes(&words) || words.split_last().is_some_and(|(last, before)| is_page(last) && comes(before))
    }
}

/// Returns the words of a heading, in lower case, without a number or a letter that counts it.
fn words(line: &str) -> Vec<String> {
    let words = line.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    let counts = |word: &&str| word.contains(|c: char| c.is_ascii_digit()) || word.chars().nth(1).is_none();
    words.skip_while(counts).map(str::to_lowercase).collect()
}

fn letters(text: &str) -> usize {
    text.chars().filter(|c| c.is_alphabetic()).count()
}
