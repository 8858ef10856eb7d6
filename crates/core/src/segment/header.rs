//! The 64 bytes that begin every segment.

use crate::error::{Error, ErrorKind, Result};

use super::{u32_at, u64_at};

/// The length of the header.
pub(crate) const HEADER: usize = 64;
const MAGIC: &[u8; 8] = b"LOGOSEG\n";
/// The place of a number that depends on the kind: the distance, for vectors.
const OWN: usize = 36;
/// The place of the checksum of the header, which covers all bytes before it.
const HEADER_CHECK: usize = 60;

/// The kind of a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Vectors = 1,
    Keywords = 2,
    Graph = 3,
    Lists = 4,
    Tokens = 5,
    Tree = 6,
}

impl Kind {
    /// Returns the newest version of its format.
    const fn version(self) -> u32 {
        match self {
            Self::Vectors | Self::Keywords | Self::Tokens => 2,
            Self::Graph | Self::Lists | Self::Tree => 1,
        }
    }
}

/// The numbers of a header, besides its magic, version and checksums.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Header {
    pub version: u32,
    pub rows: u32,
    /// The dimensions of vectors and lists; the number of terms of keywords; the links of a node of a graph.
    pub width: u32,
    /// The distance of vectors and lists; zero for others.
    pub own: u32,
    /// The checksum of all bytes after the header.
    check: u32,
}

/// Returns the header of a segment, with the length and the checksum of its body.
pub(super) fn sealed(kind: Kind, [rows, width, own]: [u32; 3], length: u64, body_check: u32) -> [u8; HEADER] {
    let mut bytes = [0; HEADER];
    bytes[..8].copy_from_slice(MAGIC);
    bytes[8..12].copy_from_slice(&kind.version().to_le_bytes());
    bytes[12..16].copy_from_slice(&(kind as u32).to_le_bytes());
    bytes[16..24].copy_from_slice(&length.to_le_bytes());
    bytes[24..28].copy_from_slice(&rows.to_le_bytes());
    bytes[28..32].copy_from_slice(&width.to_le_bytes());
    bytes[32..36].copy_from_slice(&body_check.to_le_bytes());
    bytes[OWN..OWN + 4].copy_from_slice(&own.to_le_bytes());
    let header_check = crc32fast::hash(&bytes[..HEADER_CHECK]);
    bytes[HEADER_CHECK..HEADER].copy_from_slice(&header_check.to_le_bytes());
    bytes
}

/// Reads and checks a header: magic, version, kind, length, its own checksum. The body is not touched.
pub(crate) fn open(bytes: &[u8], kind: Kind) -> Result<Header> {
    let damaged = |what: &str| {
        Error::new(ErrorKind::Corpus, format!("this index segment is damaged: {what}; rebuild the corpus"))
    };
    if bytes.len() < HEADER || &bytes[..8] != MAGIC {
        return Err(damaged("it has no segment header"));
    }
    if u32_at(bytes, HEADER_CHECK) != Some(crc32fast::hash(&bytes[..HEADER_CHECK])) {
        return Err(damaged("its header has changed"));
    }
    if u32_at(bytes, 12) != Some(kind as u32) {
        return Err(damaged("it is of another kind"));
    }
    let version = u32_at(bytes, 8).unwrap_or_default();
    if !(1..=kind.version()).contains(&version) {
        let known = kind.version();
        return Err(Error::new(
            ErrorKind::Corpus,
            format!(
                "this index segment has format version {version}, and this program reads up to {known}; use a newer logothete"
            ),
        ));
    }
    if u64_at(bytes, 16) != Some(bytes.len() as u64) {
        return Err(damaged("its length has changed"));
    }
    Ok(Header {
        version,
        rows: u32_at(bytes, 24).unwrap_or_default(),
        width: u32_at(bytes, 28).unwrap_or_default(),
        own: u32_at(bytes, OWN).unwrap_or_default(),
        check: u32_at(bytes, 32).unwrap_or_default(),
    })
}

impl Header {
    /// Reads the whole body and compares its checksum.
    pub(crate) fn verify(&self, bytes: &[u8]) -> Result<()> {
        if crc32fast::hash(bytes.get(HEADER..).unwrap_or_default()) == self.check {
            Ok(())
        } else {
            Err(Error::new(
                ErrorKind::Corpus,
                "this index segment is damaged: its contents have changed; rebuild the corpus",
            ))
        }
    }
}
