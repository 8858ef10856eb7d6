//! Writing postings again from the chunks: those of an older format, and those with other weights than the configuration's.

use logothete_core::Result;
use logothete_core::keyword::{Fields, KeywordIndex, KeywordWriter, merge_keywords};
use logothete_core::segment::RowSet;

use crate::opened::Opened;
use crate::storage::{Blob, FileKind, Lease, SegmentEntry};

/// The number of rows that are read from the catalogue at a time.
const READ_ROWS: u32 = 4_096;
/// The number of rows that are written at a time. Each holds some kilobytes before that.
const WRITE_ROWS: u32 = 10_000;

/// Writes the postings again that have a format that is no longer read.
pub(crate) fn renew(opened: &Opened) -> Result<()> {
    let outdated = |bytes: &Blob| KeywordIndex::<&[u8]>::is_outdated(bytes.as_ref());
    if segments_with(opened, outdated)?.is_empty() {
        return Ok(());
    }
    let lease = opened.storage.acquire()?;
    for entry in segments_with(opened, outdated)? {
        write(opened, &lease, &entry)?;
    }
    opened.storage.sweep(&lease)
}

/// Writes the postings again that were written with other weights of the fields, unless it is stopped. The caller sweeps afterwards.
pub(super) fn reweigh(opened: &Opened, lease: &Lease, is_stopped: &dyn Fn() -> bool) -> Result<()> {
    let weights = opened.config().index.fields;
    let differ = |bytes: &Blob| KeywordIndex::open(bytes).is_ok_and(|index| index.weights() != weights);
    for entry in segments_with(opened, differ)? {
        if is_stopped() {
            break;
        }
        write(opened, lease, &entry)?;
    }
    Ok(())
}

/// Returns the segments whose postings meet a condition. Readers report a file that cannot be opened.
fn segments_with(opened: &Opened, condition: impl Fn(&Blob) -> bool) -> Result<Vec<SegmentEntry>> {
    let mut entries = opened.storage.read()?.segments()?;
    let meets = |entry: &SegmentEntry| opened.storage.open_file(entry.files.name(FileKind::Keywords));
    entries.retain(|entry| meets(entry).is_ok_and(|bytes| condition(&bytes)));
    Ok(entries)
}

/// Writes the postings of a segment again, piece by piece, and commits them.
fn write(opened: &Opened, lease: &Lease, entry: &SegmentEntry) -> Result<()> {
    let (storage, rows) = (&opened.storage, entry.files.rows);
    let mut writer = KeywordWriter::new(opened.config().index.fields);
    let mut pieces = Vec::new();
    for first in (0..rows).step_by(WRITE_ROWS as usize) {
        let last = rows.min(first + WRITE_ROWS);
        for from in (first..last).step_by(READ_ROWS as usize) {
            let indexed = storage.read()?.indexed_rows(entry.id, from, last.min(from + READ_ROWS))?;
            for (row, indexed) in indexed {
                // Rows that are no longer live have no terms.
                fill_up(&mut writer, row - first);
                indexed.write(&mut writer);
            }
        }
        fill_up(&mut writer, last - first);
        pieces.push(storage.write(FileKind::Keywords, |to| writer.write(to))?);
    }
    let keywords = match pieces.as_slice() {
        [one] => one.clone(),
        pieces => {
            let open = |name: &String| KeywordIndex::open(storage.open_file(name)?);
            let pieces: Vec<_> = pieces.iter().map(open).collect::<Result<_>>()?;
            let all: Vec<RowSet> = pieces.iter().map(|piece| RowSet::all(piece.rows())).collect();
            let parts: Vec<_> = pieces.iter().zip(&all).collect();
            storage.write(FileKind::Keywords, |to| merge_keywords(&parts, to))?
        }
    };
    storage.sync()?;
    let files = entry.files.with(FileKind::Keywords, keywords);
    storage.commit(lease, |transaction| transaction.set_files(&[(entry.id, files)]))
}

fn fill_up(writer: &mut KeywordWriter, to: u32) {
    while writer.rows() < to {
        writer.push(&Fields::default(), None);
    }
}
