//! What helps to find a chunk and is not its text: title, section path, the header of a table that began before it.

use super::Limit;
use super::piece::Piece;
use crate::document::{BlockKind, Document, Span};

/// The contexts of a document's spans.
pub(super) struct Contexts<'a> {
    document: &'a Document,
    paths: Vec<Vec<usize>>,
}

impl<'a> Contexts<'a> {
    pub(super) fn new(document: &'a Document) -> Self {
        Self { document, paths: document.heading_paths() }
    }

    /// The headings above a span: those of its first block that is not itself a heading, or of its last heading.
    pub(super) fn section(&self, span: Span) -> Vec<String> {
        self.told_by(span).map_or_else(Vec::new, |index| self.headings(index).map(one_line).collect())
    }

    /// From the heading above a span to the next heading behind it; for a span over several sections, all of them.
    pub(super) fn parent(&self, span: Span) -> Span {
        let blocks = &self.document.blocks;
        let first = self.told_by(span).and_then(|index| self.paths[index].last()).copied();
        let first = first.map_or(0, |heading| blocks[heading].span.start);
        let behind = blocks.partition_point(|block| block.span.start < span.end);
        let next = blocks[behind..].iter().find(|block| block.kind == BlockKind::Heading);
        let end = next.map_or(self.document.text.len(), |block| block.span.start);
        let start = first.min(span.start);
        let body = self.document.slice(Span::new(start, end.max(span.end)));
        Span::new(start, (start + body.trim_end().len()).max(span.end))
    }

    /// Title, section path and table header on their lines. Where a limit is given and they would take more than half of
    /// it, the outer ones are left out first.
    pub(super) fn of(&self, span: Span, limit: Option<&Limit>) -> String {
        let told = self.told_by(span);
        let at = self.document.blocks.partition_point(|block| block.span.end <= span.start);
        let inside = self.document.blocks.get(at).is_some_and(|block| block.span.start < span.start);
        self.written(told, inside.then_some(at), limit)
    }

    /// The room for text in a chunk that begins with a piece.
    pub(super) fn room(&self, pieces: &[Piece], first: usize, limit: &Limit) -> usize {
        let blocks = &self.document.blocks;
        let heading = |piece: &&Piece| blocks[piece.block].kind == BlockKind::Heading;
        let told = pieces[first..].iter().find(|piece| !heading(piece)).or(pieces.last());
        let begun = pieces[first].span.start > blocks[pieces[first].block].span.start;
        limit.room(&self.written(told.map(|piece| piece.block), begun.then_some(pieces[first].block), Some(limit)))
    }

    /// The least room that a chunk with text of a block may have.
    pub(super) fn least_room(&self, block: usize, limit: &Limit) -> usize {
        let room = |begun: Option<usize>| limit.room(&self.written(Some(block), begun, Some(limit)));
        // A longer context may take less: what has no room is left out.
        let above = room(None);
        if self.document.blocks[block].table.is_some() { above.min(room(Some(block))) } else { above }
    }

    /// Whether a span is of headings only.
    pub(super) fn is_headings_only(&self, span: Span) -> bool {
        self.told_by(span).is_some_and(|index| self.document.blocks[index].kind == BlockKind::Heading)
    }

    /// The block whose headings are those of a span.
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
        let title = self.document.title.as_deref();
        let mut path: Vec<String> = told.into_iter().flat_map(|index| self.headings(index)).map(one_line).collect();
        path.retain(|heading| Some(heading.as_str()) != title);
        path.splice(0..0, title.map(str::to_owned));
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

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
