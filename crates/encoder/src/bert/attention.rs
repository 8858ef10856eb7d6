//! Attention: each token reads all tokens of its text, in several heads.

use crate::kernel::{Kernel, ROWS, SHORTS, Sums, TileLayout, WIDE};

/// Buffers for the numbers of a head.
#[derive(Default)]
pub struct Attention {
    queries: Vec<i16>,
    keys: Vec<i16>,
    values: Vec<i16>,
    farthest: Vec<f32>,
    sums: Vec<i32>,
    exponentials: Vec<f32>,
    shares: Vec<i16>,
    key_panels: Vec<f32>,
    value_panels: Vec<f32>,
    scores: Vec<f32>,
}

/// The place of a head's queries, keys and values in a row.
struct Head {
    hidden: usize,
    /// Their length.
    width: usize,
    first: usize,
}

impl Head {
    /// Returns a part of each row of `seen`: 0 for the query, 1 for the key, 2 for the value.
    fn rows<'a>(&self, seen: &'a [f32], part: usize) -> impl Iterator<Item = &'a [f32]> {
        let from = part * self.hidden + self.first;
        let to = from + self.width;
        seen.chunks_exact(self.hidden * 3).map(move |row| &row[from..to])
    }

    /// Returns the greatest distance from zero in a part, from those of all columns.
    fn farthest(&self, columns: &[f32], part: usize) -> f32 {
        let from = part * self.hidden + self.first;
        columns[from..from + self.width].iter().copied().fold(0.0, f32::max)
    }
}

/// Returns the factor that makes numbers fill a range of integers.
fn factor(range: f32, farthest: f32) -> f32 {
    if farthest > 0.0 { range / farthest } else { 0.0 }
}

/// Returns the value of one unit of such integers.
fn unit(factor: f32) -> f32 {
    if factor > 0.0 { 1.0 / factor } else { 0.0 }
}

/// Makes room. Old numbers may stay, because nothing past the last token or column is read.
fn refill<T: Copy + Default>(values: &mut Vec<T>, length: usize) {
    if values.len() < length {
        values.resize(length, T::default());
    }
}

impl Attention {
    /// Computes attention in 16-bit integers. `seen` has a row of queries, keys and values for each token of one text;
    /// `context` gets a row for each.
    pub fn shorts(&mut self, kernel: Kernel, seen: &[f32], hidden: usize, heads: usize, context: &mut [f32]) {
        let width = hidden / heads;
        let tokens = context.len() / hidden;
        // Keeps the sum of this number of products within 31 bits.
        let range = ((i32::MAX as f32) / width as f32).sqrt().floor() - 1.0;
        let even = width.next_multiple_of(SHORTS);
        let (key_stride, value_stride) = (even * WIDE, tokens.next_multiple_of(SHORTS) * WIDE);
        let score_stride = tokens.next_multiple_of(WIDE);
        let mut sums = Sums::default();
        self.farthest.resize(hidden * 3, 0.0);
        kernel.farthest(seen, &mut self.farthest);
        for first in (0..hidden).step_by(width) {
            let head = Head { hidden, width, first };
            let [query, key] = [0, 1].map(|part| factor(range.min(32767.0), head.farthest(&self.farthest, part)));
            let value = factor(32767.0, head.farthest(&self.farthest, 2));

            let stride = hidden * 3;
            let value_panels = width.div_ceil(WIDE) * value_stride;
            refill(&mut self.queries, tokens * even);
            refill(&mut self.keys, tokens.div_ceil(WIDE) * key_stride);
            refill(&mut self.values, value_panels);
            kernel.rows_to_shorts(&seen[first..], stride, width, query, &mut self.queries, even);
            kernel.rows_to_outputs(&seen[hidden + first..], stride, width, key, &mut self.keys);
            kernel.rows_to_inputs(&seen[hidden * 2 + first..], stride, width, value, &mut self.values[..value_panels]);

            refill(&mut self.sums, ROWS * score_stride);
            refill(&mut self.shares, ROWS * score_stride);
            refill(&mut self.exponentials, score_stride);
            let scale = unit(query) * unit(key) / (width as f32).sqrt();
            for from in (0..tokens).step_by(ROWS) {
                let count = ROWS.min(tokens - from);
                let queries = &self.queries[from * even..];
                for (panel, keys) in self.keys.chunks_exact(key_stride).enumerate().take(tokens.div_ceil(WIDE)) {
                    let place = TileLayout { stride: score_stride, column: panel * WIDE };
                    kernel.multiply_shorts(queries, even, count, keys, &mut self.sums, place);
                }
                let mut factors = [0.0; ROWS];
                let shares = self.shares.chunks_exact_mut(score_stride);
                let scores = self.sums.chunks_exact_mut(score_stride);
                for ((factor, scores), shares) in factors.iter_mut().zip(scores).zip(shares).take(count) {
                    let total = kernel.shares(scores, tokens, scale, &mut self.exponentials, shares);
                    *factor = unit(value) / total as f32;
                }
                let values = self.values.chunks_exact(value_stride).take(width.div_ceil(WIDE));
                for (panel, values) in values.enumerate() {
                    let shares = &self.shares;
                    kernel.multiply_shorts(shares, score_stride, count, values, sums.flat(), TileLayout::TILE);
                    let place = TileLayout { stride: hidden, column: first + panel * WIDE };
                    let wide = WIDE.min(width - panel * WIDE);
                    kernel.scale(&sums, &factors[..count], wide, &mut context[from * hidden..], place);
                }
            }
        }
    }

