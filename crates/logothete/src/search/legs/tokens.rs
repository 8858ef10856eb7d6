//! The leg `tokens`: late interaction over the index of token vectors.

use logothete_core::trace::{LegRecord, TraceDetails};
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_core::{Error, ErrorKind, Result};

use super::{LegInput, RowLeg};
use crate::storage::{RowId, Snapshot};
use crate::threads::caught_in;

/// The sum, over the tokens of the query, of the highest cosine to a token of the chunk.
pub(super) struct Tokens;

/// Returns the vectors of the tokens of a query.
///
/// # Errors
/// If the encoder has no vectors of tokens, or a segment has no index of them.
pub(in crate::search) fn encoded(encoder: &dyn Encoder, snapshot: &Snapshot, text: &str) -> Result<Vectors> {
    let Some(by_token) = encoder.by_token() else {
        let message = "the encoder has no vectors of tokens; choose the embedded one, or a model in a folder";
        return Err(Error::new(ErrorKind::Unsupported, message));
    };
    if !snapshot.has_tokens() {
        let message = "the corpus has no index of tokens; set tokens = 2 in [index], and build";
        return Err(Error::new(ErrorKind::NotFound, message));
    }
    let mut vectors = caught_in("the encoder", || by_token.encode_tokens(&[text], Role::Query))?;
    vectors.pop().ok_or_else(|| Error::new(ErrorKind::Unreadable, "the encoder returned no vectors; check the encoder"))
}

impl RowLeg for Tokens {
    fn name(&self) -> &str {
        "tokens"
    }

    fn find(&self, input: &LegInput<'_>, count: usize) -> Result<Vec<(RowId, f32)>> {
        let query = encoded(input.encoder, input.snapshot, input.read)?;
        Ok(input.snapshot.search_tokens(&query, input.allowed, count))
    }

    fn details(&self, _: &LegInput<'_>, leg: LegRecord) -> TraceDetails {
        TraceDetails::Leg { name: self.name().to_owned(), leg }
    }
}
