//! What the rows of a block or a list can score at most.
//!
//! Bounds are pairs of a frequency and a length, not scores: whatever the mean length comes to be, the best score of a block is
//! at most the best score of its pairs.

/// How many pairs bound a block.
pub(super) const BLOCK_PAIRS: usize = 3;
/// How many pairs bound a list.
pub(super) const LIST_PAIRS: usize = 6;

/// How often a term stands in a row, and how long the row is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(in crate::keyword) struct Pair {
    pub frequency: u32,
    pub length: u32,
}

/// Leaves the pairs that no other beats in both, and then fewer: two that are near become one that beats both.
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

/// The shortest row of each frequency that was met: no other of that frequency can be better.
#[derive(Default)]
pub(super) struct Shortest {
    /// Of the low frequencies, by frequency; 0 where there is none.
    low: [u32; 16],
    high: Vec<Pair>,
}

impl Shortest {
    #[inline]
    pub(super) fn add(&mut self, pair: Pair) {
        match self.low.get_mut(pair.frequency as usize) {
            // A length of nothing is counted as one: that is a bound too.
            Some(shortest) if *shortest == 0 || pair.length < *shortest => *shortest = pair.length.max(1),
            Some(_) => {}
            None => self.high.push(pair),
        }
    }

    /// Moves the pairs to the end of others, and starts again.
    pub(super) fn drain_to(&mut self, pairs: &mut Vec<Pair>) {
        for (length, frequency) in std::mem::take(&mut self.low).into_iter().zip(0..) {
            if length > 0 {
                pairs.push(Pair { frequency, length: length - u32::from(length == 1) });
            }
        }
        pairs.append(&mut self.high);
    }
}
