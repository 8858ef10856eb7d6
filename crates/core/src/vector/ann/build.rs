//! Builds the graph on all threads. The graph does not depend on the number of threads.
//!
//! Rows are inserted in batches that are small compared with the graph. First each row of a batch searches for its links in the
//! graph as it was before the batch. Then the links of each node are set.

use rayon::prelude::*;

use super::layer::{Layer, NOTHING, Word};
use super::select::select;
use super::walk::{Allowed, Walker};
use crate::segment::Hit;
use crate::vector::code_scorer::{CodeScorer, NormAugmentation};
use crate::vector::rows::Rows;

/// The number of links that a node gets on insertion. In the lowest layer it may have twice as many, added by later nodes.
pub const LINKS: usize = 16;
/// The number of near nodes that are kept during the search for the links of a new node.
const EFFORT: usize = 100;
/// The number of near nodes that are kept on the way down.
pub const DESCENT: usize = 8;
/// The highest number of layers above the lowest.
const MAX_LAYERS: u32 = 8;
/// A batch has at most this fraction of the nodes that exist, as a divisor.
const BATCH_SHARE: usize = 50;

/// A layer under construction.
pub struct Growing {
    /// The row of each node, ascending; empty in the lowest layer.
    pub rows: Vec<Word>,
    /// The number of each node in the layer below.
    pub below: Vec<Word>,
    pub links: Vec<Word>,
    pub width: usize,
}

impl Growing {
    fn layer(&self) -> Layer<'_> {
        let rows = (!self.rows.is_empty()).then_some(self.rows.as_slice());
        Layer { rows, below: &self.below, links: &self.links, width: self.width }
    }

    /// Returns the number of a row's node, which must exist.
    fn node(&self, row: u32) -> u32 {
        match self.rows.as_slice() {
            [] => row,
            rows => rows.partition_point(|&other| u32::from_le_bytes(other) < row) as u32,
        }
    }
}

/// The links that a new node gets in a layer.
struct NodeLinks {
    layer: usize,
    node: u32,
    links: Vec<u32>,
}

/// A link to add from an existing node to a new one.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Back {
    from: u32,
    to: u32,
}

/// The layers of a graph, the lowest first.
pub struct Built {
    pub layers: Vec<Growing>,
    /// The node of the topmost layer where walks begin.
    pub entry: u32,
}

/// Links rows. Returns `None` if it is stopped; it asks `stop` before each batch.
pub fn build(rows: &Rows<'_>, stop: &(dyn Fn() -> bool + Sync)) -> Option<Built> {
    let mut order: Vec<(u32, u64, u32)> =
        (0..rows.rows).into_par_iter().map(|row| (height(row), mixed(row), row)).collect();
    // The highest rows go first, so that the upper layers exist early; the order of the others looks random.
    order.par_sort_unstable_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut graph = Graph { rows, lifted: NormAugmentation::of(rows), layers: empty(rows.rows), entry: NOTHING };
    let mut done = 0;
    while done < order.len() {
        if stop() {
            return None;
        }
        let batch = &order[done..order.len().min(done + (done / BATCH_SHARE).max(1))];
        graph.put_in(batch);
        done += batch.len();
    }
    let entry = graph.layers.last().filter(|_| graph.entry != NOTHING).map_or(0, |top| top.node(graph.entry));
    Some(Built { layers: graph.layers, entry })
}

/// Returns layers without links.
fn empty(rows: u32) -> Vec<Growing> {
    let lowest = Growing {
        rows: Vec::new(),
        below: Vec::new(),
        links: vec![NOTHING.to_le_bytes(); rows as usize * LINKS * 2],
        width: LINKS * 2,
    };
    let mut layers = vec![lowest];
    let mut numbers: Vec<(u32, u32)> = (0..rows).map(|row| (row, row)).collect();
    for at in 1..=MAX_LAYERS {
        numbers.retain(|&(row, _)| height(row) >= at);
        if numbers.is_empty() {
            break;
        }
        layers.push(Growing {
            rows: numbers.iter().map(|(row, _)| row.to_le_bytes()).collect(),
            below: numbers.iter().map(|(_, below)| below.to_le_bytes()).collect(),
            links: vec![NOTHING.to_le_bytes(); numbers.len() * LINKS],
            width: LINKS,
        });
        numbers.iter_mut().enumerate().for_each(|(number, node)| node.1 = number as u32);
    }
    layers
}

