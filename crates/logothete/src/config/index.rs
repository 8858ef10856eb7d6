//! `[index]`: how vectors and words are indexed.

use logothete_core::keyword::FieldWeights;
use logothete_core::vector::{Distance, IndexKind};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// `[index]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct IndexConfig {
    /// The distance between vectors. A corpus keeps the one that it was made with.
    pub distance: Distance,
    /// The vector index.
    pub kind: IndexKind,
    /// The weight of a word in each field of the keyword index. A changed weight takes effect with the next build.
    pub fields: FieldWeights,
    /// The bits that are kept of each number of the vectors of tokens, for late interaction: 1, 2 or 4; 0 means that tokens are not indexed.
    pub tokens: u32,
}

impl IndexConfig {
    pub(super) fn validate(&self) -> Result<()> {
        if [0, 1, 2, 4].contains(&self.tokens) {
            return Ok(());
        }
        let message = "tokens are kept in 1, 2 or 4 bits a number; 0 keeps none";
        Err(Error::new(ErrorKind::Configuration, message).at("[index] tokens"))
    }
}
