//! Sets of row numbers.

/// A set of rows of a segment, one bit each.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowSet {
    words: Vec<u64>,
    rows: u32,
}

impl RowSet {
    /// Returns the empty set over a number of rows.
    pub fn new(rows: u32) -> Self {
        Self { words: vec![0; rows.div_ceil(64) as usize], rows }
    }

    /// Returns the set of all rows.
    pub fn all(rows: u32) -> Self {
        let mut words = vec![u64::MAX; rows.div_ceil(64) as usize];
        if let Some(last) = words.last_mut().filter(|_| !rows.is_multiple_of(64)) {
            *last = (1 << (rows % 64)) - 1;
        }
        Self { words, rows }
    }

    /// Reads what [`to_bytes`](Self::to_bytes) wrote. Bits past the end are ignored; missing bits are zero.
    pub fn from_bytes(rows: u32, bytes: &[u8]) -> Self {
        let mut set = Self::new(rows);
        for (word, bytes) in set.words.iter_mut().zip(bytes.chunks(8)) {
            let mut eight = [0; 8];
            eight[..bytes.len()].copy_from_slice(bytes);
            *word = u64::from_le_bytes(eight);
        }
        set.intersect_with(&Self::all(rows));
        set
    }

    /// Returns one bit for each row, the first in the lowest bit of the first byte.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes: Vec<u8> = self.words.iter().flat_map(|word| word.to_le_bytes()).collect();
        bytes.truncate(self.rows.div_ceil(8) as usize);
        bytes
    }

    /// Removes every row that `other` does not contain.
    pub fn intersect_with(&mut self, other: &Self) {
        let others = other.words.iter().copied().chain(std::iter::repeat(0));
        self.words.iter_mut().zip(others).for_each(|(word, other)| *word &= other);
    }

    /// Returns the rows in the set, ascending.
    pub fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        ones(self.words.iter().copied())
    }

    /// Returns the rows outside the set, ascending.
    pub fn missing(&self) -> impl Iterator<Item = u32> + '_ {
        let rows = self.rows;
        ones(self.words.iter().map(|word| !word)).take_while(move |&row| row < rows)
    }

    /// Adds a row. A row past the end is ignored.
    pub fn insert(&mut self, row: u32) {
        if row < self.rows {
            self.words[row as usize / 64] |= 1 << (row % 64);
        }
    }

    /// Removes a row.
    pub fn remove(&mut self, row: u32) {
        if row < self.rows {
            self.words[row as usize / 64] &= !(1 << (row % 64));
        }
    }

    /// Returns the number of rows that the set ranges over.
    pub fn rows(&self) -> u32 {
        self.rows
    }

    /// Returns `true` if the set contains a row.
    pub fn contains(&self, row: u32) -> bool {
        self.words.get(row as usize / 64).is_some_and(|word| word >> (row % 64) & 1 == 1)
    }

    /// Returns the bits of 64 rows from `at * 64` on, the first in the lowest bit.
    pub(crate) fn word(&self, at: u32) -> u64 {
        self.words.get(at as usize).copied().unwrap_or(0)
    }

    /// Returns the number of rows in the set.
    pub fn len(&self) -> u32 {
        self.words.iter().map(|word| word.count_ones()).sum()
    }

    /// Returns `true` if the set is empty.
    pub fn is_empty(&self) -> bool {
        self.words.iter().all(|&word| word == 0)
    }
}

/// Iterates over the places of the bits that are set.
fn ones(words: impl Iterator<Item = u64>) -> impl Iterator<Item = u32> {
    words.enumerate().flat_map(|(at, word)| {
        let mut left = word;
        std::iter::from_fn(move || {
            (left != 0).then(|| {
                let bit = left.trailing_zeros();
                left &= left - 1;
                at as u32 * 64 + bit
            })
        })
    })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_set_is_a_set(rows in 0_u32..300, put in prop::collection::vec(0_u32..320, 0..90), taken in prop::collection::vec(0_u32..320, 0..40)) {
            let (mut set, mut plain) = (RowSet::new(rows), BTreeSet::new());
            for row in put {
                set.insert(row);
                if row < rows { plain.insert(row); }
            }
            for row in taken {
                set.remove(row);
                plain.remove(&row);
            }
            prop_assert_eq!(set.iter().collect::<Vec<_>>(), plain.iter().copied().collect::<Vec<_>>());
            let missing: Vec<u32> = (0..rows).filter(|row| !plain.contains(row)).collect();
            prop_assert_eq!(set.missing().collect::<Vec<_>>(), missing);
            prop_assert_eq!(&RowSet::from_bytes(rows, &set.to_bytes()), &set);
            prop_assert_eq!(RowSet::from_bytes(rows, &[255; 64]), RowSet::all(rows));
            prop_assert_eq!(set.len() as usize, plain.len());
            let mut kept = RowSet::all(rows);
            kept.intersect_with(&set);
            prop_assert_eq!(kept, set);
        }
    }
}
