//! Probabilities from trees, each of which corrects those before it.

use serde::{Deserialize, Serialize};

use super::{logistic_curve, rounded};

/// Trees whose leaves add up to the logarithm of odds.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Boosted {
    /// What is added to the leaves.
    shift: f32,
    trees: Vec<Node>,
}

/// A node of a tree. It is written as the number of a leaf, or as the four parts of a split.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
enum Node {
    Leaf(f32),
    /// A fact, a bound, and the nodes for facts below it and for the others.
    Split(u16, f32, Box<Self>, Box<Self>),
}

impl Node {
    fn leaf(&self, facts: &[f32]) -> f32 {
        let mut node = self;
        loop {
            match node {
                Self::Leaf(value) => return *value,
                Self::Split(fact, bound, below, others) => {
                    let is_below = facts.get(usize::from(*fact)).is_some_and(|fact| fact < bound);
                    node = if is_below { below } else { others };
                }
            }
        }
    }

    fn max_fact(&self) -> Option<u16> {
        match self {
            Self::Leaf(_) => None,
            Self::Split(fact, _, below, others) => Some(*fact).max(below.max_fact()).max(others.max_fact()),
        }
    }
}

impl Boosted {
    /// Returns the probability for some facts. A fact that is not there, or is no number, counts as a high one.
    pub fn probability(&self, facts: &[f32]) -> f32 {
        let sum: f32 = self.trees.iter().map(|tree| tree.leaf(facts)).sum();
        logistic_curve(f64::from(sum + self.shift)) as f32
    }

    /// Returns how many facts the trees ask for: one more than the place of the last of them.
    pub fn facts(&self) -> usize {
        self.trees.iter().filter_map(Node::max_fact).max().map_or(0, |last| usize::from(last) + 1)
    }
}

/// How trees are grown.
#[derive(Clone, Copy, Debug)]
pub struct Growth {
    /// The number of trees.
    pub trees: usize,
    /// How many splits lie one below the other at most.
    pub max_depth: usize,
    /// How much of its correction a tree contributes, from 0 to 1.
    pub rate: f64,
    /// The least weight of the examples of a leaf.
    pub min_weight: f64,
    /// The strength of the penalty on leaves.
    pub ridge: f64,
}

/// So many of ten examples, other ones each time, are what a tree is grown from.
const SHARE: u64 = 7;

/// Grows trees from the facts of each example, whether it holds, and how much it counts: gradient boosting (Friedman, 2001, and 2002 for the share of the examples),
/// with the second-order gain of splits (Chen and Guestrin, 2016). Examples must have as many facts each.
///
/// Costs a pass over all facts of all examples for each level of each tree.
pub fn boosted(examples: &[(Vec<f32>, bool, f32)], growth: Growth) -> Boosted {
    let weight = |holds: bool| {
        let of = examples.iter().filter(|one| one.1 == holds).map(|one| f64::from(one.2));
        of.sum::<f64>() + 1.0
    };
    let shift = rounded((weight(true) / weight(false)).ln());
    let orders = orders(examples);
    let mut sums = vec![f64::from(shift); examples.len()];
    let trees = (0..growth.trees as u64).map(|number| {
        let slopes: Vec<Slope> = examples.iter().zip(&sums).map(|(one, sum)| Slope::of(one, *sum)).collect();
        let grown = Sprout { examples, slopes: &slopes, orders: &orders, growth, number }.grow();
        examples.iter().zip(&mut sums).for_each(|(one, sum)| *sum += f64::from(grown.leaf(&one.0)));
        grown
    });
    let trees = trees.collect();
    Boosted { shift, trees }
}

/// Returns for each fact the examples in its order, those that are the same in theirs.
fn orders(examples: &[(Vec<f32>, bool, f32)]) -> Vec<Vec<u32>> {
    let facts = examples.first().map_or(0, |one| one.0.len());
    let by = |fact: usize| {
        let mut order: Vec<u32> = (0..examples.len() as u32).collect();
        order.sort_by(|a, b| examples[*a as usize].0[fact].total_cmp(&examples[*b as usize].0[fact]));
        order
    };
    (0..facts).map(by).collect()
}

/// The first and the second derivative of the loss, and the weight of what they are of.
#[derive(Clone, Copy, Debug, Default)]
struct Slope {
    first: f64,
    second: f64,
    weight: f64,
}

impl Slope {
    fn of((_, holds, weight): &(Vec<f32>, bool, f32), sum: f64) -> Self {
        let (chance, weight) = (logistic_curve(sum), f64::from(*weight));
        Self {
            first: (chance - f64::from(u8::from(*holds))) * weight,
            second: chance * (1.0 - chance) * weight,
            weight,
        }
    }

