//! The terms of a segment in ascending order, each with its list. Looks terms up exactly, by prefix, or with one slip.
//!
//! Terms are in blocks of sixteen. Each term is written as the length that it shares with the term before, and the rest. A
//! block begins with its whole first term, so that a binary search finds the block.

use std::cmp::Ordering;
use std::ops::Range;

use crate::segment::{read_varint, u64_at, write_varint};

/// The number of terms in a block.
const BLOCK_TERMS: usize = 16;

/// Writes a dictionary. Terms must come in ascending order.
#[derive(Default)]
pub(super) struct DictionaryWriter {
    bytes: Vec<u8>,
    index: Vec<u64>,
    last: String,
    terms: u32,
    /// The place where the next list begins.
    list: u64,
}

impl DictionaryWriter {
    pub(super) fn push(&mut self, term: &str, count: u32, list_length: u32) {
        let begins = (self.terms as usize).is_multiple_of(BLOCK_TERMS);
        if begins {
            self.index.push(self.bytes.len() as u64);
            self.bytes.extend(self.list.to_le_bytes());
            self.last.clear();
        }
        let shared = shared(self.last.as_bytes(), term.as_bytes());
        write_varint(shared as u32, &mut self.bytes);
        write_varint((term.len() - shared) as u32, &mut self.bytes);
        self.bytes.extend_from_slice(&term.as_bytes()[shared..]);
        write_varint(count, &mut self.bytes);
        write_varint(list_length, &mut self.bytes);
        term.clone_into(&mut self.last);
        self.terms += 1;
        self.list += u64::from(list_length);
    }

    /// Returns the number of terms.
    pub(super) fn terms(&self) -> u32 {
        self.terms
    }

    /// Returns the bytes of the blocks, and those of their starting places.
    pub(super) fn finish(self) -> (Vec<u8>, Vec<u8>) {
        (self.bytes, self.index.into_iter().flat_map(u64::to_le_bytes).collect())
    }
}

/// Returns the number of bytes in the common prefix of two terms.
fn shared(a: &[u8], b: &[u8]) -> usize {
    let number = |eight: &[u8; 8]| u64::from_le_bytes(*eight);
    let mut at = 0;
    // Compares eight bytes at a time while both terms have eight left.
    while let (Some(a), Some(b)) = (a[at..].first_chunk(), b[at..].first_chunk()) {
        let differ = number(a) ^ number(b);
        if differ != 0 {
            return at + differ.trailing_zeros() as usize / 8;
        }
        at += 8;
    }
    at + a[at..].iter().zip(&b[at..]).take_while(|(a, b)| a == b).count()
}

/// A term with its list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Entry {
    pub term: Vec<u8>,
    /// The number of rows that have it.
    pub count: u32,
    /// The range of its list in the postings.
    pub list: Range<usize>,
}

/// A dictionary, read in place. A damaged one has fewer terms.
#[derive(Clone, Copy)]
pub(super) struct Dictionary<'a> {
    blocks: &'a [u8],
    index: &'a [u8],
}

impl<'a> Dictionary<'a> {
    pub(super) fn new(blocks: &'a [u8], index: &'a [u8]) -> Self {
        Self { blocks, index }
    }

    fn begin(self, block: usize) -> Option<usize> {
        usize::try_from(u64_at(self.index, block * 8)?).ok()
    }

