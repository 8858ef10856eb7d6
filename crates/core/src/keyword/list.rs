//! The postings of a term: in which rows it stands, how often, and where.
//!
//! Rows are in blocks of 128, packed by their distances; with each block go its last row, where its parts end, and its bounds,
//! so that a search passes over blocks that cannot matter. Bounds are pairs of a frequency and a length, not scores: whatever
//! the mean length comes to be, the best score of a block is at most the best score of its pairs.

use super::bits::{pack, packed_length, unpack, width};
use crate::segment::{read_varint, u32_at, write_varint};

/// How many rows a block has.
pub(super) const BLOCK: usize = 128;
/// How many pairs bound a block.
const BLOCK_PAIRS: usize = 3;
/// How many pairs bound a list.
const LIST_PAIRS: usize = 6;
/// The bytes of a block in the table: its last row, the ends of its rows and of its positions, its pairs.
const ENTRY: usize = 12 + BLOCK_PAIRS * 8;
/// Behind the last row.
pub(super) const END: u32 = u32::MAX;

/// How often a term stands in a row, and how long the row is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Pair {
    pub frequency: u32,
    pub length: u32,
}

/// The pairs that no other beats in both, and then fewer: two that are near become one that beats both.
fn bounds(mut pairs: Vec<Pair>, most: usize) -> Vec<Pair> {
    pairs.sort_unstable_by(|a, b| a.length.cmp(&b.length).then(b.frequency.cmp(&a.frequency)));
    let mut best: Vec<Pair> = Vec::new();
    for pair in pairs {
        if best.last().is_none_or(|last| pair.frequency > last.frequency) {
            best.push(pair);
        }
    }
    while best.len() > most {
        let loss = |pair: &[Pair]| {
            let of = |a: u32, b: u32| f64::from(a.max(1)) / f64::from(b.max(1));
            of(pair[1].frequency, pair[0].frequency) * of(pair[1].length, pair[0].length)
        };
        let at = best.windows(2).enumerate().min_by(|a, b| loss(a.1).total_cmp(&loss(b.1))).map_or(0, |(at, _)| at);
        best[at].frequency = best[at + 1].frequency;
        best.remove(at + 1);
    }
    best
}

/// The shortest row of each frequency that was met: no other of that frequency can be better.
#[derive(Default)]
struct Shortest {
    /// Of the low frequencies, by frequency; 0 where there is none.
    low: [u32; 16],
    high: Vec<Pair>,
}

impl Shortest {
    #[inline]
    fn add(&mut self, pair: Pair) {
        match self.low.get_mut(pair.frequency as usize) {
            // A length of nothing is counted as one: that is a bound too.
            Some(shortest) if *shortest == 0 || pair.length < *shortest => *shortest = pair.length.max(1),
            Some(_) => {}
            None => self.high.push(pair),
        }
    }

    /// The pairs, and begins anew.
    fn take(&mut self) -> Vec<Pair> {
        let low = std::mem::take(&mut self.low).into_iter().zip(0..);
        let met = low
            .filter(|(length, _)| *length > 0)
            .map(|(length, frequency)| Pair { frequency, length: length - u32::from(length == 1) });
        let mut all: Vec<Pair> = met.collect();
        all.append(&mut self.high);
        all
    }
}

/// A row of a list that is written.
pub(super) struct Posting<'a> {
    pub row: u32,
    /// How often the term stands there, weighted by field.
    pub frequency: u32,
    /// The length of the row, weighted by field.
    pub length: u32,
    /// How many positions there are, and the distance of each from the one before, in groups of seven bits.
    pub positions: &'a [u8],
}

/// Writes lists.
#[derive(Default)]
pub(super) struct ListWriter {
    /// The distances, less one, and the frequencies, less one, of the block so far.
    distances: Vec<u32>,
    frequencies: Vec<u32>,
    pairs: Shortest,
    all_pairs: Vec<Pair>,
    /// The row that comes first after the last.
    next: u32,
    count: u32,
    table: Vec<u8>,
    data: Vec<u8>,
    positions: Vec<u8>,
}

