//! The leg `tree`: the summaries of all levels that are nearest to the question, and the chunks that they stand on.

use logothete_core::rerank::normalised;
use logothete_core::trace::{LegRecord, TraceDetails};
use logothete_core::{Error, ErrorKind, Result};

use super::{LegInput, RowLeg};
use crate::storage::RowId;
use crate::tree::{Below, Nearest, below_nearest, is_of_encoder};

/// The number of summaries that are looked at.
const MAX_SUMMARIES: usize = 24;
/// How much more a chunk counts whose sentence stands in a summary.
const QUOTED: f32 = 0.1;

pub(super) struct TreeLeg;

impl RowLeg for TreeLeg {
    fn name(&self) -> &'static str {
        "tree"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let missing = || {
            let message = "the corpus has no tree of summaries; set kind in [tree], and build";
            Error::new(ErrorKind::NotFound, message)
        };
        let stored = input.snapshot.tree()?.ok_or_else(missing)?;
        if !is_of_encoder(input.encoder, &stored) {
            let message = "the tree of summaries was grown with another encoder; build to grow another";
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        let question = normalised(input.vectors.of(input.read, input.encoder)?);
        let score =
            |found: &Below| 0.5 * (found.summary + found.own) + if found.quoted.is_empty() { 0.0 } else { QUOTED };
        let found =
            below_nearest(input.view, &stored, &question, Nearest { summaries: MAX_SUMMARIES, width: input.width })?;
        let allowed = found.iter().filter(|found| input.allows(found.row));
        let mut hits: Vec<(RowId, f32)> = allowed.map(|found| (found.row, score(found))).collect();
        hits.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        hits.dedup_by_key(|(row, _)| *row);
        hits.truncate(count);
        Ok(hits)
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.name().to_owned(), leg }
    }
}
