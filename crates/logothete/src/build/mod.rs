//! Building: bringing a corpus up to date with its sources.
//!
//! [`plan`] compares sources with the catalogue and says what to do; [`work`] reads and cuts; [`contexts`] asks
//! a generator for what is written to each chunk; [`batch`] encodes, collects the outcome and commits it, and [`merge`] keeps
//! segments few. [`given`] puts in what code gives; [`upkeep`] and [`exchange`] work on all of a corpus.

mod batch;
mod contexts;
mod encoding;
mod estimate;
mod exchange;
mod given;
mod languages;
pub(crate) mod merge;
mod plan;
mod repeats;
mod request;
mod spending;
mod upkeep;
mod work;

pub(crate) use estimate::run as estimate;
pub use estimate::{DocumentEstimate, Estimate};
pub(crate) use exchange::{export, import};
pub use given::{Given, OwnChunk};
pub(crate) use given::{put, remove, remove_chunk};
use request::Meter;
pub use request::{BuildReport, BuildRequest, Failure, Progress, PruneNeeded, Stage, StopToken};
pub use upkeep::Forgotten;
pub(crate) use upkeep::{compact, forget, reencode};
pub(crate) use work::run;
