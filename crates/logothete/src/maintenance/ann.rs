//! Building the approximate index over the vectors of a segment.

use logothete_core::Result;
use logothete_core::vector::{IndexKind, VectorIndex, write_ann_graph, write_ivf_lists};

use crate::opened::Opened;
use crate::storage::FileKind;
use crate::threads::StopToken;

/// Returns the kind of file that a segment of this number of rows needs; `None` means that its vectors are scanned.
pub(super) fn wanted(opened: &Opened, rows: u32) -> Option<FileKind> {
    let (kind, memory) = (opened.config().index.kind, opened.config().limits.memory_bytes());
    match kind.resolve(rows, opened.encoder.dimensions(), memory) {
        IndexKind::Graph => Some(FileKind::Graph),
        IndexKind::Lists => Some(FileKind::Lists),
        _ => None,
    }
}

/// Writes the approximate index that a segment needs; `None` if it needs none, or the work was stopped.
pub(super) fn write(opened: &Opened, vectors: &str, rows: u32, stop: &StopToken) -> Result<Option<(FileKind, String)>> {
    let vectors = VectorIndex::open(opened.storage.open_file(vectors)?)?;
    let Some(kind) = wanted(opened, rows).filter(|_| vectors.rows() > 0) else { return Ok(None) };
    let is_stopped = || stop.is_stopped();
    let mut missing = false;
    let name = opened.storage.write(kind, |to| {
        let header = match kind {
            FileKind::Graph => write_ann_graph(&vectors, to, &is_stopped)?,
            _ => write_ivf_lists(&vectors, to, &is_stopped)?,
        };
        missing = header.is_none();
        // A segment of the first version has no codes, and is scanned.
        Ok(header.unwrap_or_default())
    })?;
    Ok((!missing).then_some((kind, name)))
}
