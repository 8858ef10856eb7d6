//! Upper bounds for the scores of the rows of a block or a list.
//!
//! Bounds are pairs of a frequency and a length instead of scores. The best score of a block is at most the best score of its
//! pairs, for any mean length.

/// The number of pairs that bound a block.
pub(super) const BLOCK_PAIRS: usize = 3;
/// The number of pairs that bound a list.
pub(super) const LIST_PAIRS: usize = 6;

/// The frequency of a term in a row, and the length of the row.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(in crate::keyword) struct Pair {
    pub frequency: u32,
    pub length: u32,
}

/// Keeps the pairs that no other dominates, and then merges near pairs into one that dominates both.
pub(super) fn bound(pairs: &mut Vec<Pair>, most: usize) {
    pairs.sort_unstable_by(|a, b| a.length.cmp(&b.length).then(b.frequency.cmp(&a.frequency)));
    let mut best = 0;
    pairs.retain(|pair| {
        let beaten = pair.frequency <= best;
        best = best.max(pair.frequency);
        !beaten
    });
    while pairs.len() > most {
        let loss = |pair: &[Pair]| {
            let of = |a: u32, b: u32| f64::from(a.max(1)) / f64::from(b.max(1));
            of(pair[1].frequency, pair[0].frequency) * of(pair[1].length, pair[0].length)
        };
        let at = pairs.windows(2).enumerate().min_by(|a, b| loss(a.1).total_cmp(&loss(b.1))).map_or(0, |(at, _)| at);
        pairs[at].frequency = pairs[at + 1].frequency;
        pairs.remove(at + 1);
    }
}

/// The shortest row of each frequency. No other row of that frequency can score more.
#[derive(Default)]
pub(super) struct Shortest {
    /// By frequency, for low ones; 0 means none.
    low: [u32; 16],
    high: Vec<Pair>,
}

impl Shortest {
    #[inline]
    pub(super) fn add(&mut self, pair: Pair) {
        match self.low.get_mut(pair.frequency as usize) {
            // A length of zero counts as one, which is a bound too.
            Some(shortest) if *shortest == 0 || pair.length < *shortest => *shortest = pair.length.max(1),
            Some(_) => {}
            None => self.high.push(pair),
        }
    }

    /// Appends the pairs to others, and starts again.
    pub(super) fn drain_to(&mut self, pairs: &mut Vec<Pair>) {
        for (length, frequency) in std::mem::take(&mut self.low).into_iter().zip(0..) {
            if length > 0 {
                pairs.push(Pair { frequency, length: length - u32::from(length == 1) });
            }
        }
        pairs.append(&mut self.high);
    }
}
