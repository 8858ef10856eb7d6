//! Follows a passage that the user expects through the steps of a search.

use std::collections::BTreeMap;

use logothete_core::search::{Filter, Fused, Ranking};
use serde::Serialize;

use crate::storage::{RowId, Scope, Snapshot};

/// What became of the passages that fit a filter, by the best of them at each step. Ranks are counted from 1.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Expected {
    /// The filter that they fit.
    pub filter: String,
    /// The number of indexed chunks that fit it.
    pub chunks: usize,
    /// How many of them the filter and the required words of the search leave.
    pub allowed: usize,
    /// The rank in each leg; `None` if it is not among the candidates of the leg.
    pub legs: BTreeMap<String, Option<usize>>,
    /// The rank after fusion.
    pub fused: Option<usize>,
    /// The rank after the reranker; `None` also if there is no reranker.
    pub reranked: Option<usize>,
    /// The rank among the passages that are returned.
    pub shown: Option<usize>,
    /// The step at which they were lost; `None` if one is returned.
    pub lost: Option<LostAt>,
}

/// The step of a search at which a passage was lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum LostAt {
    /// No document of the corpus has such a passage.
    Corpus,
    /// The filter, or the required words, leave none.
    Filter,
    /// No leg has it among its candidates.
    Legs,
    /// The fusion put others before it.
    Fusion,
    /// The reranker put others before it.
    Rerank,
    /// It is too much like a better one, of too low a score, or a list of contents.
    Choose,
}

/// The rows that are watched.
pub(super) struct Watch {
    rows: Scope,
    expected: Expected,
}

impl Watch {
    pub(super) fn new(filter: &Filter, rows: Scope, allowed: Option<&Scope>) -> Self {
        let chunks = rows.iter().map(|rows| rows.len() as usize).sum();
        let left = match allowed {
            None => chunks,
            Some(allowed) => {
                let both = rows.iter().zip(allowed).map(|(rows, allowed)| {
                    let mut rows = rows.clone();
                    rows.intersect_with(allowed);
                    rows.len() as usize
                });
                both.sum()
            }
        };
        Self { rows, expected: Expected { filter: filter.to_string(), chunks, allowed: left, ..Expected::default() } }
    }

    /// Returns the rank of the first row that is watched.
    fn rank(&self, snapshot: &Snapshot, rows: impl Iterator<Item = RowId>) -> Option<usize> {
        let watched = |row: RowId| snapshot.position_of(row.segment).is_some_and(|at| self.rows[at].contains(row.row));
        rows.enumerate().find(|(_, row)| watched(*row)).map(|(at, _)| at + 1)
    }

    pub(super) fn legs(&mut self, snapshot: &Snapshot, rankings: &[Ranking<RowId>]) {
        for leg in rankings {
            let rank = self.rank(snapshot, leg.hits.iter().map(|hit| hit.0));
            self.expected.legs.insert(leg.name.clone(), rank);
        }
    }

    pub(super) fn fused(&mut self, snapshot: &Snapshot, fused: &[Fused<RowId>]) {
        self.expected.fused = self.rank(snapshot, fused.iter().map(|item| item.key));
    }

    pub(super) fn reranked(&mut self, snapshot: &Snapshot, reranked: &[Fused<RowId>]) {
        self.expected.reranked = self.rank(snapshot, reranked.iter().map(|item| item.key));
    }

    /// Returns what became of them, once the rows of the passages are known. `count` is the number of passages that were wanted.
    pub(super) fn shown(self, snapshot: &Snapshot, rows: impl Iterator<Item = RowId>, count: usize) -> Expected {
        let shown = self.rank(snapshot, rows);
        let mut expected = self.expected;
        expected.shown = shown;
        let within = |rank: Option<usize>| rank.is_some_and(|rank| rank <= count);
        expected.lost = match &expected {
            Expected { shown: Some(_), .. } => None,
            Expected { chunks: 0, .. } => Some(LostAt::Corpus),
            Expected { allowed: 0, .. } => Some(LostAt::Filter),
            Expected { fused: None, .. } => Some(LostAt::Legs),
            Expected { fused, reranked: None, .. } if !within(*fused) => Some(LostAt::Fusion),
            Expected { reranked: Some(_), fused, .. } if !within(expected.reranked) => {
                // If it was too far down before, the fusion lost it and the reranker did not bring it back.
                Some(if within(*fused) { LostAt::Rerank } else { LostAt::Fusion })
            }
            _ => Some(LostAt::Choose),
        };
        expected
    }
}
