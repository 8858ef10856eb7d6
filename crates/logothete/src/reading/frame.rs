//! Frames: the length of what follows, in 64 bits, little-endian, and then that. What a frame holds is written as MessagePack, which keeps every number as it is.

use std::io::{BufWriter, ErrorKind, Read, Result, Write};

/// Short frames are written at once, so that the other side wakes up once.
const SHORT: usize = 64 * 1024;

/// Writes frames.
pub(super) fn write(to: &mut impl Write, frames: &[&[u8]]) -> Result<()> {
    let mut to = BufWriter::with_capacity(SHORT, to);
    for frame in frames {
        to.write_all(&(frame.len() as u64).to_le_bytes())?;
        to.write_all(frame)?;
    }
    to.flush()
}

/// Appends a frame to others.
pub(super) fn append(to: &mut Vec<u8>, frame: &[u8]) {
    to.extend_from_slice(&(frame.len() as u64).to_le_bytes());
    to.extend_from_slice(frame);
}

/// Reads a frame of at most `max` bytes; `None` at the end.
///
/// # Errors
/// If it breaks off, or is longer.
pub(super) fn read(from: &mut impl Read, max: u64) -> Result<Option<Vec<u8>>> {
    let mut length = [0; 8];
    match from.read_exact(&mut length) {
        Ok(()) => {}
        Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Ok(None),
        Err(error) => return Err(error),
    }
    let length = u64::from_le_bytes(length);
    if length > max {
        return Err(std::io::Error::new(ErrorKind::FileTooLarge, format!("a frame of {length} bytes")));
    }
    let mut bytes = Vec::new();
    from.take(length).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == length { Ok(Some(bytes)) } else { Err(ErrorKind::UnexpectedEof.into()) }
}
