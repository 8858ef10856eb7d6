//! From lines to blocks: headings, list items by their markers, code by its type, captions, notes, tables over several
//! pages; paragraphs joined over lines, columns and pages.

use std::collections::{HashMap, HashSet};

use logothete_core::document::{BlockKind, DocumentBuilder, InlineLink, Piece, PieceLine, Span, TableCell, TableRow};
use logothete_core::text::list_marker;

use super::captions::is_caption;
use super::headings::{Levels, head_text, step};
use super::lines::{Line, Note};
use super::notes;
use super::outline::OutlineEntry;
use super::sheet::{Object, PageLines};
use super::tables::PageTable;

/// A distance between lines above the usual one by this factor parts two paragraphs.
const PARAGRAPH_GAP: f32 = 1.2;
/// The same for lines of code, where blank lines are part of the code.
const CODE_GAP: f32 = 3.2;
/// A line indented by this many times its size against the one above begins a paragraph.
const INDENT: f32 = 0.9;
/// The greatest distance of a caption from its figure or table, in points.
const CAPTION_REACH: f32 = 60.0;

/// Writes all pages as blocks.
pub(super) fn write(pages: &mut [PageLines], outline: &[OutlineEntry], builder: &mut DocumentBuilder) {
    let body = body_size(pages);
    for page in pages.iter_mut() {
        notes::mark(page, body);
    }
    let style = Style::of(pages, body, outline);
    let repeated = repeated_aslant(pages);
    let mut writer = Writer {
        style,
        builder,
        open: None,
        table: None,
        page: None,
        told: None,
        deferred: Vec::new(),
        notes: Vec::new(),
        repeated,
    };
    for page in pages.iter() {
        writer.page(page);
    }
    writer.close();
}

/// Returns the size of most of the text.
fn body_size(pages: &[PageLines]) -> f32 {
    let mut sizes: HashMap<i32, usize> = HashMap::new();
    for line in pages.iter().flat_map(PageLines::text_lines) {
        *sizes.entry(step(line.size)).or_default() += line.text.len();
    }
    sizes.iter().max_by_key(|(size, count)| (**count, **size)).map_or(0.0, |(size, _)| *size as f32 / 2.0)
}

/// Slanting lines that several pages repeat: stamps, not text.
fn repeated_aslant(pages: &[PageLines]) -> HashSet<String> {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    for (_, line) in pages.iter().flat_map(|page| &page.aslant) {
        *counts.entry(&line.text).or_default() += 1;
    }
    counts
        .into_iter()
        .filter(|(_, count)| *count >= 3.min(pages.len()).max(2))
        .map(|(text, _)| text.to_owned())
        .collect()
}

/// The usual measures of the document.
struct Style {
    body: f32,
    leading: f32,
    /// Whether most of the text is monospaced, which then does not mean code.
    typewritten: bool,
    headings: Levels,
    vocabulary: HashSet<String>,
}

impl Style {
    fn of(pages: &[PageLines], body: f32, outline: &[OutlineEntry]) -> Self {
        let lines = || pages.iter().flat_map(PageLines::text_lines);
        let mut gaps: Vec<f32> = pages
            .iter()
            .flat_map(|page| page.lines.windows(2))
            .filter(|pair| pair.iter().all(|line| step(line.size) == step(body) && notes::is_text(line)))
            .map(|pair| pair[1].baseline - pair[0].baseline)
            .filter(|&gap| gap > 0.5 * body && gap < 3.0 * body)
            .collect();
        gaps.sort_by(f32::total_cmp);
        let (one_width, all) =
            lines().fold((0, 0), |(some, all), line| (some + usize::from(line.pitch > 0.0), all + 1));
        // The words are only needed if one is hyphenated at the end of a line.
        let parts = lines().any(|line| ends_in_hyphen(&line.text));
        let words = lines().filter(|_| parts).flat_map(|line| line.text.split_whitespace());
        let distinct: HashSet<&str> = words.map(bare).collect();
        Self {
            body,
            leading: gaps.get(gaps.len() / 3).copied().unwrap_or(body * 1.2),
            typewritten: one_width * 2 > all,
            headings: Levels::of(pages, body, outline),
            vocabulary: distinct.into_iter().map(str::to_lowercase).collect(),
        }
    }

    fn is_code(&self, line: &Line) -> bool {
        line.pitch > 0.0 && !self.typewritten
    }
}

fn ends_in_hyphen(text: &str) -> bool {
    text.ends_with(['-', '‐'])
}

