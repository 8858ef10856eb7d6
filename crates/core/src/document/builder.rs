//! Builds a document block by block.

use unicode_normalization::{UnicodeNormalization, is_nfc};

use super::{
    Area, Block, BlockKind, Budget, Document, Furniture, LineBox, Link, Made, Metadata, Moment, PageArea, PageStart,
    RecognisedWord, Row, Span, Table, Value, contents,
};

/// A part of a block with its places.
#[derive(Clone, Debug, Default)]
pub struct Piece {
    /// The page it begins on, if that is a new one.
    pub page: Option<u32>,
    /// The time at which it is spoken, in seconds from the start of the recording.
    pub seconds: Option<f64>,
    /// The text.
    pub text: String,
    /// The places of its lines.
    pub lines: Vec<PieceLine>,
    /// The links in it.
    pub links: Vec<InlineLink>,
    /// Words recognised from a picture, with the confidence from 0 to 1.
    pub words: Vec<(Span, f32)>,
}

impl Piece {
    /// Returns the number of bytes of its text and of the targets of its links.
    fn bytes(&self) -> usize {
        self.text.len() + self.links.iter().map(|link| link.target.len()).sum::<usize>()
    }
}

/// A line of a piece.
#[derive(Clone, Copy, Debug)]
pub struct PieceLine {
    /// Its bytes in the piece's text.
    pub span: Span,
    /// The page it is on.
    pub page: u32,
    /// Its rectangle on the page.
    pub area: Area,
}

/// A link in a piece.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InlineLink {
    /// Its bytes in the piece's text.
    pub span: Span,
    /// The target.
    pub target: String,
}

impl From<&str> for Piece {
    fn from(text: &str) -> Self {
        Self { text: text.to_owned(), ..Self::default() }
    }
}

/// A cell of a table under construction.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TableCell {
    /// A cell of its own.
    Text(String),
    /// The cell above spans this place too.
    Above,
    /// The cell on the left spans this place too.
    Left,
}

impl TableCell {
    /// Returns the number of bytes of its text, with what parts it from the next one.
    fn bytes(&self) -> usize {
        let text = if let Self::Text(text) = self { text.len() } else { 0 };
        text + CELL_SEPARATOR.len()
    }
}

/// A row of a table under construction.
#[derive(Clone, Debug, Default)]
pub struct TableRow {
    /// Its cells from left to right.
    pub cells: Vec<TableCell>,
    /// The page it begins on, if that is a new one.
    pub page: Option<u32>,
    /// Its rectangle.
    pub area: Option<PageArea>,
}

impl TableRow {
    /// Creates a row of plain cells.
    pub fn of<S: AsRef<str>>(cells: &[S]) -> Self {
        let cells = cells.iter().map(|cell| TableCell::Text(cell.as_ref().to_owned())).collect();
        Self { cells, ..Self::default() }
    }
}

/// The separator of two blocks.
const SEPARATOR: &str = "\n\n";
/// The separator of two cells.
const CELL_SEPARATOR: &str = " | ";

/// Builds a [`Document`] whose spans are right by construction.
///
/// Text is normalised to Unicode NFC, control characters other than tab and line end are dropped, and a blank line separates
/// blocks.
#[derive(Debug, Default)]
pub struct DocumentBuilder {
    document: Document,
    /// The places of links to other places of the documents.
    inner_links: Vec<Span>,
    /// What bounds the document; `None` means nothing does.
    budget: Option<Budget>,
    /// The number of cells of its tables, and of bytes of the targets of its links.
    cells: usize,
    target_bytes: usize,
}

impl DocumentBuilder {
    /// Starts a document of a media type.
    pub fn new(name: impl Into<String>, media_type: impl Into<String>) -> Self {
        let document = Document { name: name.into(), media_type: media_type.into(), ..Document::default() };
        Self { document, ..Self::default() }
    }

    /// Starts a document that does not grow beyond a budget: what would pass a limit is left out, and the budget fails its next check.
    pub fn within(name: impl Into<String>, media_type: impl Into<String>, budget: &Budget) -> Self {
        Self { budget: Some(budget.clone()), ..Self::new(name, media_type) }
    }

    /// Returns `true` if the budget has room for more text, blocks and cells, with their places.
    fn has_room(&self, text: usize, blocks: usize, cells: usize, places: usize) -> bool {
        let Some(budget) = &self.budget else { return true };
        let document = &self.document;
        let lines = document.boxes.len() + document.recognised.len();
        let held = lines + document.links.len() + document.page_starts.len() + document.moments.len();
        let all = [
            (Made::Text, document.text.len() + self.target_bytes + text),
            (Made::Blocks, document.blocks.len() + blocks),
            (Made::Cells, self.cells + cells),
            (Made::Places, held + places),
        ];
        all.into_iter().all(|(made, has)| budget.allows(made, has as u64))
    }

