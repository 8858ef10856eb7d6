//! What moves passages after the reranker: lists of contents count less, and so does what is like a better passage.

use std::collections::HashMap;

use super::{Adjustments, Fused};
use crate::document::Span;

/// So many places are filled with novelty in mind; more cost too much, and nobody reads them.
const MAX_NOVEL: usize = 50;

/// What an item is beside the others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Standpoint {
    /// The number of its section.
    pub section: u32,
    /// The number of its document.
    pub document: i64,
    /// Its span in the document.
    pub span: Span,
    /// Whether it is a list of contents.
    pub is_contents: bool,
}

/// Items in their new order.
#[derive(Clone, Debug, PartialEq)]
pub struct Adjusted<K> {
    /// The items, best first.
    pub order: Vec<Fused<K>>,
    /// How many of them, at the end, are too many of their document.
    pub later: usize,
    /// How many items are left out, because a better one has most of their text.
    pub left_out: usize,
}

/// Puts items, the best first, in their new order.
///
/// The score of a list of contents is multiplied by `contents`, and that of any item by `repeat` for each better item of its section. Then come
/// overlaps, novelty and the number of items of a document. `likeness` returns the cosine of two items; it is called if novelty counts. An item
/// whose standpoint is not known keeps its score. Items with equal scores keep their order. Costs a sort; with novelty, fifty comparisons an item.
pub fn adjust<K: Copy>(
    adjustments: &Adjustments,
    mut order: Vec<Fused<K>>,
    standpoint: impl Fn(K) -> Option<Standpoint>,
    likeness: impl Fn(K, K) -> f32,
) -> Adjusted<K> {
    let Adjustments { contents, diversity } = adjustments;
    for item in order.iter_mut().filter(|item| standpoint(item.key).is_some_and(|at| at.is_contents)) {
        item.score *= contents;
    }
    order.sort_by(|a, b| b.score.total_cmp(&a.score));
    let mut sections: HashMap<u32, i32> = HashMap::new();
    for item in &mut order {
        if let Some(at) = standpoint(item.key) {
            let before = sections.entry(at.section).or_default();
            item.score *= diversity.repeat.powi(*before);
            *before += 1;
        }
    }
    order.sort_by(|a, b| b.score.total_cmp(&a.score));
    let all = order.len();
    let order = without_overlaps(diversity.max_overlap, order, &standpoint);
    let left_out = all - order.len();
    let order = if diversity.novelty > 0.0 { by_novelty(diversity.novelty, order, likeness) } else { order };
    if diversity.max_of_document == 0 {
        return Adjusted { order, later: 0, left_out };
    }
    let mut documents: HashMap<i64, usize> = HashMap::new();
    let (mut first, later): (Vec<_>, Vec<_>) = order.into_iter().partition(|item| {
        let Some(at) = standpoint(item.key) else { return true };
        let before = documents.entry(at.document).or_default();
        *before += 1;
        *before <= diversity.max_of_document
    });
    let count = later.len();
    first.extend(later);
    Adjusted { order: first, later: count, left_out }
}

/// Returns the items without those that share more than a part of their text with a better one.
fn without_overlaps<K: Copy>(
    max_overlap: f32,
    mut order: Vec<Fused<K>>,
    standpoint: impl Fn(K) -> Option<Standpoint>,
) -> Vec<Fused<K>> {
    let mut kept: HashMap<i64, Vec<Span>> = HashMap::new();
    order.retain(|item| {
        let Some(Standpoint { document, span, .. }) = standpoint(item.key) else { return true };
        let better = kept.entry(document).or_default();
        let shared = |other: &Span| span.end.min(other.end).saturating_sub(span.start.max(other.start));
        let repeats = better.iter().any(|other| shared(other) as f32 > max_overlap * span.len() as f32);
        if !repeats {
            better.push(span);
        }
        !repeats
    });
    order
}

