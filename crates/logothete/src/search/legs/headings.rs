//! The leg `headings`: words of titles and headings alone, scored by BM25. It finds sections.

use logothete_core::Result;
use logothete_core::keyword::PreparedQuery;
use logothete_core::trace::{LegRecord, TraceDetails};

use super::{LegInput, RowLeg};
use crate::storage::RowId;

/// So many chunks at the beginning of a section are found with it.
const CHUNKS: usize = 2;

pub(super) struct Headings;

impl RowLeg for Headings {
    fn name(&self) -> &'static str {
        "headings"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let catalogue = input.view.catalogue();
        let headings = input.snapshot.headings(&**catalogue)?;
        let places = input.snapshot.places(&**catalogue)?;
        drop(catalogue);
        let index = headings.keywords();
        let query = PreparedQuery::new(input.query, &[index]);
        let mut found = Vec::new();
        for hit in query.search(index, None, count) {
            let rows = places.rows_of(hit.row).iter().filter(|row| input.allows(**row)).take(CHUNKS);
            found.extend(rows.map(|row| (*row, hit.score)));
        }
        found.truncate(count);
        Ok(found)
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.name().to_owned(), leg }
    }
}
