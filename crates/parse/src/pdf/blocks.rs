//! From lines to blocks: headings by size, list items by their markers, paragraphs joined over lines and pages.

use std::collections::{HashMap, HashSet};

use logothete_core::document::{BlockKind, DocumentBuilder};
use logothete_core::text::list_marker;

use super::headings::{Levels, has_leader, step};
use super::lines::Line;
use super::sheet::PageLines;
use super::tables::PageTable;

/// A distance between lines above the usual one by this factor parts two paragraphs.
const PARAGRAPH_GAP: f32 = 1.2;

/// Writes all pages as blocks.
pub(super) fn write(pages: &[PageLines], builder: &mut DocumentBuilder) {
    let mut writer = Writer { style: Style::of(pages), builder, open: None, page: None, furniture: Vec::new() };
    for page in pages {
        writer.page(page);
    }
    writer.close();
}

/// What is usual in the document.
struct Style {
    body: f32,
    leading: f32,
    headings: Levels,
    vocabulary: HashSet<String>,
}

impl Style {
    fn of(pages: &[PageLines]) -> Self {
        let lines = || pages.iter().flat_map(|page| &page.lines);
        let mut sizes: HashMap<i32, usize> = HashMap::new();
        for line in lines() {
            *sizes.entry(step(line.size)).or_default() += line.text.len();
        }
        let body_step = sizes.iter().max_by_key(|(size, count)| (**count, **size)).map_or(0, |(size, _)| *size);
        let body = body_step as f32 / 2.0;
        let mut gaps: Vec<f32> = pages
            .iter()
            .flat_map(|page| page.lines.windows(2))
            .filter(|pair| pair.iter().all(|line| step(line.size) == body_step))
            .map(|pair| pair[1].baseline - pair[0].baseline)
            .filter(|&gap| gap > 0.5 * body && gap < 3.0 * body)
            .collect();
        gaps.sort_by(f32::total_cmp);
        let words = lines().flat_map(|line| line.text.split_whitespace());
        Self {
            body,
            leading: gaps.get(gaps.len() / 3).copied().unwrap_or(body * 1.2),
            headings: Levels::of(pages, body),
            vocabulary: words.map(|word| bare(word).to_lowercase()).collect(),
        }
    }
}

fn bare(word: &str) -> &str {
    word.trim_matches(|c: char| !c.is_alphanumeric())
}

struct OpenBlock {
    kind: BlockKind,
    level: u8,
    parts: Vec<(Option<u32>, String)>,
    last: Line,
}

struct Writer<'a> {
    style: Style,
    builder: &'a mut DocumentBuilder,
    open: Option<OpenBlock>,
    /// A page that has begun, and has not been told to the builder.
    page: Option<u32>,
    /// Furniture that waits for the open block to end.
    furniture: Vec<(u32, String)>,
}

impl Writer<'_> {
    fn page(&mut self, page: &PageLines) {
        self.page = Some(page.number);
        let mut tables = page.tables.iter().peekable();
        for line in &page.lines {
            while let Some(table) = tables.next_if(|table| table.top < line.baseline) {
                self.table(table);
            }
            self.line(line);
        }
        for table in tables {
            self.table(table);
        }
        if self.page.is_some() {
            // A page with nothing in the text still begins somewhere.
            self.close();
            self.tell_page();
        }
        self.furniture.extend(page.furniture.iter().map(|line| (page.number, line.text.clone())));
    }

    fn tell_page(&mut self) {
        if let Some(page) = self.page.take() {
            self.builder.page(page);
        }
    }

    fn table(&mut self, table: &PageTable) {
        self.close();
        self.tell_page();
        self.builder.table(1, &table.rows);
    }

    fn line(&mut self, line: &Line) {
        let level = self.style.headings.level(line);
        if let Some(open) = &mut self.open
            && self.style.continues(open, line, level, self.page.is_some())
        {
            let page = self.page.take();
            self.style.append(open, page, line);
            return;
        }
        self.close();
        let kind = match level {
            Some(_) => BlockKind::Heading,
            None if has_leader(&line.text) || list_marker(&line.text).is_some() => BlockKind::ListItem,
            None => BlockKind::Paragraph,
        };
        let parts = vec![(self.page.take(), line.text.clone())];
        self.open = Some(OpenBlock { kind, level: level.unwrap_or(0), parts, last: line.clone() });
    }

    fn close(&mut self) {
        if let Some(open) = self.open.take() {
            let parts: Vec<(Option<u32>, &str)> =
                open.parts.iter().map(|(page, text)| (*page, text.as_str())).collect();
            self.builder.pages_block(open.kind, open.level, &parts);
        }
        for (page, text) in self.furniture.drain(..) {
            self.builder.furniture(page, &text);
        }
    }
}

impl Style {
    /// Whether a line goes on with the block that is open.
    fn continues(&self, open: &OpenBlock, line: &Line, level: Option<u8>, new_page: bool) -> bool {
        if step(open.last.size) != step(line.size) || (open.kind == BlockKind::Heading) != level.is_some() {
            return false;
        }
        if new_page {
            return self.flows_on(open, line, level);
        }
        // An entry of a table of contents ends with its page.
        if has_leader(&open.last.text) {
            return false;
        }
        let usual = self.leading * line.size / self.body.max(1.0);
        let gap = line.baseline - open.last.baseline;
        if gap < 0.0 {
            return self.flows_on(open, line, level);
        }
        gap <= usual * PARAGRAPH_GAP && !begins_item(open, line)
    }

    /// Whether a line at the head of a page or column goes on with the block at the foot of the one before.
    fn flows_on(&self, open: &OpenBlock, line: &Line, level: Option<u8>) -> bool {
        let ended = open.last.text.trim_end().ends_with(['.', '!', '?', ':', ';']);
        level.is_none() && !ended && line.text.starts_with(char::is_lowercase)
    }

    /// Adds a line to a block, mending a word that was parted at the end of the last one.
    fn append(&self, open: &mut OpenBlock, page: Option<u32>, line: &Line) {
        open.last = line.clone();
        let Some((_, before)) = open.parts.last_mut() else {
            return;
        };
        let tail = before.rsplit(char::is_whitespace).next().unwrap_or_default();
        let head = line.text.split_whitespace().next().unwrap_or_default();
        let parted = tail.len() > 1
            && tail.ends_with(['-', '‐'])
            && tail.trim_end_matches(['-', '‐']).ends_with(char::is_alphabetic)
            && head.starts_with(char::is_lowercase);
        if parted {
            let stem = bare(tail).to_lowercase();
            let rest = bare(head).to_lowercase();
            let hyphenated = format!("{stem}-{rest}");
            if !self.vocabulary.contains(&hyphenated) || self.vocabulary.contains(&format!("{stem}{rest}")) {
                before.truncate(before.trim_end_matches(['-', '‐']).len());
            }
        } else {
            before.push(' ');
        }
        match page {
            Some(page) => open.parts.push((Some(page), line.text.clone())),
            None => before.push_str(&line.text),
        }
    }
}

/// Whether a line begins a new item. A figure with a full stop may as well end a sentence, so it needs an end before it.
fn begins_item(open: &OpenBlock, line: &Line) -> bool {
    list_marker(&line.text).is_some_and(|marker| {
        let ended = open.last.text.trim_end().ends_with(['.', '!', '?', ':', ';', ',']);
        ended || !marker.ends_with('.')
    })
}