fn bare(word: &str) -> &str {
    word.trim_matches(|c: char| !c.is_alphanumeric())
}

/// A block that has not ended yet.
struct OpenBlock<'a> {
    kind: BlockKind,
    level: u8,
    pieces: Vec<Piece>,
    /// The number of its lines, and the last of them.
    lines: usize,
    last: &'a Line,
    /// The lines of code, and the blank lines before each.
    code: Vec<(&'a Line, usize)>,
}

/// The blocks to write after the open one.
enum Deferred {
    Furniture { page: u32, line: Line, area: logothete_core::document::Area },
    Block { kind: BlockKind, page: u32, piece: Piece },
}

/// A table that may go on with the next page.
struct OpenTable<'a> {
    first: &'a PageTable,
    rows: Vec<TableRow>,
    header_rows: usize,
    page: u32,
}

struct Writer<'a, 'b> {
    style: Style,
    builder: &'b mut DocumentBuilder,
    open: Option<OpenBlock<'a>>,
    table: Option<OpenTable<'a>>,
    /// A page that has begun and that the builder does not know of yet.
    page: Option<u32>,
    /// The last page that the builder knows of.
    told: Option<u32>,
    deferred: Vec<Deferred>,
    /// The footnotes of the page that no block has referred to yet, with their marks.
    notes: Vec<(String, Piece)>,
    repeated: HashSet<String>,
}