    /// Returns the first term of a block.
    fn first(self, block: usize) -> Option<&'a [u8]> {
        let mut bytes = self.blocks.get(self.begin(block)?.checked_add(8)?..)?;
        read_varint(&mut bytes)?;
        let length = read_varint(&mut bytes)? as usize;
        bytes.get(..length)
    }

    /// Returns the last block whose first term is not after `term`.
    fn block_of(self, term: &[u8]) -> usize {
        let (mut low, mut high) = (0, self.index.len() / 8);
        while low + 1 < high {
            let middle = low + (high - low) / 2;
            if self.first(middle).unwrap_or_default() <= term { low = middle } else { high = middle }
        }
        low
    }

    /// Returns the entries from the first block that may have a term.
    fn walk(self, from: &[u8]) -> Walk<'a> {
        let mut walk = Walk { dictionary: self, block: 0, bytes: &[], left: 0, entry: Entry::default() };
        walk.enter(self.block_of(from));
        walk
    }

    /// Returns all entries.
    pub(super) fn all(self) -> Walk<'a> {
        self.walk(&[])
    }

    /// Returns the entry of a term.
    pub(super) fn find(self, term: &str) -> Option<Entry> {
        let mut walk = self.walk(term.as_bytes());
        while let Some(entry) = walk.next() {
            match entry.term.as_slice().cmp(term.as_bytes()) {
                Ordering::Less => {}
                Ordering::Equal => return Some(entry.clone()),
                Ordering::Greater => return None,
            }
        }
        None
    }

    /// Returns the entries of all terms with a prefix.
    pub(super) fn beginning(self, with: &str) -> Vec<Entry> {
        let (mut walk, mut found) = (self.walk(with.as_bytes()), Vec::new());
        while let Some(entry) = walk.next() {
            if entry.term.starts_with(with.as_bytes()) {
                found.push(entry.clone());
            } else if entry.term.as_slice() > with.as_bytes() {
                break;
            }
        }
        found
    }

    /// Returns the entries of all terms that are one slip from a word: a letter inserted, removed, replaced, or swapped with
    /// its neighbour.
    ///
    /// Computes the edit distances of common prefixes once (Wagner and Fischer, 1974), and skips the terms whose prefix is
    /// already too far.
    pub(super) fn near(self, word: &str) -> Vec<Entry> {
        let word: Vec<char> = word.chars().collect();
        let (mut walk, mut found, mut table) = (self.walk(&[]), Vec::new(), Distances::new(&word));
        while let Some(entry) = walk.next() {
            let Ok(term) = std::str::from_utf8(&entry.term) else { continue };
            match table.look(term) {
                Nearness::Near => found.push(entry.clone()),
                Nearness::Far => {}
                Nearness::Dead(length) => {
                    // No term with this prefix is near; skip them all.
                    let mut beyond = entry.term[..length].to_vec();
                    while beyond.last() == Some(&u8::MAX) {
                        beyond.pop();
                    }
                    let Some(last) = beyond.last_mut() else { break };
                    *last += 1;
                    walk.leap(&beyond);
                }
            }
        }
        found
    }
}

/// An iterator over the entries.
pub(super) struct Walk<'a> {
    dictionary: Dictionary<'a>,
    block: usize,
    bytes: &'a [u8],
    left: usize,
    entry: Entry,
}

impl Walk<'_> {
    fn enter(&mut self, block: usize) {
        self.block = block;
        let at = self.dictionary.begin(block).unwrap_or(usize::MAX);
        let bytes = self.dictionary.blocks.get(at..).unwrap_or_default();
        let list = u64_at(bytes, 0).and_then(|list| usize::try_from(list).ok());
        (self.bytes, self.left) = (bytes.get(8..).unwrap_or_default(), if list.is_some() { BLOCK_TERMS } else { 0 });
        self.entry.term.clear();
        self.entry.list = list.map_or(0..0, |list| list..list);
    }

    /// Returns the current entry.
    pub(super) fn entry(&self) -> &Entry {
        &self.entry
    }

    /// Moves to the next entry and returns it.
    pub(super) fn next(&mut self) -> Option<&Entry> {
        if self.left == 0 || self.bytes.is_empty() {
            if (self.block + 1) * 8 >= self.dictionary.index.len() {
                return None;
            }
            self.enter(self.block + 1);
        }
        self.left = self.left.checked_sub(1)?;
        let shared = read_varint(&mut self.bytes)? as usize;
        let length = read_varint(&mut self.bytes)? as usize;
        let (rest, bytes) = self.bytes.split_at_checked(length)?;
        self.bytes = bytes;
        if shared > self.entry.term.len() {
            return None;
        }
        self.entry.term.truncate(shared);
        self.entry.term.extend_from_slice(rest);
        self.entry.count = read_varint(&mut self.bytes)?;
        let end = self.entry.list.end.checked_add(read_varint(&mut self.bytes)? as usize)?;
        self.entry.list = self.entry.list.end..end;
        Some(&self.entry)
    }

    /// Skips to the first block that may have a term, if that lies ahead.
    fn leap(&mut self, to: &[u8]) {
        let last_of_block = self.dictionary.first(self.block + 1);
        if last_of_block.is_some_and(|next| next <= to) {
            let block = self.dictionary.block_of(to);
            if block > self.block {
                self.enter(block);
            }
        }
    }
}

enum Nearness {
    Near,
    Far,
    /// The prefix of this many bytes is already too far.
    Dead(usize),
}

/// The edit distances between the prefixes of a term and those of a word, one row for each letter of the term.
struct Distances<'w> {
    word: &'w [char],
    letters: Vec<char>,
    rows: Vec<Vec<u8>>,
}

