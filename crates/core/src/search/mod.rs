//! Searching: the plan of a search, the fusion of rankings, filters, and the passages that come out.

mod adjust;
mod expand;
mod filter;
mod fusion;
mod merge;
mod passage;
mod plan;
mod rule;

pub use adjust::{Adjusted, Standpoint, adjust};
pub use expand::{Surroundings, expanded, joined};
pub use filter::{BUILT_IN_FIELDS, ChunkFacts, DocumentFacts, Field, Filter, Is};
pub use fusion::{Fused, FusionKind, RANKS, Ranking, SQUASHED, fuse};
pub use merge::{Part, PartPassage, merged};
pub use passage::{Counterpart, Duplicate, LegScore, Passage};
pub use plan::{
    Adjustments, DiversityPlan, ExpansionKind, ExpansionPlan, LegPlan, Plan, RerankKind, RerankPlan, ScoreRange,
    TransformKind,
};
pub use rule::Rule;
