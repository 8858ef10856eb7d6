//! Several segments as one, without their texts.

use std::io::Write;

use super::fields::FieldWeights;
use super::index::KeywordIndex;
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
pub fn merge_keywords<B: AsRef<[u8]>>(parts: &[(&KeywordIndex<B>, &RowSet)], to: impl Write) -> Result<SegmentHeader> {
    let mut lengths = Vec::new();
    // The new number of each row.
    let mut numbers: Vec<Vec<u32>> = Vec::with_capacity(parts.len());
    for (index, live) in parts {
        let number = |row: u32| {
            if !live.contains(row) {
                return END;
            }
            lengths.push(index.length(row));
            lengths.len() as u32 - 1
        };
        numbers.push((0..index.rows()).map(number).collect());
    }
    let mut segment = SegmentWriter::new(to, &lengths)?;
    let mut walks: Vec<_> = parts.iter().map(|(index, _)| index.walk()).collect();
    let mut heads: Vec<_> = walks.iter_mut().map(|walk| walk.next().cloned()).collect();
    let mut positions = Vec::new();
    while let Some(term) = heads.iter().flatten().map(|entry| &entry.term).min().cloned() {
        for (part, head) in heads.iter_mut().enumerate() {
            let Some(entry) = head.as_ref().filter(|entry| entry.term == term) else { continue };
            let mut cursor = parts[part].0.cursor(entry);
            while cursor.row() != END {
                let row = numbers[part].get(cursor.row() as usize).copied().unwrap_or(END);
                if row != END {
                    cursor.positions(&mut positions);
                    let (frequency, length) = (cursor.frequency(), lengths[row as usize]);
                    segment.list.push(&Posting { row, frequency, length, positions: &positions });
                }
                cursor.next();
            }
            let before = head.take();
            *head = walks[part].next().filter(|next| before.is_none_or(|before| next.term > before.term)).cloned();
        }
        segment.end_list(&String::from_utf8_lossy(&term))?;
    }
    let languages = parts.iter().fold(Languages::default(), |all, (index, _)| all.and(index.languages()));
    let weights = parts.first().map_or_else(FieldWeights::default, |(index, _)| index.weights());
    segment.finish(&lengths, languages, weights)
}
