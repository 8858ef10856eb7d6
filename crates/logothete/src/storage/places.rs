//! Where the rows of a corpus stand in their documents.

use std::collections::HashMap;

use logothete_core::document::Span;

use super::RowId;

/// The sections of a corpus, and the rows of each.
#[derive(Debug, Default)]
pub(crate) struct Places {
    of_row: HashMap<RowId, Known>,
    sections: Vec<Section>,
}

/// The section of a row, its position there, and how much of it is a list of contents and in short lines, in percent.
#[derive(Debug)]
struct Known {
    span: Span,
    section: u32,
    at: u32,
    contents: u8,
    entries: u8,
}

#[derive(Debug)]
struct Section {
    document: i64,
    rows: Vec<RowId>,
}

/// The place of a row.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Place<'a> {
    pub document: i64,
    /// The number of the section.
    pub section: u32,
    /// The rows of its section, in the order of the text.
    pub rows: &'a [RowId],
    /// The position of the row among them.
    pub at: usize,
    /// Its span in the document.
    pub span: Span,
    /// Whether most of it is a list of contents.
    pub is_contents: bool,
    /// The share of its text in lines of a few words that end no sentence.
    pub entries: f32,
}

/// An indexed chunk.
#[derive(Clone, Copy, Debug)]
pub(crate) struct PlacedRow {
    pub row: RowId,
    pub document: i64,
    pub section_start: i64,
    pub span: Span,
    /// How much of its text is a list of contents, in percent.
    pub contents: u8,
    /// How much of its text is in lines of a few words that end no sentence, in percent.
    pub entries: u8,
}

/// Chunks with this share of contents, in percent, are lists of contents.
const MOSTLY: u8 = 60;

impl Places {
    /// Creates it from all indexed chunks, in the order of the text of each document.
    pub(crate) fn new(chunks: Vec<PlacedRow>) -> Self {
        let mut numbers: HashMap<(i64, i64), u32> = HashMap::new();
        let mut places = Self { of_row: HashMap::with_capacity(chunks.len()), sections: Vec::new() };
        for PlacedRow { row, document, section_start, span, contents, entries } in chunks {
            let section = *numbers.entry((document, section_start)).or_insert_with(|| {
                places.sections.push(Section { document, rows: Vec::new() });
                places.sections.len() as u32 - 1
            });
            let rows = &mut places.sections[section as usize].rows;
            places.of_row.insert(row, Known { span, section, at: rows.len() as u32, contents, entries });
            rows.push(row);
        }
        places
    }

    /// Returns the place of a row; `None` if no chunk has it.
    pub(crate) fn of(&self, row: RowId) -> Option<Place<'_>> {
        let &Known { span, section, at, contents, entries } = self.of_row.get(&row)?;
        let Section { document, rows } = &self.sections[section as usize];
        Some(Place {
            document: *document,
            section,
            rows,
            at: at as usize,
            span,
            is_contents: contents >= MOSTLY,
            entries: f32::from(entries) / 100.0,
        })
    }

    /// Returns the rows of a section, in the order of the text; none if there is no such section.
    pub(crate) fn rows_of(&self, section: u32) -> &[RowId] {
        self.sections.get(section as usize).map_or(&[], |section| &section.rows)
    }

    /// Returns the rows before and after a row in its document.
    pub(crate) fn beside(&self, row: RowId) -> [Option<RowId>; 2] {
        let Some(Place { document, section, rows, at, .. }) = self.of(row) else { return [None; 2] };
        let other = |section: Option<u32>| {
            let section = self.sections.get(section? as usize)?;
            (section.document == document).then_some(&section.rows)
        };
        let before = || other(section.checked_sub(1))?.last().copied();
        let after = || other(section.checked_add(1))?.first().copied();
        let above = at.checked_sub(1).and_then(|at| rows.get(at)).copied();
        [above.or_else(before), rows.get(at + 1).copied().or_else(after)]
    }

    /// Returns the mean number of rows of a section, at least 1.
    pub(crate) fn mean(&self) -> f32 {
        (self.of_row.len() as f32 / self.sections.len().max(1) as f32).max(1.0)
    }
}
