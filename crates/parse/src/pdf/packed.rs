//! Counts what the streams of a file unpack to, before anything of it is kept.

use std::io::{BufRead, BufReader, Read};

use flate2::bufread::DeflateDecoder;
use logothete_core::Result;
use logothete_core::document::{Budget, Made};

/// A stream is unpacked this often at most; more filters on one stream serve only to hide its size.
const MAX_LAYERS: usize = 8;
/// Bytes that are counted at a time, and unpacked in one step.
const PART: usize = 64 * 1024;
const STEP: usize = 1024;
/// The bytes before what is deflated (RFC 1950).
const HEADER: usize = 2;

/// Counts the bytes to which all streams unpack that are deflated, by the marks around them, without reading the structure of the file. Takes the time of
/// unpacking each once, and little memory. Streams in other packings are small, or bounded by the memory of the process.
///
/// # Errors
/// If it is more than the budget allows, or the time is over.
pub(super) fn count(bytes: &[u8], budget: &Budget) -> Result<()> {
    let mut at = 0;
    while let Some(found) = find(&bytes[at..], b"stream") {
        let start = at + found + b"stream".len();
        let content = bytes[start..].strip_prefix(b"\r\n").or_else(|| bytes[start..].strip_prefix(b"\n"));
        at = start;
        if let Some(content) = content.filter(|content| is_deflated(content)) {
            unpack(&|| Box::new(content), budget, MAX_LAYERS)?;
        }
    }
    Ok(())
}

fn find(bytes: &[u8], mark: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some(found) = bytes[at..].iter().position(|byte| *byte == mark[0]) {
        at += found;
        if bytes[at..].starts_with(mark) {
            return Some(at);
        }
        at += 1;
    }
    None
}

/// Returns `true` for what may be the beginning of deflated bytes (RFC 1950).
fn is_deflated(bytes: &[u8]) -> bool {
    bytes.first().is_some_and(|method| method & 15 == 8)
}

/// Something packed, from its beginning each time.
type Packed<'p> = dyn Fn() -> Box<dyn BufRead + 'p> + 'p;

/// Unpacks a stream whole, and then what it holds if that may be packed again. Damaged streams end where they are damaged.
///
/// Neither the header nor the checksum is looked at: who reads the file later may not look at them either.
fn unpack(packed: &Packed<'_>, budget: &Budget, layers: usize) -> Result<()> {
    let unpacked = || -> Box<dyn BufRead + '_> {
        let mut packed = packed();
        let _ = packed.read_exact(&mut [0; HEADER]);
        Box::new(BufReader::with_capacity(STEP, DeflateDecoder::new(packed)))
    };
    let (mut from, mut part) = (unpacked(), vec![0; PART]);
    let mut count = fill(&mut from, &mut part);
    let again = layers > 1 && is_deflated(&part[..count]);
    budget.count(Made::Unpacked, count as u64)?;
    while count == part.len() {
        count = fill(&mut from, &mut part);
        budget.count(Made::Unpacked, count as u64)?;
    }
    drop(from);
    if again { unpack(&unpacked, budget, layers - 1) } else { Ok(()) }
}

/// Fills a part as far as there are bytes.
fn fill(from: &mut impl Read, part: &mut [u8]) -> usize {
    let mut filled = 0;
    while filled < part.len() {
        // What is unpacked in the same step as something damaged is lost, so that the steps are small.
        let end = part.len().min(filled + STEP);
        match from.read(&mut part[filled..end]) {
            Ok(0) | Err(_) => break,
            Ok(count) => filled += count,
        }
    }
    filled
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn deflated(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
        encoder.write_all(bytes).expect("memory");
        encoder.finish().expect("memory")
    }

    fn file(streams: &[Vec<u8>]) -> Vec<u8> {
        let mut bytes = b"%PDF-1.7\n".to_vec();
        for stream in streams {
            bytes.extend(b"1 0 obj\n<<>>\nstream\r\n");
            bytes.extend(stream);
            bytes.extend(b"\nendstream\nendobj\n");
        }
        bytes
    }

    #[test]
    fn streams_are_counted_whole_and_through_all_their_layers() {
        let plain = vec![b'a'; 200_000];
        let budget = Budget::default();
        count(&file(&[deflated(&plain), b"not packed".to_vec(), deflated(&plain)]), &budget).expect("room");
        assert_eq!(budget.max_unpacked - budget.left(Made::Unpacked), 400_000);
        let mut budget = Budget::default();
        budget.max_unpacked = 1_000_000;
        let bomb = deflated(&deflated(&deflated(&vec![b' '; 5_000_000])));
        let error = count(&file(&[bomb]), &budget).expect_err("too much");
        assert!(error.to_string().contains("unpacked_megabytes"), "{error}");
    }

    #[test]
    fn what_only_looks_packed_is_counted() {
        let budget = Budget::default();
        count(&file(&[deflated(&vec![b'x'; 300_000])]), &budget).expect("room");
        assert!(budget.max_unpacked - budget.left(Made::Unpacked) >= 300_000);
    }

    #[test]
    fn a_wrong_checksum_hides_nothing() {
        let mut budget = Budget::default();
        budget.max_unpacked = 1_000_000;
        let mut bomb = deflated(&deflated(&deflated(&vec![b' '; 5_000_000])));
        let last = bomb.len() - 1;
        bomb[last] ^= 1;
        bomb[1] ^= 1;
        assert!(count(&file(&[bomb]), &budget).is_err());
    }

    #[test]
    fn damaged_streams_end_where_they_are_damaged() {
        let mut packed = deflated(&[b'a'; 1_000]);
        packed.truncate(8);
        assert!(count(&file(&[packed, vec![0x78, 0x9c, 0xff, 0xff]]), &Budget::default()).is_ok());
    }
}
