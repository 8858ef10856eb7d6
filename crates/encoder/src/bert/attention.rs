//! Attention: each token looks at all tokens of its text, in several heads.

use crate::kernel::{Kernel, ROWS, SHORTS, WIDE};

/// Room for the numbers of a head.
#[derive(Default)]
pub struct Attention {
    queries: Vec<i16>,
    keys: Vec<i16>,
    values: Vec<i16>,
    rows: [Vec<i16>; 2],
    sums: Vec<i32>,
    exponentials: Vec<f32>,
    shares: Vec<i16>,
    key_panels: Vec<f32>,
    value_panels: Vec<f32>,
    scores: Vec<f32>,
}

/// Where a head's queries, keys and values are in a row.
struct Head {
    hidden: usize,
    /// How long they are.
    width: usize,
    first: usize,
}

impl Head {
    /// The part of each row of `seen`: 0 for the query, 1 for the key, 2 for the value.
    fn rows<'a>(&self, seen: &'a [f32], part: usize) -> impl Iterator<Item = &'a [f32]> {
        let from = part * self.hidden + self.first;
        let to = from + self.width;
        seen.chunks_exact(self.hidden * 3).map(move |row| &row[from..to])
    }

    /// The greatest distance from zero in one of the parts.
    fn farthest(&self, kernel: Kernel, seen: &[f32], part: usize) -> f32 {
        self.rows(seen, part).map(|row| kernel.farthest(row)).fold(0.0, f32::max)
    }
}

/// What numbers are multiplied by to fill a range of integers.
fn factor(range: f32, farthest: f32) -> f32 {
    if farthest > 0.0 { range / farthest } else { 0.0 }
}

/// What one unit of such integers stands for.
fn unit(factor: f32) -> f32 {
    if factor > 0.0 { 1.0 / factor } else { 0.0 }
}

fn refill<T: Copy + Default>(values: &mut Vec<T>, length: usize) {
    values.clear();
    values.resize(length, T::default());
}

impl Attention {
    /// Attention in 16-bit integers. `seen` holds a row of queries, keys and values for each token of one text;
    /// `context` gets a row for each.
    pub fn shorts(&mut self, kernel: Kernel, seen: &[f32], hidden: usize, heads: usize, context: &mut [f32]) {
        let width = hidden / heads;
        let tokens = context.len() / hidden;
        // So that the sum of as many products stays within 31 bits.
        let range = ((i32::MAX as f32) / width as f32).sqrt().floor() - 1.0;
        let even = width.next_multiple_of(SHORTS);
        let (key_stride, value_stride) = (even * WIDE, tokens.next_multiple_of(SHORTS) * WIDE);
        let score_stride = tokens.next_multiple_of(WIDE);
        let mut sums = [[0; WIDE]; ROWS];
        for first in (0..hidden).step_by(width) {
            let head = Head { hidden, width, first };
            let [query, key] = [0, 1].map(|part| factor(range.min(32767.0), head.farthest(kernel, seen, part)));
            let value = factor(32767.0, head.farthest(kernel, seen, 2));

            refill(&mut self.queries, tokens * even);
            for (row, query_row) in head.rows(seen, 0).zip(self.queries.chunks_exact_mut(even)) {
                kernel.to_shorts(row, query, query_row);
            }
            self.lay_keys(kernel, &head, seen, key, even);
            self.lay_values(kernel, &head, seen, value, value_stride);

            refill(&mut self.sums, ROWS * score_stride);
            refill(&mut self.shares, ROWS * value_stride / WIDE);
            refill(&mut self.exponentials, tokens);
            let scale = unit(query) * unit(key) / (width as f32).sqrt();
            for from in (0..tokens).step_by(ROWS) {
                let count = ROWS.min(tokens - from);
                for (panel, keys) in self.keys.chunks_exact(key_stride).enumerate() {
                    kernel.multiply_shorts(&self.queries[from * even..], even, count, keys, &mut sums);
                    for (scores, sums) in self.sums.chunks_exact_mut(score_stride).zip(&sums).take(count) {
                        scores[panel * WIDE..][..WIDE].copy_from_slice(sums);
                    }
                }
                let mut totals = [0.0; ROWS];
                let shares = self.shares.chunks_exact_mut(value_stride / WIDE);
                let scores = self.sums.chunks_exact(score_stride);
                for ((total, scores), shares) in totals.iter_mut().zip(scores).zip(shares).take(count) {
                    *total = kernel.shares(&scores[..tokens], scale, &mut self.exponentials, shares) as f32;
                }
                for (panel, values) in self.values.chunks_exact(value_stride).enumerate() {
                    kernel.multiply_shorts(&self.shares, value_stride / WIDE, count, values, &mut sums);
                    let columns = first + panel * WIDE..first + width.min((panel + 1) * WIDE);
                    for (row, (sums, total)) in sums.iter().zip(totals).enumerate().take(count) {
                        let out = &mut context[(from + row) * hidden..][columns.clone()];
                        kernel.scale(sums, unit(value) / total, out);
                    }
                }
            }
        }
    }

