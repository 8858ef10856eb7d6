//! Files that could not be read, so that the next build does not read them in vain.

use std::collections::BTreeMap;

use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use super::list::Candidate;
use super::read::{CLOCK_DOUBT, nanoseconds, now};
use crate::config::LimitsConfig;

/// So many are remembered at most; beyond, files are read again.
const MAX_FILES: usize = 20_000;

/// A file that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct UnreadFile {
    size: u64,
    modified: i64,
    inode: Option<u64>,
    /// When it was looked at.
    seen: i64,
    /// The parser, the encoder and the limits under which it was read.
    reader: String,
    reason: String,
}

/// The files of a corpus that could not be read, by their source and path.
#[derive(Clone, Debug, Default)]
pub(super) struct Unread {
    files: BTreeMap<String, UnreadFile>,
    reader: String,
    is_changed: bool,
}

impl Unread {
    /// Reads what the catalogue remembers. What it cannot read is forgotten: then the files are read again.
    pub(super) fn read(written: Option<&str>, reading: &str, limits: &LimitsConfig) -> Self {
        let files = written.and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
        let LimitsConfig { seconds, text_megabytes, memory_megabytes, file_megabytes, .. } = limits;
        let LimitsConfig { blocks, cells, places, chunks, file_tokens, .. } = limits;
        let reader = format!(
            "{reading} {seconds} {text_megabytes} {memory_megabytes} {file_megabytes} {blocks} {cells} {places} {chunks} {file_tokens}"
        );
        Self { files, reader, is_changed: false }
    }

    /// Returns why a file could not be read, if it and the reader are as they were.
    pub(super) fn reason(&self, candidate: &Candidate) -> Option<&str> {
        let known = self.files.get(&candidate.identity)?;
        let item = &candidate.item;
        let modified = item.modified.map(|modified| nanoseconds(Some(modified)))?;
        let same = known.modified == modified
            && known.modified + CLOCK_DOUBT < known.seen
            && Some(known.size) == item.size
            && known.inode == item.inode
            && known.reader == self.reader;
        same.then_some(&known.reason)
    }

    /// Remembers what came of reading a file: an error of the file itself, or none.
    pub(super) fn note(&mut self, candidate: &Candidate, error: Option<(ErrorKind, &str)>) {
        let kind = error.map(|(kind, _)| kind);
        // Only what the file itself is to blame for will be the same the next time.
        let lasts = matches!(kind, Some(ErrorKind::Unreadable | ErrorKind::Limit | ErrorKind::Unsupported));
        let item = &candidate.item;
        match (error, item.modified, item.size) {
            (Some((_, reason)), Some(modified), Some(size)) if lasts && self.files.len() < MAX_FILES => {
                let modified = nanoseconds(Some(modified));
                let (reader, reason) = (self.reader.clone(), reason.to_owned());
                let file = UnreadFile { size, modified, inode: item.inode, seen: now(), reader, reason };
                self.files.insert(candidate.identity.clone(), file);
                self.is_changed = true;
            }
            _ => self.is_changed |= self.files.remove(&candidate.identity).is_some(),
        }
    }

    /// Returns what the catalogue is to remember; `None` if that is as it was.
    pub(super) fn written(&mut self) -> Result<Option<String>> {
        if !std::mem::take(&mut self.is_changed) {
            return Ok(None);
        }
        let text = serde_json::to_string(&self.files);
        text.map(Some)
            .map_err(|error| Error::new(ErrorKind::System, "a value cannot be written as JSON").because(error))
    }
}
