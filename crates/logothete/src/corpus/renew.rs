//! Postings of an older format, written anew from the chunks.

use logothete_core::Result;
use logothete_core::keyword::{Fields, KeywordIndex, KeywordWriter};

use super::{Inner, SegmentEntry, SegmentFiles};

/// So many rows are read at a time.
const TOGETHER: u32 = 4_096;

impl Inner {
    /// Writes the postings anew that are of a format that this program no longer reads.
    pub(super) fn renew(&self) -> Result<()> {
        if self.outdated()?.is_empty() {
            return Ok(());
        }
        let _lock = self.unchecked_lock()?;
        for entry in self.outdated()? {
            let mut writer = KeywordWriter::new(self.pipeline.settings.fields);
            let rows = entry.files.rows;
            for from in (0..rows).step_by(TOGETHER as usize) {
                for (row, indexed) in self.catalogue().indexed_rows(entry.id, from, rows.min(from + TOGETHER))? {
                    // Rows that are no longer live have nothing.
                    fill_up(&mut writer, row);
                    indexed.write(&mut writer);
                }
            }
            fill_up(&mut writer, rows);
            let keywords = self.store.write("keywords", |to| writer.write(to))?;
            self.store.sync()?;
            let files = SegmentFiles { keywords, ..entry.files.clone() };
            self.catalogue().commit(|catalogue| catalogue.set_files(entry.id, &files))?;
        }
        self.sweep()
    }

    /// The segments whose postings are outdated. Whatever else is wrong with one is said by those who read it.
    fn outdated(&self) -> Result<Vec<SegmentEntry>> {
        let mut entries = self.catalogue().segments()?;
        entries.retain(|entry| {
            let file = self.store.open_file(&entry.files.keywords);
            file.is_ok_and(|bytes| KeywordIndex::<&[u8]>::is_outdated(bytes.as_ref()))
        });
        Ok(entries)
    }
}

fn fill_up(writer: &mut KeywordWriter, to: u32) {
    while writer.rows() < to {
        writer.push(&Fields::default(), None);
    }
}
