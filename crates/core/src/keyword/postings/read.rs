//! Reads lists in place.

use super::bounds::Pair;
use super::{BLOCK, BLOCK_PAIRS, END, ENTRY};
use crate::keyword::bit_packing::{packed_length, unpack};
use crate::segment::{read_varint, u32_at};

/// A cursor in a list. It only moves forward.
pub(in crate::keyword) struct Cursor<'a> {
    pairs: Vec<Pair>,
    table: &'a [u8],
    data: &'a [u8],
    all_positions: &'a [u8],
    count: u32,
    /// The number of rows in the segment; higher rows are damage.
    most: u32,
    /// The block that was read last.
    block: usize,
    rows: [u32; BLOCK],
    frequencies: [u32; BLOCK],
    /// Whether the frequencies of this block were read.
    has_frequencies: bool,
    held: usize,
    at: usize,
    /// The positions of the row that was asked for last: the block, the place in it, the byte.
    positions_at: (usize, usize, usize),
}

impl<'a> Cursor<'a> {
    /// Opens a list of `count` rows at its first row. A damaged list ends early.
    pub(in crate::keyword) fn open(mut bytes: &'a [u8], count: u32, most: u32) -> Self {
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

    /// Returns the number of rows.
    pub(in crate::keyword) fn count(&self) -> u32 {
        self.count
    }

    /// Returns the bounds of the whole list.
    pub(in crate::keyword) fn pairs(&self) -> &[Pair] {
        &self.pairs
    }

    fn blocks(&self) -> usize {
        (self.count as usize).div_ceil(BLOCK)
    }

    /// Returns the current block.
    pub(in crate::keyword) fn block(&self) -> usize {
        self.block
    }

    /// Returns the last row of a block.
    pub(in crate::keyword) fn last_of(&self, block: usize) -> u32 {
        if self.table.is_empty() { END } else { u32_at(self.table, block * ENTRY).unwrap_or(END) }
    }

    /// Returns the bounds of a block.
    pub(in crate::keyword) fn pairs_of(&self, block: usize) -> impl Iterator<Item = Pair> + '_ {
        let table = self.table;
        let own = (0..BLOCK_PAIRS).map_while(move |at| {
            let at = block * ENTRY + 12 + at * 8;
            Some(Pair { frequency: u32_at(table, at)?, length: u32_at(table, at + 4)? })
        });
        let of_list = if table.is_empty() { self.pairs.as_slice() } else { &[] };
        own.chain(of_list.iter().copied())
    }

    /// Returns the range of the part of a block that ends at `field` of the table.
    fn part(&self, block: usize, field: usize, whole: usize) -> Option<(usize, usize)> {
        if self.table.is_empty() {
            return (block == 0).then_some((0, whole));
        }
        let end = |block: usize| u32_at(self.table, block * ENTRY + field).map(|end| end as usize);
        Some((block.checked_sub(1).map_or(Some(0), end)?, end(block)?))
    }

    /// Reads a block and moves to its first row.
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

    /// Returns the current row; [`END`] after the last.
    #[inline]
    pub(in crate::keyword) fn row(&self) -> u32 {
        if self.at < self.held { self.rows[self.at] } else { END }
    }

    /// Returns the frequency of the term in the current row.
    pub(in crate::keyword) fn frequency(&mut self) -> u32 {
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

    /// Moves to the next row.
    #[inline]
    pub(in crate::keyword) fn next(&mut self) {
        self.at += 1;
        if self.at >= self.held && self.block + 1 < self.blocks() {
            self.read(self.block + 1);
        }
    }

    /// Returns the first block, from the current one on, that may have `row` or a later row. Reads no blocks.
    pub(in crate::keyword) fn block_for(&self, row: u32) -> usize {
        let (blocks, mut low) = (self.blocks(), self.block);
        if low >= blocks || self.last_of(low) >= row {
            return low;
        }
        // Doubles the steps, then halves them (Bentley and Yao, 1976).
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

    /// Moves to the first row that is at least `row`. Never moves back.
    pub(in crate::keyword) fn advance(&mut self, row: u32) {
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

    /// Returns the rows of the current block, their frequencies less one, and the written positions of all of them.
    pub(in crate::keyword) fn block_parts(&mut self) -> (&[u32], &[u32], &'a [u8]) {
        self.frequency();
        let positions = self.part(self.block, 8, self.all_positions.len());
        let positions = positions.and_then(|(start, end)| self.all_positions.get(start..end)).unwrap_or_default();
        (&self.rows[..self.held], &self.frequencies[..self.held], positions)
    }

    /// Moves to the first row of the next block.
    pub(in crate::keyword) fn next_block(&mut self) {
        self.at = self.held;
        if self.block + 1 < self.blocks() {
            self.read(self.block + 1);
        }
    }

    /// Collects the positions of the term in the current row, ascending. Skips the rows of the block since the last call, one
    /// by one.
    pub(in crate::keyword) fn positions(&mut self, to: &mut Vec<u32>) {
        to.clear();
        let mut bytes = self.find_positions().unwrap_or_default();
        let mut before = 0_u32;
        for _ in 0..read_varint(&mut bytes).unwrap_or(0) {
            let Some(position) = read_varint(&mut bytes).and_then(|distance| before.checked_add(distance)) else {
                break;
            };
            to.push(position);
            before = position;
        }
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

/// Returns the number of bytes that the positions of the first row take.
#[inline]
pub(in crate::keyword) fn record(mut bytes: &[u8]) -> Option<usize> {
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