    /// Counts what a parser holds before it is in the document, as [`Budget::count`] does. Returns `false` if it is too much, or the document is
    /// [full](Self::is_full).
    pub fn may_make(&self, made: Made, more: usize) -> bool {
        self.budget.as_ref().is_none_or(|budget| budget.count(made, more as u64).is_ok())
    }

    /// Returns `true` if the time is over, or a limit of the budget was passed: what follows is not worth reading.
    pub fn is_full(&self) -> bool {
        self.budget.as_ref().is_some_and(|budget| budget.check().is_err())
    }

    /// Sets the page of the following text.
    pub fn page(&mut self, page: u32) {
        self.document.page_starts.push(PageStart { page, start: self.document.text.len(), label: None });
    }

    /// Sets the document's own label of a page that has begun.
    pub fn page_label(&mut self, page: u32, label: &str) {
        if label != page.to_string() {
            for start in self.document.page_starts.iter_mut().filter(|start| start.page == page) {
                start.label = Some(label.to_owned());
            }
        }
    }

    /// Adds a block of text. Text of white space only is ignored.
    pub fn block(&mut self, kind: BlockKind, text: &str) {
        self.pieces(kind, 0, &[text.into()]);
    }

    /// Adds a block of text with a link.
    pub fn linked_block(&mut self, kind: BlockKind, level: u8, text: &str, links: Vec<InlineLink>) {
        self.pieces(kind, level, &[Piece { links, ..text.into() }]);
    }

    /// Adds a heading of a level, 1 the outermost.
    pub fn heading(&mut self, level: u8, text: &str) {
        self.pieces(BlockKind::Heading, level.max(1), &[text.into()]);
    }

    /// Adds a block in pieces, which may lie on several pages.
    pub fn pieces(&mut self, kind: BlockKind, level: u8, pieces: &[Piece]) {
        if pieces.iter().all(|piece| piece.text.trim().is_empty()) {
            for page in pieces.iter().filter_map(|piece| piece.page) {
                self.page(page);
            }
            return;
        }
        let text: usize = pieces.iter().map(Piece::bytes).sum();
        let places = pieces.iter().map(|piece| piece.lines.len() + piece.links.len() + piece.words.len() + 2).sum();
        if !self.has_room(text, 1, 0, places) {
            return;
        }
        self.part();
        let start = self.document.text.len();
        for piece in pieces {
            if let Some(page) = piece.page {
                self.page(page);
            }
            if let Some(seconds) = piece.seconds {
                self.document.moments.push(Moment { seconds, start: self.document.text.len() });
            }
            self.write(piece, start);
        }
        self.trim_from(start);
        let span = Span::new(start, self.document.text.len());
        self.push(Block { level, ..plain(kind, span) });
    }

    /// Writes the text of a piece, cleaned part by part, and keeps its places right.
    fn write(&mut self, piece: &Piece, block: usize) {
        let leading = if self.document.text.len() == block {
            piece.text.len() - piece.text.trim_start_matches(['\n', '\r', '\u{feff}']).len()
        } else {
            0
        };
        let places = piece.lines.iter().map(|line| line.span).chain(piece.links.iter().map(|link| link.span));
        let places = places.chain(piece.words.iter().map(|word| word.0));
        let mut cuts: Vec<usize> = places
            .flat_map(|span| [span.start, span.end])
            .chain([piece.text.len()])
            .filter(|&cut| cut >= leading && piece.text.is_char_boundary(cut))
            .collect();
        cuts.sort_unstable();
        cuts.dedup();
        let mut written = vec![(leading, self.document.text.len())];
        let mut from = leading;
        for cut in cuts {
            self.document.text.push_str(&clean(&piece.text[from..cut]));
            written.push((cut, self.document.text.len()));
            from = cut;
        }
        let place = |span: Span| {
            let at = |raw: usize| {
                let index = written.partition_point(|(cut, _)| *cut <= raw).saturating_sub(1);
                written[index].1
            };
            Span::new(at(span.start), at(span.end))
        };
        let boxes = piece.lines.iter().map(|line| LineBox { span: place(line.span), page: line.page, area: line.area });
        self.document.boxes.extend(boxes.filter(|line| !line.span.is_empty()));
        for InlineLink { span, target } in &piece.links {
            let span = place(*span);
            if span.is_empty() {
                continue;
            }
            if points_inside(target) {
                self.inner_links.push(span);
            }
            if points_out(target) {
                self.target_bytes += target.len();
                self.document.links.push(Link { span, target: target.clone() });
            }
        }
        let words = piece.words.iter().map(|&(span, confidence)| RecognisedWord { span: place(span), confidence });
        self.document.recognised.extend(words.filter(|word| !word.span.is_empty()));
    }

