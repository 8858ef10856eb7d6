//! The context of a chunk: title, section path, and the header of a table that began before it. It helps a search to find the
//! chunk, and is not part of its text.

use super::Limit;
use std::cell::{Cell, RefCell};

use super::piece::Piece;
use crate::document::{BlockKind, Document, Span};

/// A longer heading, in bytes, is cut in the contexts below it.
const MAX_HEADING: usize = 400;

/// The contexts of a document's spans.
pub(super) struct Contexts<'a> {
    document: &'a Document,
    paths: Vec<Vec<usize>>,
    /// For each block, where the next heading from it on begins; the end of the text if there is none.
    next_headings: Vec<usize>,
    /// The last computed room, with the heading and the table that it depends on.
    last_room: Cell<Option<(Key, usize)>>,
    /// The same for the context of a span.
    last_above: RefCell<Option<(Key, Above)>>,
}

/// What a context depends on: a heading, and a table whose header is repeated.
type Key = (Option<usize>, Option<usize>);

/// The context of a span.
#[derive(Clone, Debug)]
pub(super) struct Above {
    pub section: Vec<String>,
    pub context: String,
    /// The size of the context in the unit of the limit; in words if there is none.
    pub size: usize,
}

impl<'a> Contexts<'a> {
    pub(super) fn new(document: &'a Document) -> Self {
        let mut next = document.text.len();
        let mut next_headings: Vec<usize> = Vec::with_capacity(document.blocks.len());
        for block in document.blocks.iter().rev() {
            if block.kind == BlockKind::Heading {
                next = block.span.start;
            }
            next_headings.push(next);
        }
        next_headings.reverse();
        let (last_room, last_above) = (Cell::new(None), RefCell::new(None));
        Self { document, paths: document.heading_paths(), next_headings, last_room, last_above }
    }

    /// Returns the headings of a span's first block that is no heading, or of its last heading, and the context of the span
    /// with its size. The context has title, section path and table header on lines of their own. If they would take more than
    /// half of the limit, the outer headings are left out first.
    pub(super) fn above(&self, span: Span, limit: Option<&Limit>) -> Above {
        let told = self.told_by(span);
        let at = self.document.blocks.partition_point(|block| block.span.end <= span.start);
        let begun = self.document.blocks.get(at).is_some_and(|block| block.span.start < span.start).then_some(at);
        let key = self.key(told, begun);
        if let Some((last, above)) = &*self.last_above.borrow()
            && *last == key
        {
            return above.clone();
        }
        let context = self.written(told, key.1, limit);
        let above = Above {
            section: told.map_or_else(Vec::new, |index| self.headings(index).map(one_line).collect()),
            size: super::context_size(&context, limit),
            context,
        };
        *self.last_above.borrow_mut() = Some((key, above.clone()));
        above
    }

    /// Returns the span from the heading above a span to the next heading after it; for a span of several sections, all of
    /// them.
    pub(super) fn parent(&self, span: Span) -> Span {
        let blocks = &self.document.blocks;
        let first = self.told_by(span).and_then(|index| self.paths[index].last()).copied();
        let first = first.map_or(0, |heading| blocks[heading].span.start);
        let behind = blocks.partition_point(|block| block.span.start < span.end);
        let end = self.next_headings.get(behind).copied().unwrap_or(self.document.text.len());
        let start = first.min(span.start);
        let body = self.document.slice(Span::new(start, end.max(span.end)));
        Span::new(start, (start + body.trim_end().len()).max(span.end))
    }

    /// Returns the room for text in a chunk that begins with a piece.
    pub(super) fn room(&self, pieces: &[Piece], first: usize, limit: &Limit) -> usize {
        let blocks = &self.document.blocks;
        let heading = |piece: &&Piece| blocks[piece.block].kind == BlockKind::Heading;
        let told = pieces[first..].iter().find(|piece| !heading(piece)).or(pieces.last());
        let begun = pieces[first].span.start > blocks[pieces[first].block].span.start;
        self.room_under(told.map(|piece| piece.block), begun.then_some(pieces[first].block), limit)
    }