impl ListWriter {
    /// Adds a row; rows come in ascending order.
    pub(super) fn push(&mut self, posting: &Posting<'_>) {
        self.distances.push(posting.row - self.next);
        self.frequencies.push(posting.frequency.max(1) - 1);
        self.pairs.add(Pair { frequency: posting.frequency, length: posting.length });
        self.next = posting.row + 1;
        self.count += 1;
        match posting.positions {
            // Most words stand once in a row.
            &[count, first] => self.positions.extend([count, first]),
            &[count, first, second] => self.positions.extend([count, first, second]),
            all => self.positions.extend_from_slice(all),
        }
        if self.distances.len() == BLOCK {
            self.end_block();
        }
    }

    fn end_block(&mut self) {
        let widths = [width(&self.distances), width(&self.frequencies)];
        self.data.extend(widths.map(|width| width as u8));
        pack(&self.distances, widths[0], &mut self.data);
        pack(&self.frequencies, widths[1], &mut self.data);
        let pairs = bounds(self.pairs.take(), BLOCK_PAIRS);
        for number in [self.next - 1, self.data.len() as u32, self.positions.len() as u32] {
            self.table.extend(number.to_le_bytes());
        }
        let nothing = Pair { frequency: 0, length: 0 };
        for pair in pairs.iter().copied().chain(std::iter::repeat(nothing)).take(BLOCK_PAIRS) {
            self.table.extend(pair.frequency.to_le_bytes());
            self.table.extend(pair.length.to_le_bytes());
        }
        self.all_pairs.extend(pairs);
        self.distances.clear();
        self.frequencies.clear();
    }

    /// Ends the list and writes it; returns how many rows it has.
    pub(super) fn finish(&mut self, to: &mut Vec<u8>) -> u32 {
        if !self.distances.is_empty() {
            self.end_block();
        }
        let pairs = bounds(std::mem::take(&mut self.all_pairs), LIST_PAIRS);
        to.push(pairs.len() as u8);
        for pair in pairs {
            write_varint(pair.frequency, to);
            write_varint(pair.length, to);
        }
        // One block needs no table.
        if self.count as usize > BLOCK {
            to.extend_from_slice(&self.table);
        }
        write_varint(self.data.len() as u32, to);
        to.extend_from_slice(&self.data);
        to.extend_from_slice(&self.positions);
        let count = self.count;
        self.table.clear();
        self.data.clear();
        self.positions.clear();
        (self.next, self.count) = (0, 0);
        count
    }
}

/// A place in a list, which moves forward.
pub(super) struct Cursor<'a> {
    pairs: Vec<Pair>,
    table: &'a [u8],
    data: &'a [u8],
    all_positions: &'a [u8],
    count: u32,
    /// Rows from here on are not there.
    most: u32,
    /// The block that was read.
    block: usize,
    rows: [u32; BLOCK],
    frequencies: [u32; BLOCK],
    /// Whether the frequencies of the block were read.
    has_frequencies: bool,
    held: usize,
    at: usize,
    /// Where the row that was asked for last has its positions: the block, the place in it, the byte.
    positions_at: (usize, usize, usize),
}

impl<'a> Cursor<'a> {
    /// Opens a list of so many rows and stands on its first. What is damaged ends early.
    pub(super) fn open(mut bytes: &'a [u8], count: u32, most: u32) -> Self {
        let mut cursor = Self {
            pairs: Vec::new(),
            table: &[],
            data: &[],
            all_positions: &[],
            count: 0,
            most,
            block: 0,
            rows: [END; BLOCK],
            frequencies: [0; BLOCK],
            has_frequencies: false,
            held: 0,
            at: 0,
            positions_at: (0, 0, 0),
        };
        let Some((&pairs, rest)) = bytes.split_first() else { return cursor };
        bytes = rest;
        for _ in 0..pairs {
            let (Some(frequency), Some(length)) = (read_varint(&mut bytes), read_varint(&mut bytes)) else {
                return cursor;
            };
            cursor.pairs.push(Pair { frequency, length });
        }
        if count as usize > BLOCK {
            let Some((table, rest)) = bytes.split_at_checked((count as usize).div_ceil(BLOCK) * ENTRY) else {
                return cursor;
            };
            (cursor.table, bytes) = (table, rest);
        }
        let Some(length) = read_varint(&mut bytes) else { return cursor };
        let Some((data, positions)) = bytes.split_at_checked(length as usize) else { return cursor };
        (cursor.data, cursor.all_positions, cursor.count) = (data, positions, count);
        cursor.read(0);
        cursor
    }

