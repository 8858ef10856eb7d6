//! Building: bringing a corpus up to date with its sources.
//!
//! [`plan`] compares sources with the catalogue and says what to do; [`work`] reads, cuts and encodes; [`batch`] collects
//! the outcome and commits it.

mod batch;
mod plan;
mod request;
mod work;

pub use request::{BuildReport, BuildRequest, Failure, Progress, PruneNeeded, StopToken};
pub(crate) use work::run;
