//! Several segments as one, without their texts.

use std::io::Write;

use super::fields::FieldWeights;
use super::index::{KeywordIndex, Parts};
use super::list::{END, Posting};
use super::terms::Languages;
use super::writer::SegmentWriter;
use crate::error::Result;
use crate::segment::{RowSet, SegmentHeader};

/// Writes the live rows of some segments, one segment's behind the other's, as the body of one; returns what stands before it.
/// A fresh segment of the same rows has the same bytes, but that languages are remembered that no live row is in. Holds four bytes a row, the dictionary, and one list at a time.
///
/// # Errors
/// When writing fails.
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
    // The new number of each row.
    let mut numbers: Vec<Vec<u32>> = Vec::with_capacity(parts.len());
    for (part, live) in parts {
        let number = |row: u32| {
            if !live.contains(row) {
                return END;
            }
            lengths.push(part.length(row));
            lengths.len() as u32 - 1
        };
        numbers.push((0..part.rows).map(number).collect());
    }
    let mut segment = SegmentWriter::new(to, &lengths)?;
    let mut walks: Vec<_> = parts.iter().map(|(part, _)| part.dictionary.all()).collect();
    let mut open: Vec<bool> = walks.iter_mut().map(|walk| walk.next().is_some()).collect();
    let mut term = Vec::new();
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
                let row = numbers[part].get(cursor.row() as usize).copied().unwrap_or(END);
                if row != END {
                    let (frequency, length) = (cursor.frequency(), lengths[row as usize]);
                    segment.list.push(&Posting { row, frequency, length, positions: cursor.position_bytes() });
                }
                cursor.next();
            }
            // Terms ascend; where they do not, the rest is damaged.
            *open = walk.next().is_some_and(|next| next.term > term);
        }
        segment.end_list(&String::from_utf8_lossy(&term))?;
    }
    segment.finish(&lengths, languages, weights)
}