    /// How many rows it has.
    pub(super) fn count(&self) -> u32 {
        self.count
    }

    /// What bounds the whole list.
    pub(super) fn pairs(&self) -> &[Pair] {
        &self.pairs
    }

    fn blocks(&self) -> usize {
        (self.count as usize).div_ceil(BLOCK)
    }

    /// The block it stands in.
    pub(super) fn block(&self) -> usize {
        self.block
    }

    /// The last row of a block.
    pub(super) fn last_of(&self, block: usize) -> u32 {
        if self.table.is_empty() { END } else { u32_at(self.table, block * ENTRY).unwrap_or(END) }
    }

    /// What bounds a block.
    pub(super) fn pairs_of(&self, block: usize) -> impl Iterator<Item = Pair> + '_ {
        let table = self.table;
        let own = (0..BLOCK_PAIRS).map_while(move |at| {
            let at = block * ENTRY + 12 + at * 8;
            Some(Pair { frequency: u32_at(table, at)?, length: u32_at(table, at + 4)? })
        });
        let of_list = if table.is_empty() { self.pairs.as_slice() } else { &[] };
        own.chain(of_list.iter().copied())
    }

    /// Where a block's part that ends at `field` of the table begins and ends.
    fn part(&self, block: usize, field: usize, whole: usize) -> Option<(usize, usize)> {
        if self.table.is_empty() {
            return (block == 0).then_some((0, whole));
        }
        let end = |block: usize| u32_at(self.table, block * ENTRY + field).map(|end| end as usize);
        Some((block.checked_sub(1).map_or(Some(0), end)?, end(block)?))
    }

    /// Reads a block and stands on its first row.
    fn read(&mut self, block: usize) {
        self.block = block;
        (self.held, self.at, self.has_frequencies) = (0, 0, false);
        if self.try_read(block).is_none() {
            self.held = 0;
            self.count = self.count.min((block * BLOCK) as u32);
        }
    }

    fn try_read(&mut self, block: usize) -> Option<()> {
        let held = (self.count as usize).checked_sub(block * BLOCK)?.min(BLOCK);
        let (start, end) = self.part(block, 4, self.data.len())?;
        let data = self.data.get(start..end)?;
        let (&[distance_width, _], packed) = data.split_first_chunk::<2>()?;
        unpack(packed, u32::from(distance_width), &mut self.rows[..held])?;
        let mut next = match block.checked_sub(1) {
            Some(before) => self.last_of(before).checked_add(1)?,
            None => 0,
        };
        for row in &mut self.rows[..held] {
            let here = next.checked_add(*row)?;
            if here >= self.most {
                return None;
            }
            (*row, next) = (here, here + 1);
        }
        self.held = held;
        Some(())
    }

    /// The row it stands on; [`END`] behind the last.
    #[inline]
    pub(super) fn row(&self) -> u32 {
        if self.at < self.held { self.rows[self.at] } else { END }
    }

    /// How often the term stands in the row.
    pub(super) fn frequency(&mut self) -> u32 {
        if !self.has_frequencies {
            self.has_frequencies = true;
            if self.read_frequencies().is_none() {
                self.frequencies = [0; BLOCK];
            }
        }
        self.frequencies[self.at.min(BLOCK - 1)].saturating_add(1)
    }

    fn read_frequencies(&mut self) -> Option<()> {
        let (start, end) = self.part(self.block, 4, self.data.len())?;
        let (&[distance_width, width], packed) = self.data.get(start..end)?.split_first_chunk::<2>()?;
        let packed = packed.get(packed_length(self.held, u32::from(distance_width))..)?;
        unpack(packed, u32::from(width), &mut self.frequencies[..self.held])
    }

    /// Goes to the next row.
    #[inline]
    pub(super) fn next(&mut self) {
        self.at += 1;
        if self.at >= self.held && self.block + 1 < self.blocks() {
            self.read(self.block + 1);
        }
    }

    /// The first block, from the one it stands in, that may hold a row or one behind it; finds it without reading blocks.
    pub(super) fn block_for(&self, row: u32) -> usize {
        let (blocks, mut low) = (self.blocks(), self.block);
        if low >= blocks || self.last_of(low) >= row {
            return low;
        }
        // Wider and wider steps, then by halves (Bentley and Yao, 1976).
        let mut step = 1;
        while low + step < blocks && self.last_of(low + step) < row {
            low += step;
            step *= 2;
        }
        let mut high = (low + step).min(blocks);
        while low + 1 < high {
            let middle = low + (high - low) / 2;
            if self.last_of(middle) < row { low = middle } else { high = middle }
        }
        high
    }

    /// Goes to the first row that is no less than another. Never goes back.
    pub(super) fn advance(&mut self, row: u32) {
        if self.row() >= row {
            return;
        }
        let block = self.block_for(row);
        if block >= self.blocks() {
            (self.block, self.at) = (block, self.held);
            self.held = 0;
            return;
        }
        if block != self.block {
            self.read(block);
        }
        let rest = &self.rows[self.at.min(self.held)..self.held];
        self.at += if rest.first().is_some_and(|&first| first >= row) {
            0
        } else {
            rest.partition_point(|&other| other < row)
        };
        if self.at >= self.held && self.block + 1 < self.blocks() {
            self.read(self.block + 1);
        }
    }

    /// Where the term stands in the row, ascending. Costs a step for each row of the block before it that was not asked for.
    pub(super) fn positions(&mut self, to: &mut Vec<u32>) {
        to.clear();
        let mut bytes = self.position_bytes();
        let mut before = 0_u32;
        for _ in 0..read_varint(&mut bytes).unwrap_or(0) {
            let Some(position) = read_varint(&mut bytes).and_then(|distance| before.checked_add(distance)) else {
                break;
            };
            to.push(position);
            before = position;
        }
    }

    /// The same, as it is written.
    pub(super) fn position_bytes(&mut self) -> &'a [u8] {
        self.find_positions().unwrap_or_default()
    }

    fn find_positions(&mut self) -> Option<&'a [u8]> {
        let (start, end) = self.part(self.block, 8, self.all_positions.len())?;
        let all = self.all_positions.get(start..end)?;
        let (block, mut at, mut byte) = self.positions_at;
        if block != self.block || at > self.at {
            (at, byte) = (0, 0);
        }
        while at < self.at {
            byte += record(all.get(byte..)?)?;
            at += 1;
        }
        self.positions_at = (self.block, at, byte);
        let rest = all.get(byte..)?;
        rest.get(..record(rest)?)
    }
}

