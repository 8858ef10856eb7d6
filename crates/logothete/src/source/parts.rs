//! Large files of records, read in parts that keep their header.

use std::borrow::Cow;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};
use std::ops::Range;
use std::path::Path;

use logothete_parse::RecordScanner;

use super::{Content, Item};

/// A part of a file ends with the first record that ends behind so many bytes.
const PART: u64 = 8_000_000;
/// So many bytes say how the records of a file are written.
const BEGINNING: usize = 64 * 1024;

/// A part of a file of records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilePart {
    /// The number of bytes at the beginning of the file that name its columns. They go before the part.
    pub header_bytes: u64,
    /// Its bytes in the file.
    pub bytes: Range<u64>,
}

impl FilePart {
    /// Returns the number of bytes that are read.
    pub(super) fn size(&self) -> u64 {
        self.bytes.end - self.bytes.start + self.header_before()
    }

    fn header_before(&self) -> u64 {
        if self.bytes.start == 0 { 0 } else { self.header_bytes }
    }

    /// Reads the part, with the header before it.
    pub(super) fn read(&self, file: &Path) -> io::Result<Content> {
        let mut file = File::open(file)?;
        let mut bytes = Vec::with_capacity(self.size() as usize);
        (&mut file).take(self.header_before()).read_to_end(&mut bytes)?;
        file.seek(SeekFrom::Start(self.bytes.start))?;
        file.take(self.bytes.end - self.bytes.start).read_to_end(&mut bytes)?;
        Ok(Content { bytes, media_type: None })
    }
}

/// Returns a listed file, or the parts of it if it is a large file of records. The first part has the name of the file. Costs reading such a file once.
pub(super) fn parts(item: Item, file: &Path) -> Vec<Item> {
    if item.size.is_none_or(|size| size <= PART) {
        return vec![item];
    }
    // What cannot be read is found out when it is read.
    match ends(&item.path, file) {
        Ok(Some((scanner, ends))) if ends.len() > 1 => {
            let starts = std::iter::once(0).chain(ends.iter().copied());
            let ranges = starts.zip(ends.iter().copied());
            let parts = ranges.enumerate().map(|(at, (start, end))| {
                let part = FilePart { header_bytes: scanner.header_bytes(), bytes: start..end };
                Item {
                    path: part_of(&item.path, at + 1),
                    place: part_of(&item.place, at + 1),
                    size: Some(part.size()),
                    part: Some(part),
                    ..item.clone()
                }
            });
            parts.collect()
        }
        _ => vec![item],
    }
}

/// Returns where the parts of a file end; `None` if it is no file of records.
fn ends(name: &str, file: &Path) -> io::Result<Option<(RecordScanner, Vec<u64>)>> {
    let mut reader = BufReader::with_capacity(BEGINNING, File::open(file)?);
    let Some(mut scanner) = RecordScanner::new(name, reader.fill_buf()?) else { return Ok(None) };
    let found = scanner.clone();
    let (mut ends, mut start, mut at) = (Vec::new(), 0, 0);
    loop {
        let bytes = reader.fill_buf()?;
        if bytes.is_empty() {
            break;
        }
        let (count, is_end) = scanner.next_end(bytes).map_or((bytes.len(), false), |count| (count, true));
        reader.consume(count);
        at += count as u64;
        if is_end && at - start >= PART {
            ends.push(at);
            start = at;
        }
    }
    if at > start {
        ends.push(at);
    }
    Ok(Some((found, ends)))
}

/// Returns the name of a part of a file: `log, part 2.csv`. The first part is called as the file.
pub(crate) fn part_of(name: &str, number: usize) -> String {
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    if number == 1 { name.to_owned() } else { format!("{stem}{PART_NAME}{number}.{ending}") }
}

/// Returns the name of the file that a part belongs to.
pub(crate) fn whole_of(name: &str) -> Cow<'_, str> {
    let parted = name.rsplit_once('.').and_then(|(stem, ending)| {
        let (stem, number) = stem.rsplit_once(PART_NAME)?;
        let is_number = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit());
        is_number.then(|| format!("{stem}.{ending}"))
    });
    parted.map_or(Cow::Borrowed(name), Cow::Owned)
}

/// What stands between the name of a file and the number of its part.
const PART_NAME: &str = ", part ";

#[cfg(test)]
mod tests {
    use std::fmt::Write as _;

    use super::*;

    fn listed(name: &str, text: &str) -> (tempfile::TempDir, Vec<Item>) {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join(name);
        std::fs::write(&file, text).expect("a file");
        let item = Item {
            path: name.to_owned(),
            place: file.display().to_string(),
            size: Some(text.len() as u64),
            ..Item::default()
        };
        let parts = parts(item, &file);
        (folder, parts)
    }

    fn read(folder: &Path, name: &str, item: &Item) -> String {
        let part = item.part.as_ref().expect("a part");
        String::from_utf8(part.read(&folder.join(name)).expect("a part").bytes).expect("text")
    }

    #[test]
    fn a_large_table_is_cut_between_records_and_keeps_its_header() {
        let mut text = "berth;note\r\n".to_owned();
        for number in 0..400_000 {
            let _ = write!(
                text,
                "{number};\"a note of two lines,\nthe second of number {number} with a \"\"mark\"\"\"\r\n"
            );
        }
        let (folder, items) = listed("berths.csv", &text);
        assert!(items.len() > 2);
        let paths: Vec<&str> = items.iter().take(2).map(|item| item.path.as_str()).collect();
        assert_eq!(paths, ["berths.csv", "berths, part 2.csv"]);
        let all: Vec<String> = items.iter().map(|item| read(folder.path(), "berths.csv", item)).collect();
        assert!(all.iter().all(|part| part.starts_with("berth;note\r\n") && part.ends_with("\"\r\n")));
        let joined: String =
            all.iter().enumerate().map(|(at, part)| if at == 0 { &part[..] } else { &part[12..] }).collect();
        assert!(joined == text, "no byte is lost");
        assert!(items.iter().zip(&all).all(|(item, part)| item.size == Some(part.len() as u64)));
    }

    #[test]
    fn what_is_added_at_the_end_changes_the_last_part_alone() {
        let line = |number: usize| format!("{{\"id\": {number}, \"text\": \"The bell is rung in fog.\"}}\n");
        let text: String = (0..500_000).map(line).collect();
        let (_folder, before) = listed("log.jsonl", &text);
        let (_folder, after) = listed("log.jsonl", &(text + &line(7)));
        let parts = |items: &[Item]| items.iter().map(|item| item.part.clone()).collect::<Vec<_>>();
        let (before, after) = (parts(&before), parts(&after));
        assert_eq!(before[..before.len() - 1], after[..before.len() - 1]);
        assert_ne!(before.last(), after.last());
    }

    #[test]
    fn other_files_and_small_ones_are_whole() {
        assert_eq!(listed("a.csv", "a,b\n1,2\n").1[0].part, None);
        let large = "a line of text\n".repeat(700_000);
        assert_eq!(listed("a.txt", &large).1.len(), 1);
        let quoted = format!("a,b\n1,\"{large}");
        assert_eq!(listed("a.csv", &quoted).1.len(), 1, "a quotation that does not end is one record");
    }

    #[test]
    fn a_part_is_named_after_its_file() {
        assert_eq!(whole_of(&part_of("notes, part two.csv", 3)), "notes, part two.csv");
        assert_eq!(whole_of("notes, part two.csv"), "notes, part two.csv");
    }
}
