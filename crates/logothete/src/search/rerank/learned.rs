//! The learned reranker: measures candidates, and scores them by what was measured.

use std::collections::{BTreeSet, HashMap};

use logothete_core::Result;
use logothete_core::keyword::{PreparedQuery, Standing};
use logothete_core::query::is_question;
use logothete_core::rerank::{Facts, Measured, Question, densities, features, learned, normalised};
use logothete_core::search::Fused;

use crate::storage::{CatalogueReader, RowId, Snapshot};

/// Of a long section, so many chunks on each side of a candidate count as its section.
const MAX_BESIDE: usize = 12;

/// Smaller shares are not recorded.
const MIN_SHARE: f64 = 0.05;
/// The name of the reranker in traces.
pub(super) const LEARNED: &str = "learned";

/// What the facts of candidates are measured with.
pub(super) struct Measuring<'a> {
    pub snapshot: &'a Snapshot,
    pub catalogue: &'a dyn CatalogueReader,
    pub query: &'a PreparedQuery,
    /// The words of the question.
    pub text: &'a str,
    /// The vector of the question.
    pub vector: &'a [f32],
}

/// A candidate in its new place.
pub(super) struct Reranked {
    /// Its position before.
    pub from: usize,
    /// The probability that it is right.
    pub score: f32,
    /// How much each fact added.
    pub shares: Vec<(&'static str, f32)>,
    pub features: Vec<f32>,
}

impl Reranked {
    /// Returns the facts that moved it by a twentieth or more, to two digits.
    pub(super) fn notable_shares(&self) -> impl Iterator<Item = (String, f64)> + '_ {
        let to_two_digits = |share: f32| (f64::from(share) * 100.0).round() / 100.0;
        let shares = self.shares.iter().map(move |(fact, share)| ((*fact).to_owned(), to_two_digits(*share)));
        shares.filter(|(_, share)| share.abs() >= MIN_SHARE)
    }
}

/// What the indexes have of a row.
struct IndexedRow {
    frequencies: Vec<u32>,
    words: u32,
    vector: Vec<f32>,
    /// For candidates only.
    standing: Standing,
}

impl Measuring<'_> {
    /// Returns candidates in their new order, with what moved each if `explains`. Candidates with equal scores keep their order.
    pub(super) fn rerank(&self, candidates: &[Fused<RowId>], explains: bool) -> Result<Vec<Reranked>> {
        let rows = features(&self.facts(candidates)?, is_question(self.text));
        let scored = rows.iter().enumerate().map(|(from, row)| Reranked {
            from,
            score: learned().probability(row),
            shares: if explains { learned().shares(row, &rows) } else { Vec::new() },
            features: if explains { row.to_vec() } else { Vec::new() },
        });
        let mut order: Vec<Reranked> = scored.collect();
        order.sort_by(|a, b| b.score.total_cmp(&a.score));
        Ok(order)
    }

    /// Measures some candidates, in their order.
    fn facts(&self, candidates: &[Fused<RowId>]) -> Result<Vec<Facts>> {
        let places = self.snapshot.places(self.catalogue)?;
        let around = |candidate: &Fused<RowId>| {
            let place = places.of(candidate.key)?;
            let first = place.at.saturating_sub(MAX_BESIDE);
            Some((place, &place.rows[first..(place.at + MAX_BESIDE + 1).min(place.rows.len())]))
        };
        let around: Vec<_> = candidates.iter().map(around).collect();
        let keys: BTreeSet<RowId> = candidates.iter().map(|candidate| candidate.key).collect();
        let beside = around.iter().flatten().flat_map(|(_, rows)| rows.iter().copied());
        let rows = self.rows(&keys.iter().copied().chain(beside).collect(), &keys);
        let measured = |row: &RowId| {
            let IndexedRow { frequencies, words, vector, .. } = rows.get(row)?;
            Some(Measured { frequencies, words: *words, vector })
        };
        let question = Question::new(self.query, self.vector);
        let facts = candidates.iter().zip(&around).map(|(candidate, around)| {
            let Some(chunk) = measured(&candidate.key) else { return Facts::default() };
            let section = around.iter().flat_map(|(_, rows)| rows.iter()).filter_map(measured);
            let facts = question.measure(chunk, &section.collect::<Vec<_>>(), places.mean());
            let (section, place, chunks, entries) = around.map_or((0, 0, 1, 0.0), |(place, _)| {
                (place.section, place.at as u32, place.rows.len() as u32, place.entries)
            });
            let standing = rows.get(&candidate.key).map(|row| row.standing).unwrap_or_default();
            Facts { fused: candidate.score, section, place, section_chunks: chunks, entries, standing, ..facts }
        });
        let mut facts: Vec<Facts> = facts.collect();
        let vector = |candidate: &Fused<RowId>| rows.get(&candidate.key).map_or(&[][..], |row| &row.vector);
        let vectors: Vec<&[f32]> = candidates.iter().map(vector).collect();
        facts.iter_mut().zip(densities(&vectors)).for_each(|(facts, density)| facts.density = density);
        Ok(facts)
    }

    /// Looks some rows up in the indexes; `candidates` are those of which it counts where the words stand.
    fn rows(&self, wanted: &BTreeSet<RowId>, candidates: &BTreeSet<RowId>) -> HashMap<RowId, IndexedRow> {
        let mut found = HashMap::with_capacity(wanted.len());
        for segment in &self.snapshot.segments {
            let id = segment.entry.id;
            let of_segment = |rows: &BTreeSet<RowId>| -> Vec<u32> {
                let all = RowId { segment: id, row: 0 }..=RowId { segment: id, row: u32::MAX };
                rows.range(all).map(|row| row.row).collect()
            };
            let (rows, candidates) = (of_segment(wanted), of_segment(candidates));
            let frequencies = self.query.frequencies(&segment.keywords, &rows);
            let standings = self.query.standings(&segment.keywords, &candidates);
            for (row, frequencies) in rows.into_iter().zip(frequencies) {
                let standing = candidates.binary_search(&row).map(|at| standings[at]).unwrap_or_default();
                let vector = normalised(segment.vectors.row(row).unwrap_or_default());
                let words = segment.keywords.length(row);
                found.insert(RowId { segment: id, row }, IndexedRow { frequencies, words, vector, standing });
            }
        }
        found
    }
}
