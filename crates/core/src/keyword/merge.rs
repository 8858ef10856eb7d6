//! Merges segments without reading their texts.

use std::io::Write;

use super::fields::FieldWeights;
use super::index::{KeywordIndex, Parts};
use super::postings::{END, record};
use super::terms::Languages;
use super::writer::SegmentWriter;
use crate::error::Result;
use crate::segment::{RowSet, SegmentHeader};

/// Writes the live rows of some segments, in their order, as the body of one segment, and returns its header. A fresh segment
/// of the same rows has the same bytes, except that this one keeps languages that no live row has. Holds four bytes a row, the
/// dictionary, and one list at a time.
///
/// # Errors
/// If writing fails.
pub fn merge_keywords<B: AsRef<[u8]>>(
    parts: &[(&KeywordIndex<B>, &RowSet)],
    mut to: impl Write,
) -> Result<SegmentHeader> {
    let languages = parts.iter().fold(Languages::default(), |all, (index, _)| all.and(index.languages()));
    let weights = parts.first().map_or_else(FieldWeights::default, |(index, _)| index.weights());
    let parts: Vec<(Parts<'_>, &RowSet)> = parts.iter().map(|(index, live)| (index.parts(), *live)).collect();
    merge(&parts, &mut to, languages, weights)
}

fn merge(
    parts: &[(Parts<'_>, &RowSet)],
    to: &mut dyn Write,
    languages: Languages,
    weights: FieldWeights,
) -> Result<SegmentHeader> {
    let mut lengths = Vec::new();
    let numbers: Vec<Numbers> = parts.iter().map(|(part, live)| Numbers::new(part, live, &mut lengths)).collect();
    let mut segment = SegmentWriter::new(to, &lengths)?;
    let mut walks: Vec<_> = parts.iter().map(|(part, _)| part.dictionary.all()).collect();
    let mut open: Vec<bool> = walks.iter_mut().map(|walk| walk.next().is_some()).collect();
    let (mut term, mut moved) = (Vec::new(), Moved::default());
    loop {
        let heads = walks.iter().zip(&open).filter(|(_, open)| **open).map(|(walk, _)| &walk.entry().term);
        let Some(least) = heads.min() else { break };
        term.clone_from(least);
        for (part, (walk, open)) in walks.iter_mut().zip(&mut open).enumerate() {
            if !*open || walk.entry().term != term {
                continue;
            }
            let mut cursor = parts[part].0.cursor(walk.entry());
            while cursor.row() != END {
                let (old, frequencies, positions) = cursor.block_parts();
                match &numbers[part] {
                    Numbers::From(first) => {
                        moved.clear();
                        moved.rows.extend(old.iter().map(|row| first + row));
                        segment.list.push_all(&moved.rows, frequencies, &lengths, positions);
                    }
                    Numbers::Each(numbers) => {
                        moved.keep_live(numbers, old, frequencies, positions);
                        segment.list.push_all(&moved.rows, &moved.frequencies, &lengths, &moved.positions);
                    }
                }
                cursor.next_block();
            }
            // Terms ascend. If one does not, the rest is damaged.
            *open = walk.next().is_some_and(|next| next.term > term);
        }
        segment.end_list(&String::from_utf8_lossy(&term))?;
    }
    segment.finish(&lengths, languages, weights)
}

/// The new numbers of the rows of a part.
enum Numbers {
    /// All rows are live and are numbered from this number on.
    From(u32),
    /// The number of each row; [`END`] for a dead row.
    Each(Vec<u32>),
}

impl Numbers {
    /// Numbers the live rows of a part, and appends their lengths to those of earlier rows.
    fn new(part: &Parts<'_>, live: &RowSet, lengths: &mut Vec<u32>) -> Self {
        if live.len() == part.rows {
            let first = lengths.len() as u32;
            lengths.extend((0..part.rows).map(|row| part.length(row)));
            return Self::From(first);
        }
        let mut number = |row: u32| {
            if !live.contains(row) {
                return END;
            }
            lengths.push(part.length(row));
            lengths.len() as u32 - 1
        };
        Self::Each((0..part.rows).map(&mut number).collect())
    }
}

/// The rows of a block with their new numbers.
#[derive(Default)]
struct Moved {
    rows: Vec<u32>,
    frequencies: Vec<u32>,
    positions: Vec<u8>,
}

impl Moved {
    fn clear(&mut self) {
        self.rows.clear();
        self.frequencies.clear();
        self.positions.clear();
    }

    /// Copies the live rows. Damaged positions are left out.
    fn keep_live(&mut self, numbers: &[u32], rows: &[u32], frequencies: &[u32], mut positions: &[u8]) {
        self.clear();
        for (&row, &frequency) in rows.iter().zip(frequencies) {
            let own = record(positions).unwrap_or(positions.len());
            let number = numbers.get(row as usize).copied().unwrap_or(END);
            if number != END {
                self.rows.push(number);
                self.frequencies.push(frequency);
                self.positions.extend_from_slice(&positions[..own]);
            }
            positions = &positions[own..];
        }
    }
}
