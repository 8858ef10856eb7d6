//! Building: bringing a corpus up to date with its sources.
//!
//! [`plan`] compares sources with the catalogue and says what to do; [`work`] reads and cuts; [`contexts`] asks
//! a generator for what is written to each chunk; [`batch`] encodes, collects the outcome and commits it.

mod batch;
mod contexts;
mod encoding;
mod estimate;
mod languages;
pub(crate) mod merge;
mod plan;
mod repeats;
mod request;
mod spending;
mod work;

pub(crate) use estimate::run as estimate;
pub use estimate::{DocumentEstimate, Estimate};
pub use request::{BuildReport, BuildRequest, Failure, Progress, PruneNeeded, StopToken};
pub(crate) use work::run;
