//! Writes the body of a segment from front to back.

use std::io::Write;

use crate::error::{Error, ErrorKind, Result};

use super::header::{HEADER, Kind, sealed};

/// The 64 bytes that stand before the body of a segment. They are known when the body is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SegmentHeader(pub(super) [u8; HEADER]);

impl Default for SegmentHeader {
    /// That of no segment.
    fn default() -> Self {
        Self([0; HEADER])
    }
}

impl SegmentHeader {
    /// Their number.
    pub const LENGTH: usize = HEADER;

    /// The bytes.
    pub fn bytes(&self) -> &[u8; HEADER] {
        &self.0
    }
}

/// Writes the body of a segment, and knows its length and its checksum. Not generic over where it goes, so that what writes is
/// compiled once.
pub(crate) struct BodyWriter<'w> {
    to: &'w mut dyn Write,
    check: crc32fast::Hasher,
    length: u64,
}

impl<'w> BodyWriter<'w> {
    pub(crate) fn new(to: &'w mut dyn Write) -> Self {
        Self { to, check: crc32fast::Hasher::new(), length: 0 }
    }

    /// How much has been written.
    pub(crate) fn length(&self) -> u64 {
        self.length
    }

    pub(crate) fn put(&mut self, bytes: &[u8]) -> Result<()> {
        self.check.update(bytes);
        self.length += bytes.len() as u64;
        self.to.write_all(bytes).map_err(|error| {
            Error::new(ErrorKind::System, format!("an index segment could not be written: {error}")).because(error)
        })
    }

    /// Ends it, and says what stands before it.
    pub(crate) fn finish(self, kind: Kind, rows: u32, width: u32, own: u32) -> SegmentHeader {
        let length = HEADER as u64 + self.length;
        SegmentHeader(sealed(kind, [rows, width, own], length, self.check.finalize()))
    }
}

/// A whole segment in memory, from what writes its body.
///
/// # Errors
/// What the function returns.
pub fn whole_segment(write: impl FnOnce(&mut Vec<u8>) -> Result<SegmentHeader>) -> Result<Vec<u8>> {
    let mut bytes = vec![0; HEADER];
    let header = write(&mut bytes)?;
    bytes[..HEADER].copy_from_slice(header.bytes());
    Ok(bytes)
}