impl<'a> Writer<'a, '_> {
    fn page(&mut self, page: &'a PageLines) {
        self.page = Some(page.number);
        self.notes = self.style.notes(page);
        for (index, line) in page.lines.iter().enumerate() {
            match line.object.and_then(|object| page.objects.get(object)) {
                Some(object) => self.object(page, object),
                None => self.line(page, index),
            }
        }
        // Notes that nothing on the page refers to come at its end.
        for (_, piece) in std::mem::take(&mut self.notes) {
            self.deferred.push(Deferred::Block { kind: BlockKind::Footnote, page: page.number, piece });
        }
        for (degrees, line) in &page.aslant {
            let area = page.shown(line.area, *degrees).area;
            if self.repeated.contains(&line.text) {
                self.deferred.push(Deferred::Furniture { page: page.number, line: line.clone(), area });
            } else {
                let placed = PieceLine { span: Span::new(0, line.text.len()), page: page.number, area };
                let piece = Piece { lines: vec![placed], ..line.text.as_str().into() };
                self.deferred.push(Deferred::Block { kind: BlockKind::Paragraph, page: page.number, piece });
            }
        }
        if self.page.is_some() {
            // A page with nothing in the text still begins somewhere.
            self.close();
            self.tell_page();
        }
        for line in &page.furniture {
            let area = page.shown(line.area, 0).area;
            self.deferred.push(Deferred::Furniture { page: page.number, line: line.clone(), area });
        }
    }

    fn tell_page(&mut self) {
        if let Some(page) = self.page.take() {
            self.builder.page(page);
            self.told = Some(page);
        }
    }

    /// Returns the page that a new piece begins on, if it is a new one.
    fn take_page(&mut self) -> Option<u32> {
        let page = self.page.take();
        self.told = page.or(self.told);
        page
    }

    fn object(&mut self, page: &'a PageLines, object: &'a Object) {
        match object {
            Object::Table(table) => self.on_table(page, table),
            Object::Figure(figure) => {
                self.close();
                self.tell_page();
                self.builder.figure(Some(page.shown(figure.area, 0)), &figure.text);
            }
            Object::Aside(lines) => {
                let mut piece = Piece::default();
                for line in lines {
                    let blank = !piece.text.is_empty();
                    add_line(&mut piece, page, line, blank);
                }
                self.deferred.push(Deferred::Block { kind: BlockKind::Quotation, page: page.number, piece });
            }
        }
    }

    /// A table: a new one, or the rest of the one that the last page ended with.
    fn on_table(&mut self, page: &'a PageLines, table: &'a PageTable) {
        let made = |page_start: Option<u32>, skipped: usize| -> Vec<TableRow> {
            let rows = table.rows.iter().skip(skipped).enumerate();
            rows.map(|(index, row)| TableRow {
                cells: row.cells.clone(),
                page: page_start.filter(|_| index == 0),
                area: Some(page.shown(row.area, 0)),
            })
            .collect()
        };
        let goes_on = self.open.is_none()
            && self.table.as_ref().is_some_and(|open| open.page + 1 == page.number && open.goes_on_with(table));
        if goes_on && let Some(mut open) = self.table.take() {
            let repeated = open.repeated_header(table);
            let start = self.take_page();
            open.rows.extend(made(start, repeated));
            open.page = page.number;
            self.table = Some(open);
            return;
        }
        self.close();
        self.tell_page();
        if let Some(title) = &table.title {
            self.builder.block(BlockKind::Caption, title);
        }
        self.table =
            Some(OpenTable { first: table, rows: made(None, 0), header_rows: table.header_rows, page: page.number });
    }

    fn line(&mut self, page: &'a PageLines, index: usize) {
        let line = &page.lines[index];
        if line.note != Note::None {
            return;
        }
        let level = self.style.headings.level(page, index);
        if let Some(open) = &mut self.open
            && self.style.continues(open, line, level, self.page.is_some())
        {
            let start = self.page.take();
            self.told = start.or(self.told);
            self.style.append(open, start, page, line);
            return;
        }
        // The name of a table that goes on is said again on the next page.
        let again = line.text.to_lowercase();
        let continued =
            self.table.is_some() && is_caption(&line.text) && (again.contains("continued") || again.contains("cont."));
        if continued {
            let area = page.shown(line.area, 0).area;
            self.deferred.push(Deferred::Furniture { page: page.number, line: line.clone(), area });
            return;
        }
        self.close();
        let kind = match level {
            Some(_) => BlockKind::Heading,
            None if self.style.is_code(line) => BlockKind::Code,
            None if is_caption(&line.text) && has_object_near(page, line) => BlockKind::Caption,
            None if line.is_entry() || list_marker(&line.text).is_some() => BlockKind::ListItem,
            None => BlockKind::Paragraph,
        };
        let mut piece = Piece { page: self.take_page(), ..Piece::default() };
        let mut rest = None;
        if kind == BlockKind::Heading && head_text(line).len() < line.text.len() {
            let head = head_text(line).len();
            let mut both = Piece::default();
            add_line(&mut both, page, line, false);
            rest = Some(both.text[head..].trim_start().to_owned());
            both.text.truncate(head);
            both.lines.iter_mut().for_each(|line| line.span = Span::new(0, head));
            both.links.retain(|link| link.span.end <= head);
            piece = Piece { page: piece.page, ..both };
        } else if kind != BlockKind::Code {
            add_line(&mut piece, page, line, false);
        }
        let code = if kind == BlockKind::Code { vec![(line, 0)] } else { Vec::new() };
        if kind == BlockKind::Code {
            let area = page.shown(line.area, 0);
            piece.lines.push(PieceLine { span: Span::new(0, 0), page: area.page, area: area.area });
        }
        self.open =
            Some(OpenBlock { kind, level: level.unwrap_or(0), pieces: vec![piece], lines: 1, last: line, code });
        if let Some(rest) = rest {
            self.close();
            self.builder.block(BlockKind::Paragraph, &rest);
        }
    }

    fn close(&mut self) {
        if let Some(table) = self.table.take() {
            self.builder.table_rows(table.header_rows, &table.rows);
        }
        if let Some(mut open) = self.open.take() {
            if open.kind == BlockKind::Code {
                let lines: Vec<PieceLine> = open.pieces.iter().flat_map(|piece| piece.lines.clone()).collect();
                let page = open.pieces.first().and_then(|piece| piece.page);
                open.pieces = vec![code_piece(&open.code, &lines, page)];
            } else if open.kind == BlockKind::Heading {
                let text: String = open.pieces.iter().map(|piece| piece.text.as_str()).collect();
                open.level = self.style.headings.outlined(&text).unwrap_or(open.level);
            }
            self.builder.pieces(open.kind, open.level, &open.pieces);
            self.referred_notes(&open.pieces);
        }
        for deferred in std::mem::take(&mut self.deferred) {
            match deferred {
                Deferred::Furniture { page, line, area } => self.builder.furniture(page, Some(area), &line.text),
                Deferred::Block { kind, page, mut piece } => {
                    let now = self.page.or(self.told);
                    if self.told != Some(page) {
                        piece.page = Some(page);
                        self.told = Some(page);
                        // The following text is on the later page again.
                        self.page = now;
                    }
                    self.builder.pieces(kind, 0, &[piece]);
                }
            }
        }
    }
}

impl Writer<'_, '_> {
    /// Writes the notes that a block refers to directly after it, in its section.
    fn referred_notes(&mut self, pieces: &[Piece]) {
        for (mark, piece) in std::mem::take(&mut self.notes) {
            if !mark.is_empty() && pieces.iter().any(|said| said.text.contains(&mark)) {
                self.builder.pieces(BlockKind::Footnote, 0, &[piece]);
            } else {
                self.notes.push((mark, piece));
            }
        }
    }
}

