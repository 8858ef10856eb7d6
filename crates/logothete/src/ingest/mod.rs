//! Ingesting: bringing a corpus up to date with its sources.
//!
//! [`list`] walks the sources and compares them with the catalogue; [`read`] reads, parses and cuts what has changed; [`contexts`]
//! asks a generator for contexts; [`batch`] finds duplicates, encodes, writes segments and commits. A window of files is in work
//! at a time, which bounds the memory. [`metadata`] completes the fields of a document. [`upsert`] takes what the caller gives; [`unread`] remembers what could not be read; [`estimate`] walks the same way and changes nothing.

mod batch;
mod contexts;
mod duplicates;
mod encode;
mod estimate;
mod languages;
mod list;
mod metadata;
mod read;
mod request;
mod unread;
mod upsert;

pub(crate) use batch::Batch;
pub(crate) use encode::{Encoding, Text};
pub(crate) use estimate::run as estimate;
pub use estimate::{DocumentEstimate, Estimate};
pub(crate) use list::paths;
pub(crate) use read::run as build;
pub(crate) use request::Meter;
pub use request::{BuildReport, BuildRequest, Failure, Progress, PruneNeeded, Stage};
pub use upsert::{OwnChunk, Upsert};
pub(crate) use upsert::{remove, remove_chunk, upsert};
