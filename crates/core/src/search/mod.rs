//! Searching: the plan of a search, the fusion of rankings, filters, and the passages that come out.

mod filter;
mod fusion;
mod passage;
mod plan;

pub use filter::{BUILT_IN_FIELDS, ChunkFacts, DocumentFacts, Field, Filter, Is};
pub use fusion::{Fused, Ranking, fuse};
pub use passage::{Counterpart, Duplicate, LegScore, Passage};
pub use plan::{DiversityPlan, LegPlan, Plan, RerankKind, RerankPlan, ScoreRange};
