//! What all index segments share: their header, checked reads, and sets of rows.
//!
//! A segment is one immutable run of bytes. `docs/format.md` describes it byte by byte.

mod body;
mod header;
mod rows;

pub(crate) use body::BodyWriter;
pub use body::{SegmentHeader, whole_segment};
pub(crate) use header::{HEADER, Header, Kind, open};
pub use rows::RowSet;
pub(crate) use rows::{f32_at, read_varint, u32_at, u64_at, write_varint};
