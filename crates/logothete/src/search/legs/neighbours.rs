//! The leg `neighbours`: the chunks before and after what the other legs found first.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::trace::{LegRecord, TraceDetails};

use super::{LegInput, RowLeg};
use crate::storage::RowId;

/// The hits of each leg whose neighbours are looked at.
const HITS: usize = 10;

pub(super) struct Neighbours;

impl RowLeg for Neighbours {
    fn name(&self) -> &'static str {
        "neighbours"
    }

    /// The score of a chunk is one over the best rank beside it, by the weight of the leg that has it.
    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let places = input.snapshot.places(&**input.view.catalogue())?;
        let mut scores: HashMap<RowId, f32> = HashMap::new();
        for leg in input.found.iter().filter(|leg| leg.weight > 0.0) {
            for (rank, (row, _)) in (1_u16..).zip(leg.hits.iter().take(HITS)) {
                let score = leg.weight.min(1.0) / f32::from(rank);
                for beside in places.beside(*row).into_iter().flatten().filter(|row| input.allows(*row)) {
                    let best = scores.entry(beside).or_insert(score);
                    *best = best.max(score);
                }
            }
        }
        let mut found: Vec<(RowId, f32)> = scores.into_iter().collect();
        found.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        found.truncate(count);
        Ok(found)
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.name().to_owned(), leg }
    }
}