    fn plus(self, other: Self, sign: f64) -> Self {
        Self {
            first: self.first + sign * other.first,
            second: self.second + sign * other.second,
            weight: self.weight + sign * other.weight,
        }
    }

    /// By how much the loss falls if all of it get the best leaf.
    fn gain(self, ridge: f64) -> f64 {
        self.first * self.first / (self.second + ridge)
    }
}

/// The best split of a node that was found so far.
#[derive(Clone, Copy, Debug)]
struct Split {
    gain: f64,
    fact: usize,
    bound: f32,
}

/// A tree that is being grown. Its nodes are numbered as in a heap: those below node `n` are `2n + 1` and `2n + 2`.
struct Sprout<'a> {
    examples: &'a [(Vec<f32>, bool, f32)],
    slopes: &'a [Slope],
    orders: &'a [Vec<u32>],
    growth: Growth,
    number: u64,
}

impl Sprout<'_> {
    fn grow(&self) -> Node {
        let used: Vec<bool> = (0..self.examples.len() as u64).map(|at| self.is_used(at)).collect();
        let mut places = vec![0_usize; self.examples.len()];
        let mut splits: Vec<Option<Split>> = vec![None; (2 << self.growth.max_depth) - 1];
        for _ in 0..self.growth.max_depth {
            let found = self.best_splits(&used, &places, splits.len());
            for (place, one) in places.iter_mut().zip(self.examples) {
                if let Some(split) = found[*place] {
                    *place = 2 * *place + if one.0[split.fact] < split.bound { 1 } else { 2 };
                }
            }
            splits.iter_mut().zip(found).filter(|(_, found)| found.is_some()).for_each(|(split, found)| *split = found);
        }
        let totals = self.totals(&used, &places, splits.len());
        self.node(0, &splits, &totals)
    }

    /// Returns whether an example is among those that this tree is grown from.
    fn is_used(&self, example: u64) -> bool {
        let mut value = ((self.number << 32) | example).wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        value = (value ^ (value >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        value = (value ^ (value >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (value ^ (value >> 31)) % 10 < SHARE
    }

    fn totals(&self, used: &[bool], places: &[usize], nodes: usize) -> Vec<Slope> {
        let mut totals = vec![Slope::default(); nodes];
        for at in (0..places.len()).filter(|at| used[*at]) {
            totals[places[at]] = totals[places[at]].plus(self.slopes[at], 1.0);
        }
        totals
    }

    /// Returns the best split of each node that examples are in; `None` if none gains anything.
    fn best_splits(&self, used: &[bool], places: &[usize], nodes: usize) -> Vec<Option<Split>> {
        let Growth { ridge, min_weight, .. } = self.growth;
        let totals = self.totals(used, places, nodes);
        let mut best: Vec<Option<Split>> = vec![None; nodes];
        for (fact, order) in self.orders.iter().enumerate() {
            let mut below = vec![Slope::default(); nodes];
            let mut last = vec![f32::NAN; nodes];
            for at in order.iter().map(|at| *at as usize).filter(|at| used[*at]) {
                let (node, value) = (places[at], self.examples[at].0[fact]);
                let others = totals[node].plus(below[node], -1.0);
                if last[node] < value && below[node].weight >= min_weight && others.weight >= min_weight {
                    let gain = below[node].gain(ridge) + others.gain(ridge) - totals[node].gain(ridge);
                    if gain > best[node].map_or(1e-9, |split| split.gain) {
                        best[node] = Some(Split { gain, fact, bound: between(last[node], value) });
                    }
                }
                below[node] = below[node].plus(self.slopes[at], 1.0);
                last[node] = value;
            }
        }
        best
    }

    fn node(&self, at: usize, splits: &[Option<Split>], totals: &[Slope]) -> Node {
        match splits[at] {
            Some(split) => {
                let [below, others] = [1, 2].map(|side| Box::new(self.node(2 * at + side, splits, totals)));
                Node::Split(split.fact as u16, split.bound, below, others)
            }
            None => {
                let total = totals[at];
                Node::Leaf(rounded(-self.growth.rate * total.first / (total.second + self.growth.ridge)))
            }
        }
    }
}

/// Returns a bound that is above one value and not above another: a short one between both, if there is one.
fn between(below: f32, above: f32) -> f32 {
    let middle = rounded(f64::midpoint(f64::from(below), f64::from(above)));
    if below < middle && middle <= above { middle } else { above }
}