    /// Returns the room under the headings of a block, and after the table header of another. The last result is kept, because
    /// callers ask repeatedly.
    fn room_under(&self, told: Option<usize>, begun: Option<usize>, limit: &Limit) -> usize {
        let key = self.key(told, begun);
        if let Some((last, room)) = self.last_room.get()
            && last == key
        {
            return room;
        }
        let room = limit.room(&self.written(told, key.1, Some(limit)));
        self.last_room.set(Some((key, room)));
        room
    }

    fn key(&self, told: Option<usize>, begun: Option<usize>) -> Key {
        let heading = told.and_then(|index| self.paths[index].last().copied());
        (heading, begun.filter(|&index| self.document.blocks[index].table.is_some()))
    }

    /// Returns the lowest room of a chunk with text of a block.
    pub(super) fn least_room(&self, block: usize, limit: &Limit) -> usize {
        let room = |begun: Option<usize>| self.room_under(Some(block), begun, limit);
        // A longer context may be shortened more, and take less.
        let above = room(None);
        if self.document.blocks[block].table.is_some() { above.min(room(Some(block))) } else { above }
    }

    /// Returns `true` if a span has headings only.
    pub(super) fn is_headings_only(&self, span: Span) -> bool {
        self.told_by(span).is_some_and(|index| self.document.blocks[index].kind == BlockKind::Heading)
    }

    /// Returns the block whose headings are those of a span.
    fn told_by(&self, span: Span) -> Option<usize> {
        let blocks = &self.document.blocks;
        let first = blocks.partition_point(|block| block.span.end <= span.start);
        let inside = || (first..blocks.len()).take_while(|&index| blocks[index].span.start < span.end);
        inside()
            .find(|&index| !matches!(blocks[index].kind, BlockKind::Heading | BlockKind::Furniture))
            .or_else(|| inside().filter(|&index| blocks[index].kind == BlockKind::Heading).last())
    }

    fn headings(&self, block: usize) -> impl DoubleEndedIterator<Item = &'a str> {
        self.paths[block].iter().map(|&heading| self.document.slice(self.document.blocks[heading].span))
    }

    fn written(&self, told: Option<usize>, begun: Option<usize>, limit: Option<&Limit>) -> String {
        let title = self.document.title.as_deref().map(one_line);
        let mut path: Vec<String> = told.into_iter().flat_map(|index| self.headings(index)).map(one_line).collect();
        path.retain(|heading| Some(heading) != title.as_ref());
        path.splice(0..0, title);
        let table = begun.and_then(|block| self.document.blocks[block].table.as_ref());
        let mut header = table.map_or("", |table| table.header_line(&self.document.text));
        let most = limit.map_or(usize::MAX, Limit::most_context);
        let weight = |text: &str| limit.map_or(0, |limit| limit.context_weight(text));
        if weight(header) > most {
            header = "";
        }
        loop {
            let mut context = path.join(" › ");
            if !header.is_empty() {
                if !context.is_empty() {
                    context.push('\n');
                }
                context.push_str(header);
            }
            if path.is_empty() || weight(&context) <= most {
                return context;
            }
            path.remove(0);
        }
    }
}

/// Returns a heading on one line. Every chunk below it has a copy, so that a very long one is cut.
fn one_line(text: &str) -> String {
    let mut line = String::new();
    for word in text.split_whitespace() {
        let blank = if line.is_empty() { "" } else { " " };
        if line.len() + blank.len() + word.len() > MAX_HEADING {
            // A heading without blanks is cut inside its only word.
            let room = if line.is_empty() { word.floor_char_boundary(MAX_HEADING) } else { 0 };
            line.push_str(&word[..room]);
            line.push('…');
            break;
        }
        line.push_str(blank);
        line.push_str(word);
    }
    line
}