    /// Keys as the weights of a matrix: a panel for every [`WIDE`] of them.
    fn lay_keys(&mut self, kernel: Kernel, head: &Head, seen: &[f32], factor: f32, even: usize) {
        let tokens = seen.len() / head.hidden / 3;
        refill(&mut self.keys, tokens.div_ceil(WIDE) * WIDE * even);
        refill(&mut self.rows[0], even);
        for (token, row) in head.rows(seen, 1).enumerate() {
            kernel.to_shorts(row, factor, &mut self.rows[0]);
            let panel = &mut self.keys[token / WIDE * WIDE * even..][token % WIDE * SHORTS..];
            for (step, pair) in panel.chunks_mut(WIDE * SHORTS).zip(self.rows[0].chunks_exact(SHORTS)) {
                step[..SHORTS].copy_from_slice(pair);
            }
        }
    }

    /// Values as the weights of a matrix: tokens are its inputs.
    fn lay_values(&mut self, kernel: Kernel, head: &Head, seen: &[f32], factor: f32, stride: usize) {
        let wide = head.width.next_multiple_of(WIDE);
        refill(&mut self.values, wide / WIDE * stride);
        for row in &mut self.rows {
            refill(row, wide);
        }
        let mut rows = head.rows(seen, 2);
        let mut step = 0;
        while let Some(row) = rows.next() {
            let [first, second] = &mut self.rows;
            kernel.to_shorts(row, factor, first);
            match rows.next() {
                Some(row) => kernel.to_shorts(row, factor, second),
                None => second.fill(0),
            }
            let pairs = first.chunks_exact(WIDE).zip(second.chunks_exact(WIDE));
            for (panel, (first, second)) in self.values.chunks_exact_mut(stride).zip(pairs) {
                kernel.interleave(first, second, &mut panel[step * WIDE * SHORTS..][..WIDE * SHORTS]);
            }
            step += 1;
        }
    }

    /// Attention in 32-bit numbers.
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
                for (panel, keys) in self.key_panels.chunks_exact(width * WIDE).enumerate() {
                    kernel.multiply_floats(&seen[from * hidden * 3 + first..], hidden * 3, count, keys, &mut sums);
                    for (scores, sums) in self.scores.chunks_exact_mut(score_stride).zip(&sums).take(count) {
                        let scores = scores[panel * WIDE..][..WIDE].iter_mut();
                        scores.zip(sums).for_each(|(score, sum)| *score = sum / root);
                    }
                }
                for scores in self.scores.chunks_exact_mut(score_stride).take(count) {
                    kernel.softmax(&mut scores[..tokens]);
                }
                for (panel, values) in self.value_panels.chunks_exact(tokens * WIDE).enumerate() {
                    kernel.multiply_floats(&self.scores, score_stride, count, values, &mut sums);
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