    /// Computes attention in 32-bit numbers.
    pub fn floats(&mut self, kernel: Kernel, seen: &[f32], hidden: usize, heads: usize, context: &mut [f32]) {
        let width = hidden / heads;
        let tokens = context.len() / hidden;
        let score_stride = tokens.next_multiple_of(WIDE);
        let mut sums = [[0.0; WIDE]; ROWS];
        for first in (0..hidden).step_by(width) {
            let head = Head { hidden, width, first };
            refill(&mut self.key_panels, score_stride * width);
            for (token, row) in head.rows(seen, 1).enumerate() {
                let panel = &mut self.key_panels[token / WIDE * WIDE * width..];
                row.iter().enumerate().for_each(|(at, &number)| panel[at * WIDE + token % WIDE] = number);
            }
            refill(&mut self.value_panels, width.next_multiple_of(WIDE) * tokens);
            for (token, row) in head.rows(seen, 2).enumerate() {
                for (panel, part) in self.value_panels.chunks_exact_mut(tokens * WIDE).zip(row.chunks(WIDE)) {
                    panel[token * WIDE..][..part.len()].copy_from_slice(part);
                }
            }
            refill(&mut self.scores, ROWS * score_stride);
            let root = (width as f32).sqrt();
            for from in (0..tokens).step_by(ROWS) {
                let count = ROWS.min(tokens - from);
                let queries = &seen[from * hidden * 3 + first..];
                for (panel, keys) in self.key_panels.chunks_exact(width * WIDE).enumerate().take(tokens.div_ceil(WIDE))
                {
                    let place = TileLayout { stride: score_stride, column: panel * WIDE };
                    kernel.multiply_floats(queries, hidden * 3, count, keys, &mut self.scores, place);
                }
                for scores in self.scores.chunks_exact_mut(score_stride).take(count) {
                    scores.iter_mut().for_each(|score| *score /= root);
                    kernel.softmax(&mut scores[..tokens]);
                }
                for (panel, values) in
                    self.value_panels.chunks_exact(tokens * WIDE).enumerate().take(width.div_ceil(WIDE))
                {
                    let tile = sums.as_flattened_mut();
                    kernel.multiply_floats(&self.scores, score_stride, count, values, tile, TileLayout::TILE);
                    let columns = first + panel * WIDE..first + width.min((panel + 1) * WIDE);
                    for (row, sums) in sums.iter().enumerate().take(count) {
                        let out = &mut context[(from + row) * hidden..][columns.clone()];
                        out.copy_from_slice(&sums[..columns.len()]);
                    }
                }
            }
        }
    }
}
