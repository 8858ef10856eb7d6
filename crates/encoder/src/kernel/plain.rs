//! Every function in plain Rust. The portable way runs them as they are; for the others they are compiled again with
//! wider instructions, except for the products, which have their own code.

// They are to be compiled into each caller, with its instructions.
#![allow(clippy::inline_always)]

use super::{BYTES, Finish, Grid, LANES, ROWS, SHORTS, Sums, WIDE};

/// Adding and subtracting it rounds a number to the nearest integer, ties to even; its low bits are that integer.
const ROUND: f32 = 12_582_912.0;

#[inline(always)]
fn round(value: f32) -> f32 {
    (value + ROUND) - ROUND
}

/// The nearest integer of a number below 2²² in size.
#[inline(always)]
fn round_to_int(value: f32) -> i32 {
    (value + ROUND).to_bits() as i32 - ROUND.to_bits() as i32
}

#[inline(always)]
fn least(a: f32, b: f32) -> f32 {
    if a < b { a } else { b }
}

#[inline(always)]
fn greatest(a: f32, b: f32) -> f32 {
    if a > b { a } else { b }
}

/// Joins `values` by an operation, in lanes; the order never depends on the processor.
#[inline(always)]
fn fold(values: &[f32], start: f32, each: impl Fn(f32) -> f32, join: impl Fn(f32, f32) -> f32) -> f32 {
    let mut lanes = [start; LANES];
    let chunks = values.chunks_exact(LANES);
    let rest = chunks.remainder();
    for chunk in chunks {
        for (lane, &value) in lanes.iter_mut().zip(chunk) {
            *lane = join(*lane, each(value));
        }
    }
    for (lane, &value) in lanes.iter_mut().zip(rest) {
        *lane = join(*lane, each(value));
    }
    let mut width = LANES / 2;
    while width > 0 {
        for at in 0..width {
            lanes[at] = join(lanes[at], lanes[at + width]);
        }
        width /= 2;
    }
    lanes[0]
}

#[inline(always)]
fn sum(values: &[f32]) -> f32 {
    fold(values, 0.0, |value| value, |a, b| a + b)
}

/// e to the power of a number of -87 to 88; below, nearly nothing. Relative error under 3e-7.
#[inline(always)]
fn exp(value: f32) -> f32 {
    let power = greatest(value * std::f32::consts::LOG2_E, -126.0);
    let whole = round(power);
    let part = power - whole;
    // The polynomial of degree 5 through the Chebyshev nodes of 2^part on -1/2 to 1/2.
    let mut result = 1.326_697e-3_f32;
    for factor in [9.675_46e-3, 5.550_742_5e-2, 2.402_212_2e-1, 6.931_469_5e-1, 1.0] {
        result = result * part + factor;
    }
    result * f32::from_bits(((round_to_int(whole) + 127) << 23) as u32)
}

#[inline(always)]
pub fn to_bytes(values: &[f32], bytes: &mut [u8]) -> Grid {
    let low = fold(values, f32::INFINITY, |value| value, least);
    let high = fold(values, f32::NEG_INFINITY, |value| value, greatest);
    let range = high - low;
    let factor = if range > 0.0 { 255.0 / range } else { 0.0 };
    for (byte, &value) in bytes.iter_mut().zip(values) {
        *byte = round_to_int((value - low) * factor) as u8;
    }
    Grid { step: if range > 0.0 { range / 255.0 } else { 0.0 }, least: if low.is_finite() { low } else { 0.0 } }
}

#[inline(always)]
pub fn farthest(values: &[f32]) -> f32 {
    fold(values, 0.0, f32::abs, greatest)
}

#[inline(always)]
pub fn to_shorts(values: &[f32], factor: f32, shorts: &mut [i16]) {
    for (short, &value) in shorts.iter_mut().zip(values) {
        *short = round_to_int(value * factor) as i16;
    }
}