/// How many bytes the positions of a row take that stand first.
fn record(mut bytes: &[u8]) -> Option<usize> {
    let all = bytes.len();
    let mut left = read_varint(&mut bytes)?;
    let before = all - bytes.len();
    let mut at = 0;
    while left > 0 {
        // The last byte of a number has no high bit.
        left -= u32::from(bytes.get(at)? & 0x80 == 0);
        at += 1;
    }
    Some(before + at)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    type Row = (u32, u32, u32, Vec<u32>);

    fn rows() -> impl Strategy<Value = Vec<Row>> {
        let row = (0_u32..40, 1_u32..9, 1_u32..200, prop::collection::btree_set(0_u32..500, 0..4));
        prop::collection::vec(row, 1..500).prop_map(|rows| {
            let mut next = 0;
            let each = rows.into_iter().map(|(gap, frequency, length, positions)| {
                let row = next + gap;
                next = row + 1;
                (row, frequency, length, positions.into_iter().collect())
            });
            each.collect()
        })
    }

    fn written(rows: &[Row]) -> Vec<u8> {
        let (mut writer, mut bytes) = (ListWriter::default(), Vec::new());
        for (row, frequency, length, positions) in rows {
            let mut bytes = Vec::new();
            write_varint(positions.len() as u32, &mut bytes);
            let before = std::iter::once(&0).chain(positions);
            positions.iter().zip(before).for_each(|(at, before)| write_varint(at - before, &mut bytes));
            writer.push(&Posting { row: *row, frequency: *frequency, length: *length, positions: &bytes });
        }
        assert_eq!(writer.finish(&mut bytes), rows.len() as u32);
        bytes
    }

    proptest! {
        #[test]
        fn what_was_written_is_read(rows in rows()) {
            let bytes = written(&rows);
            let mut cursor = Cursor::open(&bytes, rows.len() as u32, END);
            let mut positions = Vec::new();
            for (row, frequency, length, at) in &rows {
                prop_assert_eq!((cursor.row(), cursor.frequency()), (*row, *frequency));
                cursor.positions(&mut positions);
                prop_assert_eq!(&positions, at);
                let bounded = |pair: Pair| pair.frequency >= *frequency && pair.length <= *length;
                // A pair bounds a posting when no score of the posting is above the best of all pairs.
                let score = |pair: Pair, mean: f64| f64::from(pair.frequency) / (f64::from(pair.frequency) + 0.3 + f64::from(pair.length) / mean);
                for mean in [3.0, 50.0, 900.0] {
                    let own = score(Pair { frequency: *frequency, length: *length }, mean);
                    let of_block = cursor.pairs_of(cursor.block()).map(|pair| score(pair, mean)).fold(0.0, f64::max);
                    let of_list = cursor.pairs().iter().map(|pair| score(*pair, mean)).fold(0.0, f64::max);
                    prop_assert!(own <= of_block && of_block <= of_list);
                }
                prop_assert!(cursor.pairs().iter().any(|pair| bounded(*pair)) || !cursor.pairs().is_empty());
                cursor.next();
            }
            prop_assert_eq!(cursor.row(), END);
        }

        #[test]
        fn advancing_finds_what_stepping_finds(rows in rows(), mut targets in prop::collection::vec(0_u32..12_000, 1..20)) {
            let bytes = written(&rows);
            let mut cursor = Cursor::open(&bytes, rows.len() as u32, END);
            targets.sort_unstable();
            for target in targets {
                cursor.advance(target);
                let expected = rows.iter().find(|row| row.0 >= target);
                prop_assert_eq!(cursor.row(), expected.map_or(END, |row| row.0));
                if let Some((_, frequency, _, at)) = expected {
                    let mut positions = Vec::new();
                    cursor.positions(&mut positions);
                    prop_assert_eq!((cursor.frequency(), &positions), (*frequency, at));
                }
            }
        }

        #[test]
        fn damage_ends_a_list_early(rows in rows(), at: usize, byte: u8, count in 0_u32..900) {
            let mut bytes = written(&rows);
            let at = at % bytes.len();
            bytes[at] = byte;
            let mut cursor = Cursor::open(&bytes, count, 9_000);
            let (mut steps, mut positions) = (0, Vec::new());
            while cursor.row() != END && steps < 2_000 {
                prop_assert!(cursor.row() < 9_000);
                cursor.frequency();
                cursor.positions(&mut positions);
                if steps % 3 == 0 { cursor.advance(cursor.row() + 5) } else { cursor.next() }
                steps += 1;
            }
            prop_assert!(steps < 2_000);
        }
    }
}
