//! Writes lists.

use super::bounds::{Pair, Shortest, bound};
use super::read::record;
use super::{BLOCK, BLOCK_PAIRS, LIST_PAIRS};
use crate::keyword::bit_packing::{pack, width};
use crate::segment::write_varint;

/// Writes lists one after another.
pub(in crate::keyword) struct ListWriter {
    /// The differences less one, and the frequencies less one, of the current block.
    distances: [u32; BLOCK],
    frequencies: [u32; BLOCK],
    held: usize,
    pairs: Shortest,
    block_pairs: Vec<Pair>,
    list_pairs: Vec<Pair>,
    /// The lowest row that may follow.
    next: u32,
    count: u32,
    table: Vec<u8>,
    data: Vec<u8>,
    positions: Vec<u8>,
}

impl Default for ListWriter {
    fn default() -> Self {
        Self {
            distances: [0; BLOCK],
            frequencies: [0; BLOCK],
            held: 0,
            pairs: Shortest::default(),
            block_pairs: Vec::new(),
            list_pairs: Vec::new(),
            next: 0,
            count: 0,
            table: Vec::new(),
            data: Vec::new(),
            positions: Vec::new(),
        }
    }
}

impl ListWriter {
    /// Adds a row with the frequency of the term and the length of the row, both weighted by field. Rows must ascend.
    /// `positions` writes the number of positions and the difference of each from the one before, in groups of seven bits.
    #[inline]
    pub(in crate::keyword) fn push(
        &mut self,
        row: u32,
        frequency: u32,
        length: u32,
        positions: impl FnOnce(&mut Vec<u8>),
    ) {
        self.distances[self.held] = row - self.next;
        self.frequencies[self.held] = frequency.max(1) - 1;
        self.pairs.add(Pair { frequency, length });
        positions(&mut self.positions);
        self.next = row + 1;
        self.held += 1;
        if self.held == BLOCK {
            self.end_block();
        }
    }

    /// Adds rows with their frequencies less one, and the positions of all of them in order. Their lengths are taken from those
    /// of all rows.
    pub(in crate::keyword) fn push_all(
        &mut self,
        mut rows: &[u32],
        mut frequencies: &[u32],
        lengths: &[u32],
        mut positions: &[u8],
    ) {
        while !rows.is_empty() {
            let count = (BLOCK - self.held).min(rows.len());
            let room = self.held..self.held + count;
            for (distance, &row) in self.distances[room.clone()].iter_mut().zip(rows) {
                *distance = row - self.next;
                self.next = row + 1;
            }
            self.frequencies[room].copy_from_slice(&frequencies[..count]);
            for (&row, &frequency) in rows.iter().zip(frequencies).take(count) {
                self.pairs.add(Pair { frequency: frequency.saturating_add(1), length: lengths[row as usize] });
            }
            let whole = count == rows.len();
            let bytes = if whole { positions.len() } else { records(positions, count) };
            self.positions.extend_from_slice(&positions[..bytes]);
            (rows, frequencies, positions) = (&rows[count..], &frequencies[count..], &positions[bytes..]);
            self.held += count;
            if self.held == BLOCK {
                self.end_block();
            }
        }
    }

    fn end_block(&mut self) {
        let (distances, frequencies) = (&self.distances[..self.held], &self.frequencies[..self.held]);
        let widths = [width(distances), width(frequencies)];
        self.data.extend(widths.map(|width| width as u8));
        pack(distances, widths[0], &mut self.data);
        pack(frequencies, widths[1], &mut self.data);
        self.pairs.drain_to(&mut self.block_pairs);
        bound(&mut self.block_pairs, BLOCK_PAIRS);
        for number in [self.next - 1, self.data.len() as u32, self.positions.len() as u32] {
            self.table.extend(number.to_le_bytes());
        }
        let nothing = Pair::default();
        for pair in self.block_pairs.iter().copied().chain(std::iter::repeat(nothing)).take(BLOCK_PAIRS) {
            self.table.extend(pair.frequency.to_le_bytes());
            self.table.extend(pair.length.to_le_bytes());
        }
        self.list_pairs.append(&mut self.block_pairs);
        self.count += self.held as u32;
        self.held = 0;
    }

    /// Ends the list and writes it. Returns the number of its rows.
    pub(in crate::keyword) fn finish(&mut self, to: &mut Vec<u8>) -> u32 {
        if self.held > 0 {
            self.end_block();
        }
        bound(&mut self.list_pairs, LIST_PAIRS);
        to.push(self.list_pairs.len() as u8);
        for pair in self.list_pairs.drain(..) {
            write_varint(pair.frequency, to);
            write_varint(pair.length, to);
        }
        // A single block needs no table.
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

/// Returns the number of bytes that the positions of `count` rows take; all bytes if they are damaged.
fn records(positions: &[u8], count: usize) -> usize {
    let mut bytes = 0;
    for _ in 0..count {
        let Some(length) = positions.get(bytes..).and_then(record) else { return positions.len() };
        bytes += length;
    }
    bytes
}
