//! `[index]`: how vectors and words are indexed.

use logothete_core::keyword::FieldWeights;
use logothete_core::vector::{Distance, IndexKind};
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
}
