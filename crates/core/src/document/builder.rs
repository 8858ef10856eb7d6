//! Writing a document block by block.

use unicode_normalization::{UnicodeNormalization, is_nfc};

use super::{Block, BlockKind, Document, Furniture, Metadata, PageStart, Row, Span, Table, Value};

/// Builds a [`Document`] whose spans are right by construction.
///
/// Text is brought to Unicode NFC as it comes in, control characters other than tab and line end are dropped, and
/// blocks are parted by a blank line.
#[derive(Debug, Default)]
pub struct DocumentBuilder {
    document: Document,
}

impl DocumentBuilder {
    /// Starts a document of a media type.
    pub fn new(name: impl Into<String>, media_type: impl Into<String>) -> Self {
        Self { document: Document { name: name.into(), media_type: media_type.into(), ..Document::default() } }
    }

    /// Says that what follows is on a page.
    pub fn page(&mut self, page: u32) {
        self.document.page_starts.push(PageStart { page, start: self.document.text.len() });
    }

    /// Adds a block of text. Text that is empty once trimmed adds nothing.
    pub fn block(&mut self, kind: BlockKind, text: &str) {
        self.pages_block(kind, 0, &[(None, text)]);
    }

    /// Adds a heading of a level, 1 the outermost.
    pub fn heading(&mut self, level: u8, text: &str) {
        self.pages_block(BlockKind::Heading, level.max(1), &[(None, text)]);
    }

    /// Adds a block that may run over pages: each part says on which page it begins, if that is a new one.
    pub fn pages_block(&mut self, kind: BlockKind, level: u8, parts: &[(Option<u32>, &str)]) {
        let cleaned: Vec<(Option<u32>, String)> = parts.iter().map(|(page, text)| (*page, clean(text))).collect();
        if cleaned.iter().all(|(_, text)| text.trim().is_empty()) {
            for (page, _) in cleaned {
                if let Some(page) = page {
                    self.page(page);
                }
            }
            return;
        }
        self.part();
        let start = self.document.text.len();
        for (page, text) in cleaned {
            let text = if self.document.text.len() == start { text.trim_start_matches('\n') } else { &text };
            if let Some(page) = page {
                self.page(page);
            }
            self.document.text.push_str(text);
        }
        self.trim_from(start);
        let span = Span::new(start, self.document.text.len());
        self.document.blocks.push(Block { kind, span, level, table: None, furniture: None });
    }

    /// Adds a table from its cells, row by row; the first `header_rows` rows name the columns.
    pub fn table<S: AsRef<str>>(&mut self, header_rows: usize, rows: &[Vec<S>]) {
        if rows.iter().flatten().all(|cell| cell.as_ref().trim().is_empty()) {
            return;
        }
        self.part();
        let start = self.document.text.len();
        let mut table = Table { header_rows: header_rows.min(rows.len()), rows: Vec::with_capacity(rows.len()) };
        for cells in rows {
            if self.document.text.len() > start {
                self.document.text.push('\n');
            }
            let row_start = self.document.text.len();
            let mut row = Row { span: Span::default(), cells: Vec::with_capacity(cells.len()) };
            for (column, cell) in cells.iter().enumerate() {
                if column > 0 {
                    self.document.text.push_str(" | ");
                }
                let cell_start = self.document.text.len();
                let words = clean(cell.as_ref());
                let words: Vec<&str> = words.split_whitespace().collect();
                self.document.text.push_str(&words.join(" "));
                row.cells.push(Span::new(cell_start, self.document.text.len()));
            }
            row.span = Span::new(row_start, self.document.text.len());
            table.rows.push(row);
        }
        let span = Span::new(start, self.document.text.len());
        self.document.blocks.push(Block {
            kind: BlockKind::Table,
            span,
            level: 0,
            table: Some(table),
            furniture: None,
        });
    }

    /// Keeps a running header, a footer or a page number beside the text.
    pub fn furniture(&mut self, page: u32, text: &str) {
        let at = self.document.text.len();
        self.document.blocks.push(Block {
            kind: BlockKind::Furniture,
            span: Span::new(at, at),
            level: 0,
            table: None,
            furniture: Some(Furniture { text: clean(text).trim().to_owned(), page }),
        });
    }

    /// Sets a field of the metadata. A field named `title` is the document's title too.
    pub fn metadata(&mut self, name: impl Into<String>, value: Value) {
        let name = name.into();
        if name == "title"
            && let Value::Text(title) = &value
            && !title.trim().is_empty()
        {
            self.document.title = Some(title.trim().to_owned());
        }
        self.document.metadata.insert(name, value);
    }

    /// Adds a warning, in words for a person.
    pub fn warn(&mut self, warning: impl Into<String>) {
        self.document.warnings.push(warning.into());
    }

    /// The metadata so far.
    pub fn known(&self) -> &Metadata {
        &self.document.metadata
    }

    /// Whether there is any text yet.
    pub fn is_empty(&self) -> bool {
        self.document.text.is_empty()
    }

    /// Ends the document. Without a title in the metadata, the first heading of the outermost level is the title.
    pub fn finish(mut self) -> Document {
        let document = &mut self.document;
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
            // A page that begins here begins with the block, not with the blank line before it.
            let at = self.document.text.len();
            self.document.text.push_str("\n\n");
            for start in self.document.page_starts.iter_mut().rev().take_while(|start| start.start == at) {
                start.start = at + 2;
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
    }
}

fn clean(text: &str) -> String {
    let plain = text.replace("\r\n", "\n").replace(['\r', '\u{c}', '\u{b}', '\u{2028}', '\u{2029}'], "\n");
    let kept = plain.chars().filter(|&c| !(c.is_control() && c != '\n' && c != '\t') && c != '\u{feff}');
    if is_nfc(&plain) { kept.collect() } else { kept.nfc().collect() }
}