#[inline(always)]
pub fn interleave(first: &[i16], second: &[i16], step: &mut [i16]) {
    for ((pair, &first), &second) in step.chunks_exact_mut(SHORTS).zip(first).zip(second) {
        pair[0] = first;
        pair[1] = second;
    }
}

#[inline(always)]
pub fn multiply_bytes(rows: &[u8], stride: usize, count: usize, panel: &[i8], sums: &mut Sums) {
    for (row, sums) in sums.iter_mut().enumerate().take(count) {
        *sums = [0; WIDE];
        let row = &rows[row * stride..];
        for (inputs, step) in row.chunks_exact(BYTES).zip(panel.chunks_exact(WIDE * BYTES)) {
            for (sum, weights) in sums.iter_mut().zip(step.chunks_exact(BYTES)) {
                for (&input, &weight) in inputs.iter().zip(weights) {
                    *sum += i32::from(input) * i32::from(weight);
                }
            }
        }
    }
}

#[inline(always)]
pub fn multiply_shorts(rows: &[i16], stride: usize, count: usize, panel: &[i16], sums: &mut Sums) {
    for (row, sums) in sums.iter_mut().enumerate().take(count) {
        *sums = [0; WIDE];
        let row = &rows[row * stride..];
        for (inputs, step) in row.chunks_exact(SHORTS).zip(panel.chunks_exact(WIDE * SHORTS)) {
            for (sum, weights) in sums.iter_mut().zip(step.chunks_exact(SHORTS)) {
                for (&input, &weight) in inputs.iter().zip(weights) {
                    *sum = sum.wrapping_add(i32::from(input) * i32::from(weight));
                }
            }
        }
    }
}

#[inline(always)]
pub fn multiply_floats(rows: &[f32], stride: usize, count: usize, panel: &[f32], out: &mut [[f32; WIDE]; ROWS]) {
    for (row, out) in out.iter_mut().enumerate().take(count) {
        let mut sums = [0.0; WIDE];
        for (&input, weights) in rows[row * stride..].iter().zip(panel.chunks_exact(WIDE)) {
            for (sum, &weight) in sums.iter_mut().zip(weights) {
                *sum += input * weight;
            }
        }
        *out = sums;
    }
}

#[inline(always)]
pub fn finish(sums: &Sums, grids: &[Grid], finish: Finish<'_>, out: &mut [f32], stride: usize, column: usize) {
    for ((grid, sums), out) in grids.iter().zip(sums).zip(out.chunks_mut(stride)) {
        let out = &mut out[column..];
        let outputs = sums.iter().zip(finish.scales).zip(finish.totals).zip(finish.bias);
        for (out, (((&sum, &scale), &total), &bias)) in out.iter_mut().zip(outputs) {
            *out = scale * (grid.step * sum as f32 + grid.least * total) + bias;
        }
    }
}

#[inline(always)]
pub fn shares(sums: &[i32], factor: f32, exponentials: &mut [f32], shares: &mut [i16]) -> i32 {
    let most = sums.iter().copied().fold(i32::MIN, Ord::max);
    for (exponential, &sum) in exponentials.iter_mut().zip(sums) {
        // Sums are within 31 bits, so that their difference is within 32 as an unsigned number.
        *exponential = exp(-(most.wrapping_sub(sum) as u32 as f32) * factor);
    }
    let exponentials = &exponentials[..sums.len()];
    let to_share = 32767.0 / sum(exponentials);
    let mut total = 0;
    for (share, &exponential) in shares.iter_mut().zip(exponentials) {
        let integer = round_to_int(exponential * to_share);
        total += integer;
        *share = integer as i16;
    }
    total
}

#[inline(always)]
pub fn scale(sums: &[i32], factor: f32, out: &mut [f32]) {
    for (out, &sum) in out.iter_mut().zip(sums) {
        *out = sum as f32 * factor;
    }
}