/// Returns a number that looks random (the finaliser of Steele, Lea and Flood's SplitMix, 2014).
fn mixed(row: u32) -> u64 {
    let mut bits = u64::from(row).wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    bits = (bits ^ (bits >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    bits = (bits ^ (bits >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    bits ^ (bits >> 31)
}

/// Returns the highest layer of a row. Each layer has one row in [`LINKS`] of the one below.
fn height(row: u32) -> u32 {
    let share = (mixed(row) >> 11) as f64 / (1_u64 << 53) as f64;
    let height = -(1.0 - share).ln() / (LINKS as f64).ln();
    (height as u32).min(MAX_LAYERS)
}

struct Graph<'a> {
    rows: &'a Rows<'a>,
    lifted: NormAugmentation,
    layers: Vec<Growing>,
    /// The row where walks begin, one of the highest.
    entry: u32,
}

impl Graph<'_> {
    fn put_in(&mut self, batch: &[(u32, u64, u32)]) {
        if self.entry == NOTHING {
            self.entry = batch.first().map_or(NOTHING, |&(_, _, row)| row);
            return;
        }
        let found: Vec<Vec<NodeLinks>> = batch
            .par_iter()
            .map_init(Walker::new, |walker, &(height, _, row)| self.find(walker, row, height))
            .collect();
        let mut back: Vec<Vec<Back>> = self.layers.iter().map(|_| Vec::new()).collect();
        for NodeLinks { layer, node, links } in found.into_iter().flatten() {
            back[layer].extend(links.iter().map(|&from| Back { from, to: node }));
            let Growing { links: all, width, .. } = &mut self.layers[layer];
            write(&mut all[node as usize * *width..(node as usize + 1) * *width], &links);
        }
        for (layer, mut back) in back.into_iter().enumerate() {
            back.par_sort_unstable();
            self.link_back(layer, &back);
        }
    }

    /// Finds the links of a row in all its layers.
    fn find(&self, walker: &mut Walker, row: u32, height: u32) -> Vec<NodeLinks> {
        let centre = CodeScorer::row(self.rows, row, self.lifted);
        let top = self.layers.len() - 1;
        let mut from = vec![self.layers[top].node(self.entry)];
        let mut found = Vec::new();
        for at in (0..=top).rev() {
            let layer = self.layers[at].layer();
            let stands = at <= height as usize;
            let near = walker.walk(&layer, &centre, &from, Allowed::All, if stands { EFFORT } else { DESCENT });
            if stands {
                let links = select(self.rows, self.lifted, &near, |node| layer.row(node), LINKS);
                found.push(NodeLinks { layer: at, node: self.layers[at].node(row), links });
            }
            from = near.iter().map(|hit| layer.below(hit.row)).collect();
        }
        found
    }

    /// Adds the links from existing nodes to new ones.
    fn link_back(&mut self, at: usize, back: &[Back]) {
        /// The number of nodes that a thread takes at a time.
        const TASK_NODES: usize = 256;
        let (rows, lifted) = (self.rows, self.lifted);
        let Growing { rows: row_of, links, width, .. } = &mut self.layers[at];
        let row_of = |node: u32| row_of.get(node as usize).map_or(node, |&row| u32::from_le_bytes(row));
        let width = *width;
        links.par_chunks_mut(width * TASK_NODES).enumerate().for_each(|(part, links)| {
            let first = (part * TASK_NODES) as u32;
            let begin = back.partition_point(|link| link.from < first);
            let end = back.partition_point(|link| u64::from(link.from) < u64::from(first) + TASK_NODES as u64);
            for same in back[begin..end].chunk_by(|a, b| a.from == b.from) {
                let node = same[0].from;
                let links = &mut links[(node - first) as usize * width..][..width];
                let there = links.iter().map(|&link| u32::from_le_bytes(link)).take_while(|&link| link != NOTHING);
                let mut all: Vec<u32> = there.chain(same.iter().map(|link| link.to)).collect();
                if all.len() > width {
                    all = fewer(rows, lifted, node, &all, row_of, width);
                }
                write(links, &all);
            }
        });
    }
}

/// Selects the best of too many links.
fn fewer(
    rows: &Rows<'_>,
    lifted: NormAugmentation,
    node: u32,
    links: &[u32],
    row_of: impl Fn(u32) -> u32,
    width: usize,
) -> Vec<u32> {
    let of: Vec<u32> = links.iter().map(|&link| row_of(link)).collect();
    let mut scores = Vec::new();
    CodeScorer::row(rows, row_of(node), lifted).compare(&of, &mut scores);
    let mut near: Vec<Hit> = links.iter().zip(scores).map(|(&row, score)| Hit { score, row }).collect();
    near.sort_unstable_by(|a, b| b.cmp(a));
    select(rows, lifted, &near, row_of, width)
}

/// Writes the links of a node.
fn write(place: &mut [Word], links: &[u32]) {
    place.fill(NOTHING.to_le_bytes());
    place.iter_mut().zip(links).for_each(|(place, link)| *place = link.to_le_bytes());
}
