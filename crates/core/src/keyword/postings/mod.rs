//! The postings of a term: its rows, with frequencies and positions.
//!
//! Rows are in blocks of 128, packed as differences. Each block has its last row, the ends of its parts, and its bounds in a
//! table, so that a search can skip blocks.

mod bounds;
mod read;
mod write;

pub(super) use bounds::Pair;
pub(super) use read::{Cursor, record};
pub(super) use write::ListWriter;

use bounds::{BLOCK_PAIRS, LIST_PAIRS};

/// The number of rows in a block.
pub(super) const BLOCK: usize = 128;
/// The number of bytes of a block in the table: its last row, the ends of its rows and of its positions, its pairs.
const ENTRY: usize = 12 + BLOCK_PAIRS * 8;
/// The row of a cursor that is past the last row.
pub(super) const END: u32 = u32::MAX;

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::segment::write_varint;

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
            writer.push(*row, *frequency, *length, |to| to.extend(bytes));
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
                // The pairs bound a posting if no score of it exceeds the best score of the pairs.
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
