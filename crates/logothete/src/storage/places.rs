//! Where the rows of a corpus stand in their documents.

use std::collections::HashMap;

use super::RowId;

/// The sections of a corpus, and the rows of each.
#[derive(Debug, Default)]
pub(crate) struct Places {
    /// The section of each row, and its position there.
    of_row: HashMap<RowId, (u32, u32)>,
    sections: Vec<Section>,
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
}

/// An indexed chunk: its row, its document, and the start of its section.
pub(crate) type PlacedRow = (RowId, i64, i64);

impl Places {
    /// Creates it from all indexed chunks, in the order of the text of each document.
    pub(crate) fn new(chunks: Vec<PlacedRow>) -> Self {
        let mut numbers: HashMap<(i64, i64), u32> = HashMap::new();
        let mut places = Self { of_row: HashMap::with_capacity(chunks.len()), sections: Vec::new() };
        for (row, document, start) in chunks {
            let section = *numbers.entry((document, start)).or_insert_with(|| {
                places.sections.push(Section { document, rows: Vec::new() });
                places.sections.len() as u32 - 1
            });
            let rows = &mut places.sections[section as usize].rows;
            places.of_row.insert(row, (section, rows.len() as u32));
            rows.push(row);
        }
        places
    }

    /// Returns the place of a row; `None` if no chunk has it.
    pub(crate) fn of(&self, row: RowId) -> Option<Place<'_>> {
        let &(section, at) = self.of_row.get(&row)?;
        let Section { document, rows } = &self.sections[section as usize];
        Some(Place { document: *document, section, rows, at: at as usize })
    }

    /// Returns the mean number of rows of a section, at least 1.
    pub(crate) fn mean(&self) -> f32 {
        (self.of_row.len() as f32 / self.sections.len().max(1) as f32).max(1.0)
    }
}
