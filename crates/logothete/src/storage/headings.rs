//! An index of titles and headings, in memory.

use logothete_core::Result;
use logothete_core::keyword::{FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords};
use logothete_core::segment::{RowSet, whole_segment};

use super::catalogue::SectionHeadings;

/// The index. A row is a section, by its number among the places of the corpus.
#[derive(Debug)]
pub(crate) struct HeadingsIndex {
    index: KeywordIndex<Vec<u8>>,
    live: RowSet,
    counts: LiveCounts,
}

impl HeadingsIndex {
    /// Indexes the headings of all sections.
    pub(crate) fn new(sections: &[SectionHeadings]) -> Result<Self> {
        let mut writer = KeywordWriter::new(FieldWeights::default());
        for (title, headings, language) in sections {
            let headings = headings.join("\n");
            let title = title.as_deref().unwrap_or_default();
            writer.push(&Fields { title, headings: &headings, ..Fields::default() }, *language);
        }
        let index = KeywordIndex::open(whole_segment(|to| writer.write(to))?)?;
        let live = RowSet::all(index.rows());
        let counts = LiveCounts::new(&index, &live);
        Ok(Self { index, live, counts })
    }

    pub(crate) fn keywords(&self) -> LiveKeywords<'_, Vec<u8>> {
        LiveKeywords { index: &self.index, live: &self.live, counts: &self.counts }
    }
}