impl OpenTable<'_> {
    /// Returns `true` if a table at the head of the next page is the rest of this one: as many columns at the same places.
    fn goes_on_with(&self, table: &PageTable) -> bool {
        let (one, other) = (&self.first.gutters, &table.gutters);
        let near = |(a, b): (&f32, &f32)| (a - b).abs() < 24.0;
        let sides = (self.first.area.left - table.area.left).abs() < 24.0;
        one.len() == other.len() && sides && one.iter().zip(other).all(near)
    }

    /// Returns the number of rows at the head of the rest that repeat the names of the columns.
    fn repeated_header(&self, table: &PageTable) -> usize {
        let text = |cells: &[TableCell]| cells.to_vec();
        let same = (0..self.header_rows.max(table.header_rows))
            .take_while(|&row| {
                let (here, there) = (self.first.rows.get(row), table.rows.get(row));
                here.zip(there).is_some_and(|(here, there)| text(&here.cells) == text(&there.cells))
            })
            .count();
        same.min(table.rows.len())
    }
}

/// Adds a line to a piece, with its place and its links.
fn add_line(piece: &mut Piece, page: &PageLines, line: &Line, blank: bool) {
    if blank {
        piece.text.push(' ');
    }
    let start = piece.text.len();
    piece.text.push_str(&line.text);
    let placed = page.shown(line.area, 0);
    piece.lines.push(PieceLine { span: Span::new(start, piece.text.len()), page: placed.page, area: placed.area });
    piece.links.extend(line.links.iter().map(|link| InlineLink {
        span: Span::new(link.span.start + start, link.span.end + start),
        target: link.target.clone(),
    }));
    piece.words.extend(line.words.iter().map(|word| (Span::new(word.0.start + start, word.0.end + start), word.1)));
}

/// Returns the lines of code with their indents and blank lines.
fn code_piece(code: &[(&Line, usize)], places: &[PieceLine], page: Option<u32>) -> Piece {
    let left = code.iter().map(|(line, _)| line.area.left).fold(f32::INFINITY, f32::min);
    let mut piece = Piece { page, ..Piece::default() };
    for (index, (line, blanks)) in code.iter().enumerate() {
        if index > 0 {
            piece.text.extend(std::iter::repeat_n('\n', blanks + 1));
        }
        let indent = ((line.area.left - left) / (line.pitch * line.size).max(1.0)).round().clamp(0.0, 120.0) as usize;
        piece.text.extend(std::iter::repeat_n(' ', indent));
        let start = piece.text.len();
        piece.text.push_str(&line.text);
        let span = Span::new(start, piece.text.len());
        piece.lines.extend(places.get(index).map(|place| PieceLine { span, ..*place }));
    }
    piece
}

/// Returns `true` if a figure or a table is close above or below a line.
fn has_object_near(page: &PageLines, line: &Line) -> bool {
    page.objects.iter().any(|object| {
        let area = match object {
            Object::Table(table) => table.area,
            Object::Figure(figure) => figure.area,
            Object::Aside(_) => return false,
        };
        let across = line.area.left < area.right + CAPTION_REACH && line.area.right > area.left - CAPTION_REACH;
        across && line.area.bottom > area.top - CAPTION_REACH && line.area.top < area.bottom + CAPTION_REACH
    })
}

impl Style {
    /// Returns the footnotes of a page, each with its mark.
    fn notes(&self, page: &PageLines) -> Vec<(String, Piece)> {
        let mut found: Vec<(String, Piece)> = Vec::new();
        for line in page.lines.iter().filter(|line| line.note != Note::None) {
            match found.last_mut().filter(|_| line.note == Note::GoesOn) {
                Some((_, piece)) => {
                    let blank = self.mend(&mut piece.text, &line.text);
                    add_line(piece, page, line, blank);
                }
                None => {
                    let mut piece = Piece::default();
                    add_line(&mut piece, page, line, false);
                    found.push((notes::mark_of(&line.text), piece));
                }
            }
        }
        found
    }

