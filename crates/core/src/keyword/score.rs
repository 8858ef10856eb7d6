//! BM25 (Robertson and Walker, 1994) over any number of segments, as if they were one.

use std::collections::HashMap;

use super::KeywordIndex;
use crate::search::Hit;
use crate::segment::RowSet;
use crate::text::{fold, is_function_word, words};

/// How quickly a repeated term stops counting.
const SATURATION: f32 = 1.2;
/// How much a long row is held against it.
const LENGTH_WEIGHT: f32 = 0.75;

/// What the scores of a whole corpus rest on. Counts live rows only, so that an incremental build and a fresh one give
/// the same scores.
#[derive(Clone, Debug, Default)]
pub struct Statistics {
    /// How many rows there are.
    pub rows: u64,
    /// Their lengths together, in terms.
    pub total_length: u64,
    /// In how many rows each of the query's terms stands.
    pub frequency: HashMap<String, u64>,
}

impl Statistics {
    /// Counts the terms of a query over some segments and their live rows.
    pub fn gather<B: AsRef<[u8]>>(segments: &[(&KeywordIndex<B>, &RowSet)], terms: &[String]) -> Self {
        let mut statistics = Self::default();
        for (index, live) in segments {
            for row in (0..index.rows()).filter(|&row| live.contains(row)) {
                statistics.rows += 1;
                statistics.total_length += u64::from(index.length(row));
            }
        }
        for term in terms {
            let count = segments
                .iter()
                .map(|(index, live)| index.postings(term).filter(|posting| live.contains(posting.row)).count() as u64)
                .sum();
            statistics.frequency.insert(term.clone(), count);
        }
        statistics
    }

    /// How much a term tells: the logarithm of how rare it is. Highest for a term that stands nowhere.
    pub fn weight(&self, term: &str) -> f32 {
        let rows = self.rows as f32;
        let frequency = self.frequency.get(term).copied().unwrap_or(0) as f32;
        (1.0 + (rows - frequency + 0.5).max(0.0) / (frequency + 0.5)).ln()
    }
}

/// The terms of a query, each once, function words left out unless nothing else is there.
pub fn query_terms(query: &str) -> Vec<String> {
    let mut all = Vec::new();
    let mut telling = Vec::new();
    for word in words(query) {
        let list = if is_function_word(&fold(word.text)) { &mut all } else { &mut telling };
        if !list.contains(&word.term) {
            list.push(word.term);
        }
    }
    if telling.is_empty() { all } else { telling }
}

/// The `count` best live rows of one segment, best first, ties by row. Every posting of every term is read.
pub fn search<B: AsRef<[u8]>>(
    index: &KeywordIndex<B>,
    live: &RowSet,
    terms: &[String],
    statistics: &Statistics,
    count: usize,
) -> Vec<Hit> {
    let mean = (statistics.total_length as f32 / statistics.rows.max(1) as f32).max(1.0);
    let mut scores: HashMap<u32, f32> = HashMap::new();
    for term in terms {
        let weight = statistics.weight(term);
        for posting in index.postings(term).filter(|posting| live.contains(posting.row)) {
            let count = posting.count as f32;
            let length = index.length(posting.row) as f32 / mean;
            let damped = count / (count + SATURATION * (1.0 - LENGTH_WEIGHT + LENGTH_WEIGHT * length));
            *scores.entry(posting.row).or_default() += weight * (SATURATION + 1.0) * damped;
        }
    }
    let mut hits: Vec<Hit> = scores.into_iter().map(|(row, score)| Hit { score, row }).collect();
    hits.sort_unstable_by(|a, b| b.cmp(a));
    hits.truncate(count);
    hits
}
