//! What all index segments share: their header, checked reads, hits, and sets of rows.
//!
//! A segment is one immutable run of bytes. `docs/format.md` describes it byte by byte.

mod body;
mod bytes;
mod header;
mod hit;
mod row_set;
mod top_k;

pub(crate) use body::BodyWriter;
pub use body::{SegmentHeader, whole_segment};
pub(crate) use bytes::{f32_at, read_varint, u32_at, u64_at, write_varint};
pub(crate) use header::{HEADER, Header, Kind, open};
pub use hit::Hit;
pub use row_set::RowSet;
pub(crate) use top_k::TopK;
