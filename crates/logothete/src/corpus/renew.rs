//! Postings written anew from the chunks: those of an older format, and those whose fields count otherwise than the settings say.

use logothete_core::Result;
use logothete_core::keyword::{Fields, KeywordIndex, KeywordWriter, merge_keywords};
use logothete_core::search::RowSet;

use super::store::Bytes;
use super::{Inner, SegmentEntry, SegmentFiles};

/// So many rows are read at a time.
const TOGETHER: u32 = 4_096;
/// So many rows are written at a time; what they hold until then is some kilobytes each.
const PIECE: u32 = 10_000;

impl Inner {
    /// Writes the postings anew that are of a format that this program no longer reads.
    pub(super) fn renew(&self) -> Result<()> {
        let outdated = |bytes: &Bytes| KeywordIndex::<&[u8]>::is_outdated(bytes.as_ref());
        if self.segments_whose_postings(outdated)?.is_empty() {
            return Ok(());
        }
        let _lock = self.unchecked_lock()?;
        for entry in self.segments_whose_postings(outdated)? {
            self.write_postings(&entry)?;
        }
        self.sweep()
    }

    /// Writes the postings anew that were written with other weights of the fields, unless it is stopped. For the one who holds
    /// the writer's lock, and sweeps afterwards.
    pub(crate) fn reweigh(&self, stop: &dyn Fn() -> bool) -> Result<()> {
        let weights = self.pipeline.settings.fields;
        let otherwise = |bytes: &Bytes| KeywordIndex::open(bytes).is_ok_and(|index| index.weights() != weights);
        for entry in self.segments_whose_postings(otherwise)? {
            if stop() {
                break;
            }
            self.write_postings(&entry)?;
        }
        Ok(())
    }

    /// The segments with such postings. Whatever is wrong with one is said by those who read it.
    fn segments_whose_postings(&self, are_so: impl Fn(&Bytes) -> bool) -> Result<Vec<SegmentEntry>> {
        let mut entries = self.catalogue().segments()?;
        entries.retain(|entry| self.store.open_file(&entry.files.keywords).is_ok_and(|bytes| are_so(&bytes)));
        Ok(entries)
    }

    /// Writes the postings of a segment anew, piece by piece, and commits them.
    fn write_postings(&self, entry: &SegmentEntry) -> Result<()> {
        let rows = entry.files.rows;
        let mut writer = KeywordWriter::new(self.pipeline.settings.fields);
        let mut pieces = Vec::new();
        for first in (0..rows).step_by(PIECE as usize) {
            let last = rows.min(first + PIECE);
            for from in (first..last).step_by(TOGETHER as usize) {
                for (row, indexed) in self.catalogue().indexed_rows(entry.id, from, last.min(from + TOGETHER))? {
                    // Rows that are no longer live have nothing.
                    fill_up(&mut writer, row - first);
                    indexed.write(&mut writer);
                }
            }
            fill_up(&mut writer, last - first);
            pieces.push(self.store.write("keywords", |to| writer.write(to))?);
        }
        let keywords = match pieces.as_slice() {
            [one] => one.clone(),
            pieces => {
                let open = |name: &String| KeywordIndex::open(self.store.open_file(name)?);
                let pieces: Vec<_> = pieces.iter().map(open).collect::<Result<_>>()?;
                let all: Vec<RowSet> = pieces.iter().map(|piece| RowSet::all(piece.rows())).collect();
                let parts: Vec<_> = pieces.iter().zip(&all).collect();
                self.store.write("keywords", |to| merge_keywords(&parts, to))?
            }
        };
        self.store.sync()?;
        let files = SegmentFiles { keywords, ..entry.files.clone() };
        self.catalogue().commit(|catalogue| catalogue.set_files(entry.id, &files))
    }
}

fn fill_up(writer: &mut KeywordWriter, to: u32) {
    while writer.rows() < to {
        writer.push(&Fields::default(), None);
    }
}
