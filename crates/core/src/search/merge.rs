//! Merging: the passages of several searches in one list.

use std::collections::HashMap;

use serde::Serialize;

use super::{Passage, RANKS, TransformKind};
use crate::chunk::ChunkId;
use crate::document::Location;
use crate::round::serialize_score;

/// A question that was searched besides the one that was asked, and what it found.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Part {
    /// The question.
    pub query: String,
    /// What it found, best first.
    pub found: Vec<PartPassage>,
}

/// A passage that a part found.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PartPassage {
    /// The id of the chunk.
    pub chunk: ChunkId,
    /// The location of the chunk.
    #[serde(flatten)]
    pub location: Location,
    /// Its score in the search for the part.
    #[serde(serialize_with = "serialize_score")]
    pub score: f32,
}

impl Part {
    /// Creates a part from what it found.
    pub fn new(query: &str, passages: &[Passage]) -> Self {
        let passage = |passage: &Passage| PartPassage {
            chunk: passage.chunk.clone(),
            location: passage.location.clone(),
            score: passage.score,
        };
        Self { query: query.to_owned(), found: passages.iter().map(passage).collect() }
    }
}

/// Joins the lists of a question, which comes first, and of what a transform made of it, and returns the best `count` passages.
///
/// The lists of the parts of a question take turns, so that each part is heard. Those of other wordings are fused by reciprocal ranks (Cormack, Clarke
/// and Büttcher, 2009). A passage in several lists has its highest score.
pub fn merged(lists: Vec<Vec<Passage>>, transform: TransformKind, count: usize) -> Vec<Passage> {
    /// A passage with what it counts, and the first of its places.
    struct Entry {
        passage: Passage,
        count: f32,
        place: (usize, usize),
    }
    let takes_turns = transform == TransformKind::Split || transform == TransformKind::None;
    let mut found: HashMap<ChunkId, Entry> = HashMap::new();
    for (list, passages) in lists.into_iter().enumerate() {
        for (at, passage) in passages.into_iter().enumerate() {
            let share = 1.0 / (RANKS + 1.0 + at as f32);
            match found.get_mut(&passage.chunk) {
                None => {
                    let chunk = passage.chunk.clone();
                    found.insert(chunk, Entry { passage, count: share, place: (at, list) });
                }
                Some(entry) => {
                    entry.count += share;
                    entry.place = entry.place.min((at, list));
                    if passage.score > entry.passage.score {
                        entry.passage = passage;
                    }
                }
            }
        }
    }
    let mut entries: Vec<Entry> = found.into_values().collect();
    entries.sort_by(|a, b| {
        let by_count = if takes_turns { std::cmp::Ordering::Equal } else { b.count.total_cmp(&a.count) };
        by_count.then(a.place.cmp(&b.place))
    });
    let mut passages: Vec<Passage> = entries.into_iter().take(count).map(|entry| entry.passage).collect();
    passages.iter_mut().enumerate().for_each(|(at, passage)| passage.rank = at + 1);
    passages
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::document::Location;

    fn list(names: &str, score: f32) -> Vec<Passage> {
        let passage = |name: char| {
            let mut passage =
                Passage::new(ChunkId::from_stored(name.to_string()), Location::default(), name.to_string());
            passage.score = score;
            passage
        };
        names.chars().map(passage).collect()
    }

    #[rstest]
    #[case::turns(TransformKind::Split, &["abc", "dea", "f"], 9, "adfbec")]
    #[case::cut(TransformKind::None, &["abc", "dea", "f"], 4, "adfb")]
    #[case::fused(TransformKind::Phrasings, &["abc", "cbd", "cef"], 9, "cbaedf")]
    #[case::one(TransformKind::Rewrite, &["abc"], 2, "ab")]
    #[case::nothing(TransformKind::Hypothetical, &["", ""], 2, "")]
    fn lists_are_joined(
        #[case] transform: TransformKind,
        #[case] lists: &[&str],
        #[case] count: usize,
        #[case] order: &str,
    ) {
        let lists = lists.iter().zip(1_u8..).map(|(names, at)| list(names, f32::from(at))).collect();
        let merged = merged(lists, transform, count);
        assert_eq!(merged.iter().map(|passage| passage.text.as_str()).collect::<String>(), order);
        assert!(merged.iter().map(|passage| passage.rank).eq(1..=merged.len()));
    }

    #[test]
    fn a_passage_has_its_highest_score() {
        let merged = merged(vec![list("ab", 0.2), list("b", 0.7), list("b", 0.5)], TransformKind::Phrasings, 5);
        assert_eq!(merged.iter().map(|passage| passage.score).collect::<Vec<_>>(), [0.7, 0.2]);
    }
}