    /// Returns `true` if a line goes on with the block that is open.
    fn continues(&self, open: &OpenBlock<'_>, line: &Line, level: Option<u8>, new_page: bool) -> bool {
        if step(open.last.size) != step(line.size) || (open.kind == BlockKind::Heading) != level.is_some() {
            return false;
        }
        let usual = self.leading * line.size / self.body.max(1.0);
        let gap = line.baseline - open.last.baseline;
        if self.is_code(line) || open.kind == BlockKind::Code {
            return self.is_code(line)
                && open.kind == BlockKind::Code
                && !new_page
                && gap > 0.0
                && gap <= usual * CODE_GAP;
        }
        if open.kind == BlockKind::Heading && (line.boxed || open.last.boxed || open.last.bold != line.bold) {
            return false;
        }
        if new_page {
            return self.flows_on(open, line, level);
        }
        // An entry of a table of contents ends with its page.
        if open.last.is_entry() {
            return false;
        }
        if gap < 0.0 {
            return self.flows_on(open, line, level);
        }
        gap <= usual * PARAGRAPH_GAP && !begins_item(open, line) && !begins_paragraph(open, line)
    }

    /// Returns `true` if a line at the head of a page or column goes on with the block at the foot of the one before.
    fn flows_on(&self, open: &OpenBlock<'_>, line: &Line, level: Option<u8>) -> bool {
        let ended = open.last.text.trim_end().ends_with(['.', '!', '?', ':', ';']);
        level.is_none() && open.kind != BlockKind::Caption && !ended && line.text.starts_with(char::is_lowercase)
    }

    /// Adds a line to a block, and joins a word that was hyphenated at the end of the last line.
    fn append<'a>(&self, open: &mut OpenBlock<'a>, start: Option<u32>, page: &PageLines, line: &'a Line) {
        let gap = line.baseline - open.last.baseline;
        open.last = line;
        open.lines += 1;
        let Some(before) = open.pieces.last_mut() else { return };
        if open.kind == BlockKind::Code {
            let usual = self.leading * line.size / self.body.max(1.0);
            open.code.push((line, if gap > 1.6 * usual { (gap / usual).round() as usize - 1 } else { 0 }));
            let area = page.shown(line.area, 0);
            before.lines.push(PieceLine { span: Span::new(0, 0), page: area.page, area: area.area });
            return;
        }
        let blank = self.mend(&mut before.text, &line.text);
        match start {
            Some(_) => {
                if blank {
                    before.text.push(' ');
                }
                let mut piece = Piece { page: start, ..Piece::default() };
                add_line(&mut piece, page, line, false);
                open.pieces.push(piece);
            }
            None => add_line(before, page, line, blank),
        }
    }

    /// Removes the hyphen of a word at the end of a line. Returns `false` if no blank belongs between the two lines.
    fn mend(&self, before: &mut String, next: &str) -> bool {
        let tail = before.rsplit(char::is_whitespace).next().unwrap_or_default();
        let head = next.split_whitespace().next().unwrap_or_default();
        let parted = tail.len() > 1
            && ends_in_hyphen(tail)
            && tail.trim_end_matches(['-', '‐']).ends_with(char::is_alphabetic)
            && head.starts_with(char::is_lowercase);
        if parted {
            let stem = bare(tail).to_lowercase();
            let rest = bare(head).to_lowercase();
            let hyphenated = format!("{stem}-{rest}");
            if !self.vocabulary.contains(&hyphenated) || self.vocabulary.contains(&format!("{stem}{rest}")) {
                before.truncate(before.trim_end_matches(['-', '‐']).len());
            }
        }
        !parted
    }
}

/// Returns `true` if a line begins a new item. A figure with a full stop may also end a sentence, so the line before must have ended one.
fn begins_item(open: &OpenBlock<'_>, line: &Line) -> bool {
    list_marker(&line.text).is_some_and(|marker| {
        let ended = open.last.text.trim_end().ends_with(['.', '!', '?', ':', ';', ',']);
        ended || !marker.ends_with('.')
    })
}

/// Returns `true` if a line begins a new paragraph by its indent, against the last line of the open one.
fn begins_paragraph(open: &OpenBlock<'_>, line: &Line) -> bool {
    if !matches!(open.kind, BlockKind::Paragraph | BlockKind::ListItem) {
        return false;
    }
    let moved = line.area.left - open.last.area.left;
    let ended = open.last.text.trim_end().ends_with(['.', '!', '?', ':']);
    // The second line of an item hangs below its text, not below its marker.
    let hangs = open.lines == 1 && open.kind == BlockKind::ListItem;
    let indented = moved > INDENT * line.size && moved < 5.0 * line.size && ended && !hangs;
    // Back at the margin after lines that hang below a first one.
    let hung = moved < -INDENT * line.size && open.lines > 1 && ended;
    indented || hung
}
