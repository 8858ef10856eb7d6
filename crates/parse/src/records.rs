//! Where files of records can be cut, so that a large one is read in parts.

/// Finds the ends of the records of a file as its bytes come, in memory that does not grow. A part of the file between two ends can be read alone, after the
/// [header](Self::header_bytes).
#[derive(Clone, Debug)]
pub struct RecordScanner {
    /// `None` means that every line is a record.
    delimiter: Option<u8>,
    state: Field,
    /// The number of bytes at the beginning that name the columns.
    header: u64,
}

/// Where in a field of a table the scanner is (RFC 4180).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Field {
    Begins,
    Plain,
    Quoted,
    /// Behind a quotation mark in a quoted field, which ends it or stands for itself.
    Mark,
}

impl RecordScanner {
    /// Looks at the first bytes of a file, some thousands, and at its name. Returns `None` for a file that is not made of records, or whose text has other
    /// line ends than single bytes, as in UTF-16.
    pub fn new(name: &str, beginning: &[u8]) -> Option<Self> {
        if beginning.starts_with(b"\xff\xfe") || beginning.starts_with(b"\xfe\xff") || beginning.contains(&0) {
            return None;
        }
        match crate::detect::ending(name).as_str() {
            "jsonl" | "ndjson" => Some(Self { delimiter: None, state: Field::Begins, header: 0 }),
            #[cfg(feature = "delimited")]
            "csv" | "tsv" | "tab" | "psv" => Some(Self::of_table(beginning)),
            _ => None,
        }
    }

    #[cfg(feature = "delimited")]
    fn of_table(beginning: &[u8]) -> Self {
        let text = String::from_utf8_lossy(beginning);
        let delimiter = crate::delimited::delimiter(&text);
        let mut scanner = Self { delimiter: Some(delimiter), state: Field::Begins, header: 0 };
        let first = scanner.clone().next_end(beginning);
        if let Some(first) = first.filter(|_| crate::delimited::has_header(&text, delimiter)) {
            scanner.header = first as u64;
        }
        scanner
    }

    /// Returns the number of bytes at the beginning of the file that go before each other part of it.
    pub fn header_bytes(&self) -> u64 {
        self.header
    }

    /// Takes the next bytes up to the end of a record, and returns how many they are; `None` means that it took all and none ends in them.
    pub fn next_end(&mut self, bytes: &[u8]) -> Option<usize> {
        let Some(delimiter) = self.delimiter else {
            return bytes.iter().position(|byte| *byte == b'\n').map(|at| at + 1);
        };
        for (at, byte) in bytes.iter().enumerate() {
            self.state = match (self.state, *byte) {
                (Field::Quoted, b'"') => Field::Mark,
                (Field::Quoted, _) | (Field::Begins | Field::Mark, b'"') => Field::Quoted,
                (_, b'\n') => {
                    self.state = Field::Begins;
                    return Some(at + 1);
                }
                (_, byte) if byte == delimiter => Field::Begins,
                _ => Field::Plain,
            };
        }
        None
    }
}