impl<'w> Distances<'w> {
    fn new(word: &'w [char]) -> Self {
        let first = (0..=word.len()).map(|at| at.min(9) as u8).collect();
        Self { word, letters: Vec::new(), rows: vec![first] }
    }

    fn look(&mut self, term: &str) -> Nearness {
        let mut shared = 0;
        for (at, (place, letter)) in term.char_indices().enumerate() {
            if shared == at && self.letters.get(at) == Some(&letter) {
                shared += 1;
            } else {
                self.letters.truncate(at);
                self.rows.truncate(at + 1);
                self.push(letter);
            }
            if self.rows[at + 1].iter().all(|&distance| distance > 1) {
                return Nearness::Dead(place + letter.len_utf8());
            }
        }
        let letters = term.chars().count();
        if self.rows[letters].last() == Some(&1) { Nearness::Near } else { Nearness::Far }
    }

    fn push(&mut self, letter: char) {
        let at = self.letters.len();
        let above = &self.rows[at];
        let mut row = vec![(at + 1).min(9) as u8];
        for (place, &own) in self.word.iter().enumerate() {
            let mut least = (above[place] + u8::from(own != letter)).min(above[place + 1] + 1).min(row[place] + 1);
            if at > 0 && place > 0 && own == self.letters[at - 1] && self.word[place - 1] == letter {
                least = least.min(self.rows[at - 1][place - 1] + 1);
            }
            row.push(least.min(9));
        }
        self.letters.push(letter);
        self.rows.push(row);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    fn written(terms: &BTreeSet<String>) -> (Vec<u8>, Vec<u8>) {
        let mut writer = DictionaryWriter::default();
        terms.iter().enumerate().for_each(|(at, term)| writer.push(term, at as u32 + 1, 10));
        assert_eq!(writer.terms() as usize, terms.len());
        writer.finish()
    }

    fn text(entries: Vec<Entry>) -> Vec<String> {
        entries.into_iter().map(|entry| String::from_utf8(entry.term).expect("text")).collect()
    }

    /// Returns `true` if two words are one slip apart, by the definition.
    fn is_one_slip(word: &str, other: &str) -> bool {
        strsim_distance(word, other) == 1
    }

    fn strsim_distance(a: &str, b: &str) -> usize {
        let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
        let mut table = vec![vec![0; b.len() + 1]; a.len() + 1];
        for i in 0..=a.len() {
            for j in 0..=b.len() {
                table[i][j] = match (i, j) {
                    (0, j) => j,
                    (i, 0) => i,
                    _ => {
                        let swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
                        let plain = (table[i - 1][j] + 1)
                            .min(table[i][j - 1] + 1)
                            .min(table[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]));
                        if swapped { plain.min(table[i - 2][j - 2] + 1) } else { plain }
                    }
                };
            }
        }
        table[a.len()][b.len()]
    }

    proptest! {
        #[test]
        fn terms_are_found(terms in prop::collection::btree_set("[abcé]{1,6}", 1..120), other in "[abcé]{0,6}") {
            let (blocks, index) = written(&terms);
            let dictionary = Dictionary::new(&blocks, &index);
            for (at, term) in terms.iter().enumerate() {
                let entry = dictionary.find(term).expect("it is there");
                prop_assert_eq!((entry.count as usize, entry.list), (at + 1, at * 10..at * 10 + 10));
            }
            prop_assert_eq!(dictionary.find(&other).is_some(), terms.contains(&other));
            let beginning: Vec<String> = terms.iter().filter(|term| term.starts_with(&other)).cloned().collect();
            prop_assert_eq!(text(dictionary.beginning(&other)), beginning);
            let near: Vec<String> = terms.iter().filter(|term| is_one_slip(&other, term)).cloned().collect();
            prop_assert_eq!(text(dictionary.near(&other)), near, "near to {}", other);
            let mut walk = dictionary.all();
            let mut count = 0;
            while walk.next().is_some() {
                count += 1;
            }
            prop_assert_eq!(count, terms.len());
        }

        #[test]
        fn damage_is_survived(terms in prop::collection::btree_set("[abc]{1,6}", 1..80), at: usize, byte: u8, word in "[abc]{1,6}") {
            let (mut blocks, mut index) = written(&terms);
            let all = blocks.len() + index.len();
            match at % all {
                at if at < blocks.len() => blocks[at] = byte,
                at => index[at - blocks.len()] = byte,
            }
            let dictionary = Dictionary::new(&blocks, &index);
            dictionary.find(&word);
            dictionary.beginning(&word);
            dictionary.near(&word);
        }
    }
}
