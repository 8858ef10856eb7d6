//! Small pieces for reading bytes that may be damaged, and sets of row numbers.

/// The little-endian number at a place, if the bytes reach that far.
pub(crate) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    let slice = bytes.get(at..at.checked_add(4)?)?;
    Some(u32::from_le_bytes(slice.try_into().ok()?))
}

/// The little-endian number at a place, if the bytes reach that far.
pub(crate) fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    let slice = bytes.get(at..at.checked_add(8)?)?;
    Some(u64::from_le_bytes(slice.try_into().ok()?))
}

/// The little-endian number at a place, if the bytes reach that far.
pub(crate) fn f32_at(bytes: &[u8], at: usize) -> Option<f32> {
    u32_at(bytes, at).map(f32::from_bits)
}

/// Writes a number in 7-bit groups, the lowest first; the high bit says that another follows.
pub(crate) fn write_varint(mut value: u32, to: &mut Vec<u8>) {
    while value >= 0x80 {
        to.push((value as u8) | 0x80);
        value >>= 7;
    }
    to.push(value as u8);
}

/// Reads such a number and moves on; nothing when the bytes end first or the number does not fit.
pub(crate) fn read_varint(bytes: &mut &[u8]) -> Option<u32> {
    let mut value = 0u64;
    for shift in 0..5 {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        value |= u64::from(byte & 0x7f) << (7 * shift);
        if byte & 0x80 == 0 {
            return u32::try_from(value).ok();
        }
    }
    None
}

/// A set of rows of a segment, a bit each.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowSet {
    words: Vec<u64>,
    rows: u32,
}

impl RowSet {
    /// The empty set over a number of rows.
    pub fn new(rows: u32) -> Self {
        Self { words: vec![0; rows.div_ceil(64) as usize], rows }
    }

    /// All the rows.
    pub fn all(rows: u32) -> Self {
        (0..rows).fold(Self::new(rows), |mut set, row| {
            set.insert(row);
            set
        })
    }

    /// Puts a row in. A row past the end is left out.
    pub fn insert(&mut self, row: u32) {
        if row < self.rows {
            self.words[row as usize / 64] |= 1 << (row % 64);
        }
    }

    /// Whether a row is in.
    pub fn contains(&self, row: u32) -> bool {
        self.words.get(row as usize / 64).is_some_and(|word| word >> (row % 64) & 1 == 1)
    }

    /// The rows from `at * 64` on, a bit each, the first in the lowest.
    pub(crate) fn word(&self, at: u32) -> u64 {
        self.words.get(at as usize).copied().unwrap_or(0)
    }

    /// How many rows are in.
    pub fn len(&self) -> u32 {
        self.words.iter().map(|word| word.count_ones()).sum()
    }

    /// Whether none is in.
    pub fn is_empty(&self) -> bool {
        self.words.iter().all(|&word| word == 0)
    }
}