    /// Adds a table from its cells, row by row; the first `header_rows` rows name the columns.
    pub fn table<S: AsRef<str>>(&mut self, header_rows: usize, rows: &[Vec<S>]) {
        let rows: Vec<TableRow> = rows.iter().map(|cells| TableRow::of(cells)).collect();
        self.table_rows(header_rows, &rows);
    }

    /// Adds a table whose cells may span rows and columns, and whose rows may lie on several pages.
    pub fn table_rows(&mut self, header_rows: usize, rows: &[TableRow]) {
        let blank = |cell: &TableCell| !matches!(cell, TableCell::Text(text) if !text.trim().is_empty());
        if rows.iter().flat_map(|row| &row.cells).all(blank) {
            return;
        }
        let cells: usize = rows.iter().map(|row| row.cells.len()).sum();
        let text: usize = rows.iter().flat_map(|row| &row.cells).map(TableCell::bytes).sum();
        if !self.has_room(text, 1, cells, rows.len()) {
            return;
        }
        self.cells += cells;
        self.part();
        let start = self.document.text.len();
        let mut table = Table { header_rows: header_rows.min(rows.len()), rows: Vec::with_capacity(rows.len()) };
        for written in rows {
            if self.document.text.len() > start {
                self.document.text.push('\n');
            }
            if let Some(page) = written.page {
                self.page(page);
            }
            let row_start = self.document.text.len();
            let mut row = Row { span: Span::default(), cells: Vec::with_capacity(written.cells.len()) };
            for (column, cell) in written.cells.iter().enumerate() {
                if column > 0 {
                    self.document.text.push_str(CELL_SEPARATOR);
                }
                let here = self.document.text.len();
                let above = table.rows.last().and_then(|above| above.cells.get(column).copied());
                let span = match cell {
                    TableCell::Text(text) => {
                        let words = clean(text);
                        self.document.text.push_str(&words.split_whitespace().collect::<Vec<_>>().join(" "));
                        Span::new(here, self.document.text.len())
                    }
                    TableCell::Above => above.unwrap_or(Span::new(here, here)),
                    TableCell::Left => row.cells.last().copied().unwrap_or(Span::new(here, here)),
                };
                row.cells.push(span);
            }
            row.span = Span::new(row_start, self.document.text.len());
            if let Some(PageArea { page, area }) = written.area {
                self.document.boxes.push(LineBox { span: row.span, page, area });
            }
            table.rows.push(row);
        }
        let span = Span::new(start, self.document.text.len());
        self.push(Block { table: Some(table), ..plain(BlockKind::Table, span) });
    }

    /// Says that the block that was added last only points to other places.
    pub fn mark_contents(&mut self) {
        if let Some(block) = self.document.blocks.last_mut() {
            block.kind = BlockKind::Contents;
        }
    }

    /// Adds a figure with the text inside it, if any.
    pub fn figure(&mut self, place: Option<PageArea>, text: &str) {
        if text.trim().is_empty() {
            let at = self.document.text.len();
            self.push(Block { figure: place, ..plain(BlockKind::Figure, Span::new(at, at)) });
            return;
        }
        let lines = place.map(|PageArea { page, area }| PieceLine { span: Span::new(0, text.len()), page, area });
        self.pieces(BlockKind::Figure, 0, &[Piece { lines: lines.into_iter().collect(), ..text.into() }]);
        if let Some(block) = self.document.blocks.last_mut() {
            block.figure = place;
        }
    }

    /// Adds a running header, a footer or a page number, which is kept outside the text.
    pub fn furniture(&mut self, page: u32, area: Option<Area>, text: &str) {
        if !self.has_room(text.len(), 1, 0, 0) {
            return;
        }
        let at = self.document.text.len();
        let furniture = Furniture { text: clean(text).trim().to_owned(), page, area };
        self.push(Block { furniture: Some(furniture), ..plain(BlockKind::Furniture, Span::new(at, at)) });
    }

    fn push(&mut self, block: Block) {
        if self.has_room(0, 1, 0, 0) {
            self.document.blocks.push(block);
        }
    }