/// Fills the first places one by one with the item that is best and least like those before it. Its score stays.
fn by_novelty<K: Copy>(novelty: f32, order: Vec<Fused<K>>, likeness: impl Fn(K, K) -> f32) -> Vec<Fused<K>> {
    let best = order.first().map_or(1.0, |item| item.score).max(f32::MIN_POSITIVE);
    // Each with its likeness to the most alike of those that are placed.
    let mut left: Vec<(Fused<K>, f32)> = order.into_iter().map(|item| (item, 0.0)).collect();
    let mut placed: Vec<Fused<K>> = Vec::with_capacity(left.len());
    while !left.is_empty() && placed.len() < MAX_NOVEL {
        let worth = |(item, alike): &(Fused<K>, f32)| (1.0 - novelty) * item.score / best - novelty * alike;
        let next = (0..left.len()).reduce(|a, b| if worth(&left[b]) > worth(&left[a]) { b } else { a });
        let (item, _) = left.remove(next.unwrap_or(0));
        left.iter_mut().for_each(|(other, alike)| *alike = alike.max(likeness(item.key, other.key)));
        placed.push(item);
    }
    placed.extend(left.into_iter().map(|(item, _)| item));
    placed
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::search::DiversityPlan;

    fn adjustments(repeat: f32, max_of_document: usize) -> Adjustments {
        let diversity = DiversityPlan { repeat, max_of_document, ..DiversityPlan::default() };
        Adjustments { contents: 0.5, diversity }
    }

    fn at(section: u32, document: i64) -> Standpoint {
        Standpoint { section, document, ..Standpoint::default() }
    }

    fn keys(adjustments: &Adjustments, order: &[(f32, Standpoint)]) -> Vec<usize> {
        let items = order.iter().enumerate().map(|(key, (score, _))| Fused { key, score: *score, legs: Vec::new() });
        let adjusted = adjust(adjustments, items.collect(), |key| Some(order[key].1), |_, _| 0.0);
        adjusted.order.into_iter().map(|item| item.key).collect()
    }

    #[test]
    fn a_section_that_is_shown_counts_less() {
        let order = [(0.9, at(1, 1)), (0.8, at(1, 1)), (0.5, at(2, 1)), (0.3, at(1, 1)), (0.1, at(3, 2))];
        assert_eq!(keys(&adjustments(1.0, 0), &order), [0, 1, 2, 3, 4]);
        assert_eq!(keys(&adjustments(0.5, 0), &order), [0, 2, 1, 4, 3], "0.8 counts as 0.4, and 0.3 as 0.075");
        assert_eq!(keys(&adjustments(0.0, 0), &order), [0, 2, 4, 1, 3]);
        assert_eq!(
            keys(&adjustments(1.0, 2), &order),
            [0, 1, 4, 2, 3],
            "two of the first document come before more of it"
        );
    }

    #[test]
    fn a_list_of_contents_counts_less_and_does_not_push_its_section_down() {
        let contents = Standpoint { is_contents: true, ..at(1, 1) };
        let order = [(0.9, contents), (0.6, at(1, 1)), (0.5, at(2, 1)), (0.2, at(3, 1))];
        assert_eq!(keys(&adjustments(0.5, 0), &order), [1, 2, 0, 3], "0.9 counts as 0.45, and then as 0.225");
    }

    #[test]
    fn of_two_that_share_most_of_their_text_the_better_one_stays() {
        let part = |start, end| Standpoint { span: Span::new(start, end), ..at(1, 1) };
        let order = [
            (0.9, part(0, 100)),
            (0.8, part(40, 140)),
            (0.7, part(90, 190)),
            (0.6, Standpoint { document: 2, ..part(0, 100) }),
        ];
        assert_eq!(keys(&adjustments(1.0, 0), &order), [0, 2, 3], "the second shares 60 of 100 bytes with the first");
        let mut any = adjustments(1.0, 0);
        any.diversity.max_overlap = 1.0;
        assert_eq!(keys(&any, &order), [0, 1, 2, 3]);
    }

    #[test]
    fn novelty_puts_what_is_unlike_the_better_ones_first() {
        let items = [0.9_f32, 0.85, 0.5].map(|score| Fused { key: score.to_bits(), score, legs: Vec::new() });
        let alike = |a: u32, b: u32| if f32::from_bits(a.min(b)) > 0.8 { 1.0 } else { 0.0 };
        let order = |novelty| {
            let mut adjustments = adjustments(1.0, 0);
            adjustments.diversity.novelty = novelty;
            let adjusted = adjust(&adjustments, items.to_vec(), |_| None, alike);
            adjusted.order.iter().map(|item| item.score).collect::<Vec<_>>()
        };
        assert_eq!(order(0.0), [0.9, 0.85, 0.5]);
        assert_eq!(order(0.5), [0.9, 0.5, 0.85]);
    }

    proptest! {
        #[test]
        fn nothing_is_lost(order in prop::collection::vec((0.0_f32..1.0, 0_u32..4, 0_i64..3), 0..20), repeat in 0.0_f32..=1.0, max in 0_usize..4) {
            let mut order: Vec<(f32, Standpoint)> =
                order.into_iter().map(|(score, section, document)| (score, at(section, document))).collect();
            order.sort_by(|a, b| b.0.total_cmp(&a.0));
            let mut found = keys(&adjustments(repeat, max), &order);
            prop_assert_eq!(found.first(), (!order.is_empty()).then_some(&0), "the best stays the best");
            found.sort_unstable();
            prop_assert_eq!(found, (0..order.len()).collect::<Vec<_>>());
        }
    }
}
