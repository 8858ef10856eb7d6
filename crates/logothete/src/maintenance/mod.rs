//! Maintaining a corpus as a whole: merging, compacting, erasing, re-encoding, exporting and importing.

mod ann;
mod compact;
mod erase;
mod merge;
mod postings;
mod reencode;
mod tokens;
mod transfer;

pub(crate) use compact::compact;
pub use erase::Forgotten;
pub(crate) use erase::forget;
pub(crate) use merge::settle;
pub(crate) use postings::renew as renew_postings;
pub(crate) use reencode::reencode;
pub(crate) use transfer::{export, import};
