//! How often given rows have the words of a query, and where.

use super::bm25::Scorer;
use super::index::KeywordIndex;
use super::search::PreparedQuery;

/// Where a row has the words of a query.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Standing {
    /// The share of the words, by weight, that it has; each is worth less the later it first occurs, half after 16 words.
    pub early: f32,
    /// The share of the pairs of neighbouring words, by weight, that it has in this order and at most three words apart.
    pub adjacent: f32,
}

/// The position at which a word is worth half.
const HALF: f32 = 16.0;
/// Words of a pair may be so far apart.
const MAX_APART: u32 = 3;

impl PreparedQuery {
    /// Returns the weight of each word of the query: how rare it is, as a logarithm. A word that no row has is left out.
    pub fn weights(&self) -> Vec<f32> {
        self.words().iter().map(|word| word.weight).collect()
    }

    /// Returns how often each of some rows has each word, a list a row. The rows must be in ascending order; the terms of a word
    /// count together.
    ///
    /// Costs a step forward in the list of each term for each row.
    pub fn frequencies<B: AsRef<[u8]>>(&self, index: &KeywordIndex<B>, rows: &[u32]) -> Vec<Vec<u32>> {
        let mut counts = vec![vec![0_u32; self.words().len()]; rows.len()];
        self.each(index, rows, |word, at, cursor| {
            counts[at][word] = counts[at][word].saturating_add(cursor.frequency());
        });
        counts
    }

    /// Returns where each of some rows has the words. The rows must be in ascending order.
    ///
    /// Costs reading the positions of each term in each row.
    pub fn standings<B: AsRef<[u8]>>(&self, index: &KeywordIndex<B>, rows: &[u32]) -> Vec<Standing> {
        let words = self.words();
        let mut positions: Vec<Vec<Vec<u32>>> = vec![vec![Vec::new(); words.len()]; rows.len()];
        let mut some = Vec::new();
        self.each(index, rows, |word, at, cursor| {
            cursor.positions(&mut some);
            positions[at][word].extend_from_slice(&some);
        });
        let weights = self.weights();
        let total: f32 = weights.iter().sum();
        let pairs: Vec<f32> = weights.windows(2).map(|pair| pair[0].min(pair[1])).collect();
        let all_pairs: f32 = pairs.iter().sum();
        let share = |sum: f32, total: f32| if total > 0.0 { sum / total } else { 0.0 };
        let standing = |of_row: Vec<Vec<u32>>| {
            let first = of_row.iter().map(|places| places.iter().min());
            let early = first.zip(&weights).filter_map(|(first, weight)| Some(weight / (1.0 + *first? as f32 / HALF)));
            let near = |pair: &[Vec<u32>]| {
                pair[0].iter().any(|&first| pair[1].iter().any(|&second| second > first && second - first <= MAX_APART))
            };
            let adjacent = of_row.windows(2).zip(&pairs).filter(|(pair, _)| near(pair)).map(|(_, weight)| weight);
            Standing { early: share(early.sum(), total), adjacent: share(adjacent.sum(), all_pairs) }
        };
        positions.into_iter().map(standing).collect()
    }

    /// Returns the score by BM25 of a text that has each word so often, where the mean text has `mean` words.
    pub fn score(&self, frequencies: &[u32], length: u32, mean: f32) -> f32 {
        let each = self.words().iter().zip(frequencies).filter(|(_, count)| **count > 0);
        each.map(|(word, count)| Scorer::new(word.weight, mean).score(*count, length)).sum()
    }

    /// Calls `visit` with the number of a word, the number of a row, and a cursor that stands there, for each term of the word that the row has.
    fn each<B: AsRef<[u8]>>(
        &self,
        index: &KeywordIndex<B>,
        rows: &[u32],
        mut visit: impl FnMut(usize, usize, &mut super::postings::Cursor<'_>),
    ) {
        for (number, word) in self.words().iter().enumerate() {
            for entry in word.terms.iter().filter_map(|(term, _)| index.dictionary().find(term)) {
                let mut cursor = index.cursor(&entry);
                for (at, &row) in rows.iter().enumerate() {
                    cursor.advance(row);
                    if cursor.row() == row {
                        visit(number, at, &mut cursor);
                    }
                }
            }
        }
    }
}