#[inline(always)]
pub fn softmax(values: &mut [f32]) {
    let most = fold(values, f32::NEG_INFINITY, |value| value, greatest);
    for value in values.iter_mut() {
        *value = exp(*value - most);
    }
    let factor = 1.0 / sum(values);
    for value in values {
        *value *= factor;
    }
}

#[inline(always)]
pub fn gelu_near(values: &mut [f32]) {
    for value in values {
        // The normal distribution less a half, as an odd polynomial on -4 to 4, fitted by Chebyshev nodes.
        let near = least(greatest(*value, -4.0), 4.0);
        let square = near * near;
        let mut result = -1.245_189e-9_f32;
        for factor in [
            1.006_251_8e-7,
            -3.564_976_6e-6,
            7.362_034e-5,
            -9.973_747e-4,
            9.469_241e-3,
            -6.581_927e-2,
            3.986_286e-1,
        ] {
            result = result * square + factor;
        }
        *value *= 0.5 + near * result;
    }
}

#[inline(always)]
pub fn gelu(values: &mut [f32]) {
    for value in values {
        // The error function by formula 7.1.26 of Abramowitz and Stegun, to 1.5e-7.
        let at = value.abs() * std::f32::consts::FRAC_1_SQRT_2;
        let t = 1.0 / (1.0 + 0.327_591_1 * at);
        let mut tail = 1.061_405_4_f32;
        for factor in [-1.453_152, 1.421_413_8, -0.284_496_74, 0.254_829_6] {
            tail = tail * t + factor;
        }
        tail *= t * exp(-at * at);
        *value *= if *value < 0.0 { 0.5 * tail } else { 1.0 - 0.5 * tail };
    }
}

#[inline(always)]
pub fn gelu_tanh(values: &mut [f32]) {
    for value in values {
        // v · (1 + tanh u) / 2 is v / (1 + e^-2u).
        let u = 0.797_884_6 * (*value + 0.044_715 * *value * *value * *value);
        *value /= 1.0 + exp(least(-2.0 * u, 80.0));
    }
}

#[inline(always)]
pub fn relu(values: &mut [f32]) {
    for value in values {
        *value = greatest(*value, 0.0);
    }
}

#[inline(always)]
pub fn add_and_normalise(row: &mut [f32], added: &[f32], weights: &[f32], bias: &[f32], epsilon: f32) {
    add(row, added);
    let count = row.len() as f32;
    let mean = sum(row) / count;
    let variance = fold(row, 0.0, |value| (value - mean) * (value - mean), |a, b| a + b) / count;
    let factor = 1.0 / (variance + epsilon).sqrt();
    for ((value, &weight), &bias) in row.iter_mut().zip(weights).zip(bias) {
        *value = (*value - mean) * factor * weight + bias;
    }
}

#[inline(always)]
pub fn add(values: &mut [f32], added: &[f32]) {
    for (value, &added) in values.iter_mut().zip(added) {
        *value += added;
    }
}

#[inline(always)]
pub fn greater(values: &mut [f32], others: &[f32]) {
    for (value, &other) in values.iter_mut().zip(others) {
        *value = greatest(*value, other);
    }
}

#[inline(always)]
pub fn from_nibbles(row: &[u8], out: &mut [f32]) {
    let (grids, bits) = row.split_at(out.len() / 32 * 4);
    for ((grid, bits), out) in grids.chunks_exact(4).zip(bits.chunks_exact(16)).zip(out.chunks_exact_mut(32)) {
        let step = crate::weights::from_half(u16::from_le_bytes([grid[0], grid[1]]));
        let least = crate::weights::from_half(u16::from_le_bytes([grid[2], grid[3]]));
        let (low, high) = out.split_at_mut(16);
        for ((low, high), &byte) in low.iter_mut().zip(high).zip(bits) {
            *low = f32::from(byte & 15) * step + least;
            *high = f32::from(byte >> 4) * step + least;
        }
    }
}
