//! Writes the body of a segment from front to back.

use std::io::Write;

use crate::error::{Error, ErrorKind, Result};

use super::header::{HEADER, Kind, sealed};

/// The 64 bytes of the header of a segment. They are known after the body is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SegmentHeader(pub(super) [u8; HEADER]);

impl Default for SegmentHeader {
    /// Returns the header of no segment.
    fn default() -> Self {
        Self([0; HEADER])
    }
}

impl SegmentHeader {
    /// The number of the kind.
    pub const LENGTH: usize = HEADER;

    /// Returns the bytes of the header.
    pub fn bytes(&self) -> &[u8; HEADER] {
        &self.0
    }
}

/// Writes the body of a segment, and computes its length and checksum. The type is not generic over its target, so that writers
/// are compiled once.
pub(crate) struct BodyWriter<'w> {
    to: &'w mut dyn Write,
    check: crc32fast::Hasher,
    length: u64,
}

impl<'w> BodyWriter<'w> {
    pub(crate) fn new(to: &'w mut dyn Write) -> Self {
        Self { to, check: crc32fast::Hasher::new(), length: 0 }
    }

    /// Returns the number of bytes written so far.
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

    /// Ends the body and returns the header.
    pub(crate) fn finish(self, kind: Kind, rows: u32, width: u32, own: u32) -> SegmentHeader {
        let length = HEADER as u64 + self.length;
        SegmentHeader(sealed(kind, [rows, width, own], length, self.check.finalize()))
    }
}

/// Returns a whole segment in memory, from a function that writes its body.
///
/// # Errors
/// Returns the errors of the function.
pub fn whole_segment(write: impl FnOnce(&mut Vec<u8>) -> Result<SegmentHeader>) -> Result<Vec<u8>> {
    let mut bytes = vec![0; HEADER];
    let header = write(&mut bytes)?;
    bytes[..HEADER].copy_from_slice(header.bytes());
    Ok(bytes)
}