    /// Adds all of another document, with its headings `deeper` levels down. Its pages are not kept.
    pub fn append(&mut self, other: &Document, deeper: u8) {
        let rows = other.blocks.iter().filter_map(|block| block.table.as_ref()).flat_map(|table| &table.rows);
        let cells = rows.map(|row| row.cells.len()).sum();
        if other.text.is_empty() || !self.has_room(other.text.len(), other.blocks.len(), cells, other.links.len()) {
            return;
        }
        self.cells += cells;
        self.part();
        let base = self.document.text.len();
        self.document.text.push_str(&other.text);
        let moved = |span: Span| Span::new(span.start + base, span.end + base);
        for block in other.blocks.iter().filter(|block| block.furniture.is_none()) {
            let mut block = Block { span: moved(block.span), figure: None, ..block.clone() };
            if block.kind == BlockKind::Heading {
                block.level = block.level.saturating_add(deeper);
            }
            for row in block.table.iter_mut().flat_map(|table| &mut table.rows) {
                row.span = moved(row.span);
                row.cells.iter_mut().for_each(|cell| *cell = moved(*cell));
            }
            self.push(block);
        }
        let links = other.links.iter().map(|link| Link { span: moved(link.span), target: link.target.clone() });
        self.document.links.extend(links);
        self.document.warnings.extend(other.warnings.iter().cloned());
    }

    /// Sets a field of the metadata. The field `title` also sets the document's title.
    pub fn metadata(&mut self, name: impl Into<String>, value: impl Into<Value>) {
        let name = name.into();
        let value = match value.into() {
            Value::Text(text) => Value::Text(clean(&text)),
            other => other,
        };
        if name == "title"
            && let Value::Text(title) = &value
            && !title.trim().is_empty()
        {
            self.document.title = Some(title.trim().to_owned());
        }
        self.document.metadata.insert(name, value);
    }

    /// Adds a warning for people.
    pub fn warn(&mut self, warning: impl Into<String>) {
        self.document.warnings.push(warning.into());
    }

    /// Returns the metadata so far.
    pub fn known(&self) -> &Metadata {
        &self.document.metadata
    }

    /// Returns `true` if there is any text yet.
    pub fn is_empty(&self) -> bool {
        self.document.text.is_empty()
    }

    /// Ends the document. Without a title in the metadata, the first heading of the outermost level is the title. Blocks that only point to
    /// other places become [`BlockKind::Contents`].
    pub fn finish(mut self) -> Document {
        let document = &mut self.document;
        self.inner_links.sort_unstable_by_key(|link| link.start);
        contents::mark(document, &self.inner_links);
        if document.title.is_none() {
            let headings = || document.blocks.iter().filter(|block| block.kind == BlockKind::Heading);
            let outermost = headings().map(|block| block.level).min();
            document.title = headings()
                .find(|block| Some(block.level) == outermost)
                .map(|block| document.text[block.span.range()].split_whitespace().collect::<Vec<_>>().join(" "));
        }
        self.document
    }

    fn part(&mut self) {
        if !self.document.text.is_empty() {
            // A page that begins here begins with the block and not with the blank line before it.
            let at = self.document.text.len();
            self.document.text.push_str(SEPARATOR);
            for start in self.document.page_starts.iter_mut().rev().take_while(|start| start.start == at) {
                start.start = at + SEPARATOR.len();
            }
        }
    }

    fn trim_from(&mut self, start: usize) {
        let kept = self.document.text[start..].trim_end().len();
        self.document.text.truncate(start + kept);
        let end = self.document.text.len();
        for page in self.document.page_starts.iter_mut().rev().take_while(|page| page.start > end) {
            page.start = end;
        }
        for line in self.document.boxes.iter_mut().rev().take_while(|line| line.span.end > end) {
            line.span = Span::new(line.span.start.min(end), end);
        }
        for link in self.document.links.iter_mut().rev().take_while(|link| link.span.end > end) {
            link.span = Span::new(link.span.start.min(end), end);
        }
    }
}

/// Returns `true` for a link that is kept: one that leaves its place in the document.
fn points_out(target: &str) -> bool {
    !target.is_empty() && !target.starts_with('#') && !target.to_ascii_lowercase().starts_with("javascript:")
}

/// Returns `true` for a link to a place of the same document, or of one beside it.
pub fn points_inside(target: &str) -> bool {
    let scheme = target.split(['/', '?', '#']).next().unwrap_or_default().contains(':');
    !target.is_empty() && !scheme && !target.starts_with("//")
}

fn plain(kind: BlockKind, span: Span) -> Block {
    Block { kind, span, level: 0, table: None, furniture: None, figure: None }
}

fn clean(text: &str) -> String {
    let foreign =
        |c: char| (c.is_control() && c != '\n' && c != '\t') || matches!(c, '\u{feff}' | '\u{2028}' | '\u{2029}');
    if !text.contains(foreign) && is_nfc(text) {
        return text.to_owned();
    }
    let plain = text.replace("\r\n", "\n").replace(['\r', '\u{c}', '\u{b}', '\u{2028}', '\u{2029}'], "\n");
    let kept = plain.chars().filter(|&c| !(c.is_control() && c != '\n' && c != '\t') && c != '\u{feff}');
    if is_nfc(&plain) { kept.collect() } else { kept.nfc().collect() }
}
