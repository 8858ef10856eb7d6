//! Every function in plain Rust. The portable kernel runs them as they are. For the other kernels they are compiled again with wider
//! instructions, except for the products, which have code of their own.

// The functions are compiled into each caller, with its instructions.
#![allow(clippy::inline_always)]
// Loops over indices compile well in every profile; chains of iterators do not always.
#![allow(clippy::needless_range_loop)]

use super::activation::Activation;
use super::layout::{BYTES, Finish, Grid, LANES, ROWS, SHORTS, Sums, TileLayout, WIDE};

/// Rounds a number to the nearest integer when it is added and subtracted, ties to even; the low bits are that integer.
const ROUND: f32 = 12_582_912.0;

/// Returns the nearest integer of a number below 2²² in size.
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

/// Folds `values` by an operation, in lanes. The order does not depend on the processor.
macro_rules! fold {
    ($values:expr, $start:expr, |$value:ident| $each:expr, $join:ident) => {{
        let values: &[f32] = $values;
        let mut lanes = [$start; LANES];
        let whole = values.len() / LANES * LANES;
        let mut at = 0;
        while at < whole {
            let chunk = &values[at..at + LANES];
            for lane in 0..LANES {
                let $value = chunk[lane];
                lanes[lane] = $join(lanes[lane], $each);
            }
            at += LANES;
        }
        let rest = &values[whole..];
        for lane in 0..rest.len() {
            let $value = rest[lane];
            lanes[lane] = $join(lanes[lane], $each);
        }
        // The lanes are stored before they are folded, so that the loop above keeps them in whole registers.
        let lanes = std::hint::black_box(lanes);
        let mut sixteen = [0.0; 16];
        for lane in 0..16 {
            sixteen[lane] = $join(lanes[lane], lanes[lane + 16]);
        }
        let mut eight = [0.0; 8];
        for lane in 0..8 {
            eight[lane] = $join(sixteen[lane], sixteen[lane + 8]);
        }
        let mut four = [0.0; 4];
        for lane in 0..4 {
            four[lane] = $join(eight[lane], eight[lane + 4]);
        }
        $join($join(four[0], four[2]), $join(four[1], four[3]))
    }};
}

#[inline(always)]
fn plus(a: f32, b: f32) -> f32 {
    a + b
}

#[inline(always)]
fn sum(values: &[f32]) -> f32 {
    fold!(values, 0.0, |value| value, plus)
}

/// Returns e to the power of a number of -87 to 88; below, nearly zero. The relative error is under 3e-7.
#[inline(always)]
fn exp(value: f32) -> f32 {
    let power = greatest(value * std::f32::consts::LOG2_E, -126.0);
    let shifted = power + ROUND;
    let part = power - (shifted - ROUND);
    // The polynomial of degree 5 through the Chebyshev nodes of 2^part on -1/2 to 1/2.
    let mut result = 1.326_697e-3_f32.mul_add(part, 9.675_46e-3);
    result = result.mul_add(part, 5.550_742_5e-2);
    result = result.mul_add(part, 2.402_212_2e-1);
    result = result.mul_add(part, 6.931_469_5e-1);
    result = result.mul_add(part, 1.0);
    // The low bits of `shifted` are the integer part, which goes into the exponent.
    f32::from_bits(result.to_bits().wrapping_add(shifted.to_bits() << 23))
}

#[inline(always)]
pub fn to_bytes(values: &[f32], bytes: &mut [u8]) -> Grid {
    let mut ranges = [[f32::INFINITY; LANES], [f32::NEG_INFINITY; LANES]];
    let whole = values.len() / LANES * LANES;
    let mut at = 0;
    while at < whole {
        let chunk = &values[at..at + LANES];
        for lane in 0..LANES {
            ranges[0][lane] = least(ranges[0][lane], chunk[lane]);
            ranges[1][lane] = greatest(ranges[1][lane], chunk[lane]);
        }
        at += LANES;
    }
    let ranges = std::hint::black_box(ranges);
    let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
    for lane in 0..LANES {
        low = least(low, ranges[0][lane]);
        high = greatest(high, ranges[1][lane]);
    }
    for &value in &values[whole..] {
        low = least(low, value);
        high = greatest(high, value);
    }
    let range = high - low;
    let factor = if range > 0.0 { 255.0 / range } else { 0.0 };
    let bytes = &mut bytes[..values.len()];
    for at in 0..values.len() {
        bytes[at] = round_to_int((values[at] - low) * factor) as u8;
    }
    Grid { step: if range > 0.0 { range / 255.0 } else { 0.0 }, least: if low.is_finite() { low } else { 0.0 } }
}

#[inline(always)]
pub fn farthest(rows: &[f32], farthest: &mut [f32]) {
    let length = farthest.len();
    farthest.fill(0.0);
    for row in rows.chunks_exact(length) {
        for at in 0..length {
            farthest[at] = greatest(farthest[at], row[at].abs());
        }
    }
}

#[inline(always)]
pub fn rows_to_shorts(rows: &[f32], stride: usize, width: usize, factor: f32, out: &mut [i16], out_stride: usize) {
    for (row, out) in rows.chunks(stride).zip(out.chunks_exact_mut(out_stride)) {
        let (row, out) = (&row[..width], &mut out[..width]);
        for at in 0..width {
            out[at] = round_to_int(row[at] * factor) as i16;
        }
    }
}

/// Returns a row's next numbers as 16-bit integers, padded with zeros.
#[inline(always)]
fn to_shorts(numbers: &[f32], factor: f32) -> [i16; WIDE] {
    let mut shorts = [0; WIDE];
    if let Some(numbers) = numbers.first_chunk::<WIDE>() {
        for at in 0..WIDE {
            shorts[at] = round_to_int(numbers[at] * factor) as i16;
        }
    } else {
        for at in 0..numbers.len() {
            shorts[at] = round_to_int(numbers[at] * factor) as i16;
        }
    }
    shorts
}

#[inline(always)]
pub fn rows_to_outputs(rows: &[f32], stride: usize, width: usize, factor: f32, panels: &mut [i16]) {
    let length = width.div_ceil(SHORTS) * WIDE * SHORTS;
    for (token, row) in rows.chunks(stride).enumerate() {
        let panel = &mut panels[token / WIDE * length..][..length];
        let column = token % WIDE * SHORTS;
        for (part, steps) in row[..width].chunks(WIDE).zip(panel.chunks_mut(WIDE / SHORTS * WIDE * SHORTS)) {
            let shorts = to_shorts(part, factor);
            for (step, shorts) in steps.chunks_exact_mut(WIDE * SHORTS).zip(shorts.as_chunks::<SHORTS>().0) {
                step[column..][..SHORTS].copy_from_slice(shorts);
            }
        }
    }
}

#[inline(always)]
pub fn rows_to_inputs(rows: &[f32], stride: usize, width: usize, factor: f32, panels: &mut [i16]) {
    let steps = rows.len().div_ceil(stride).div_ceil(SHORTS);
    for (step, pair) in rows.chunks(stride * SHORTS).enumerate() {
        // A single row at the end is paired with zeros.
        let (first, second) = pair.split_at(stride.min(pair.len()));
        let second = second.get(..width).unwrap_or_default();
        for (at, panel) in panels.chunks_exact_mut(steps * WIDE * SHORTS).take(width.div_ceil(WIDE)).enumerate() {
            let (from, to) = (at * WIDE, width.min((at + 1) * WIDE));
            let first = to_shorts(&first[from..to], factor);
            let second = to_shorts(second.get(from..to).unwrap_or_default(), factor);
            let step = &mut panel.as_chunks_mut::<{ WIDE * SHORTS }>().0[step];
            for at in 0..WIDE {
                step[at * SHORTS] = first[at];
                step[at * SHORTS + 1] = second[at];
            }
        }
    }
}

#[inline(always)]
pub fn multiply_bytes(rows: &[u8], stride: usize, count: usize, panel: &[i8], out: &mut [i32], at: TileLayout) {
    for row in 0..count {
        let mut sums = [0; WIDE];
        let inputs = &rows[row * stride..];
        for (inputs, step) in inputs.chunks_exact(BYTES).zip(panel.chunks_exact(WIDE * BYTES)) {
            for output in 0..WIDE {
                for input in 0..BYTES {
                    sums[output] += i32::from(inputs[input]) * i32::from(step[output * BYTES + input]);
                }
            }
        }
        out[row * at.stride + at.column..][..WIDE].copy_from_slice(&sums);
    }
}

#[inline(always)]
pub fn multiply_shorts(rows: &[i16], stride: usize, count: usize, panel: &[i16], out: &mut [i32], at: TileLayout) {
    for row in 0..count {
        let mut sums = [0_i32; WIDE];
        let inputs = &rows[row * stride..];
        for (inputs, step) in inputs.chunks_exact(SHORTS).zip(panel.chunks_exact(WIDE * SHORTS)) {
            for output in 0..WIDE {
                for input in 0..SHORTS {
                    let product = i32::from(inputs[input]) * i32::from(step[output * SHORTS + input]);
                    sums[output] = sums[output].wrapping_add(product);
                }
            }
        }
        out[row * at.stride + at.column..][..WIDE].copy_from_slice(&sums);
    }
}

#[inline(always)]
pub fn multiply_floats(rows: &[f32], stride: usize, count: usize, panel: &[f32], out: &mut [f32], at: TileLayout) {
    for row in 0..count {
        let mut sums = [0.0_f32; WIDE];
        let inputs = &rows[row * stride..];
        for (step, weights) in panel.chunks_exact(WIDE).enumerate() {
            let input = inputs[step];
            for output in 0..WIDE {
                sums[output] = input.mul_add(weights[output], sums[output]);
            }
        }
        out[row * at.stride + at.column..][..WIDE].copy_from_slice(&sums);
    }
}

#[inline(always)]
pub fn finish(
    sums: &Sums,
    grids: &[Grid],
    finish: Finish<'_>,
    activation: Option<Activation>,
    out: &mut [f32],
    at: TileLayout,
) {
    match activation {
        None => finish_rows(sums, grids, finish, |value| value, out, at),
        Some(Activation::Gelu) => finish_rows(sums, grids, finish, gelu_near, out, at),
        Some(Activation::GeluTanh) => finish_rows(sums, grids, finish, gelu_tanh_of, out, at),
        Some(Activation::Relu) => finish_rows(sums, grids, finish, |value| greatest(value, 0.0), out, at),
    }
}

#[inline(always)]
fn finish_rows(
    sums: &Sums,
    grids: &[Grid],
    finish: Finish<'_>,
    activation: impl Fn(f32) -> f32,
    out: &mut [f32],
    at: TileLayout,
) {
    for row in 0..grids.len().min(ROWS) {
        let (grid, sums) = (grids[row], &sums.0[row]);
        let out = &mut out[row * at.stride + at.column..(row + 1) * at.stride];
        match out.first_chunk_mut::<WIDE>() {
            Some(out) => finish_row(sums, grid, finish, &activation, out),
            None => {
                let mut whole = [0.0; WIDE];
                finish_row(sums, grid, finish, &activation, &mut whole);
                out.copy_from_slice(&whole[..out.len()]);
            }
        }
    }
}

#[inline(always)]
fn finish_row(
    sums: &[i32; WIDE],
    grid: Grid,
    finish: Finish<'_>,
    activation: &impl Fn(f32) -> f32,
    out: &mut [f32; WIDE],
) {
    for at in 0..WIDE {
        let product = grid.step.mul_add(sums[at] as f32, grid.least * finish.totals[at]);
        out[at] = activation(finish.scales[at].mul_add(product, finish.bias[at]));
    }
}

#[inline(always)]
pub fn shares(sums: &mut [i32], count: usize, factor: f32, exponentials: &mut [f32], shares: &mut [i16]) -> i32 {
    // Every loop runs over whole registers; numbers past the last sum get no share.
    let padded = count.next_multiple_of(WIDE);
    sums[count..padded].fill(i32::MIN);
    let (sums, exponentials, shares) = (&sums[..padded], &mut exponentials[..padded], &mut shares[..padded]);
    let mut most = i32::MIN;
    for at in 0..padded {
        most = if sums[at] > most { sums[at] } else { most };
    }
    for at in 0..padded {
        // Sums have 31 bits, so their differences have 32.
        exponentials[at] = exp((sums[at] as f32 - most as f32) * factor);
    }
    exponentials[count..].fill(0.0);
    let to_share = 32767.0 / sum(exponentials);
    let mut total = 0_i32;
    for at in 0..padded {
        let integer = round_to_int(exponentials[at] * to_share);
        total += integer;
        shares[at] = integer as i16;
    }
    total
}

#[inline(always)]
pub fn scale(sums: &Sums, factors: &[f32], width: usize, out: &mut [f32], at: TileLayout) {
    for row in 0..factors.len().min(ROWS) {
        let (factor, sums) = (factors[row], &sums.0[row]);
        let out = &mut out[row * at.stride + at.column..][..width];
        if let Some(out) = out.first_chunk_mut::<WIDE>() {
            for at in 0..WIDE {
                out[at] = sums[at] as f32 * factor;
            }
        } else {
            for at in 0..width {
                out[at] = sums[at] as f32 * factor;
            }
        }
    }
}

#[inline(always)]
pub fn softmax(values: &mut [f32]) {
    let most = fold!(values, f32::NEG_INFINITY, |value| value, greatest);
    for value in values.iter_mut() {
        *value = exp(*value - most);
    }
    let factor = 1.0 / sum(values);
    for value in values {
        *value *= factor;
    }
}

/// The normal distribution less a half is `v · P(v²)`: this is P on 0 to 16, by Chebyshev nodes.
const NEAR_GELU: [f32; 8] = [
    -1.245_189e-9,
    1.006_251_8e-7,
    -3.564_976_6e-6,
    7.362_034e-5,
    -9.973_747e-4,
    9.469_241e-3,
    -6.581_927e-2,
    3.986_286e-1,
];

/// Returns the Gaussian error linear unit to 3e-4, far below the precision of eight bits.
#[inline(always)]
fn gelu_near(value: f32) -> f32 {
    let near = least(greatest(value, -4.0), 4.0);
    let square = near * near;
    let mut result = NEAR_GELU[0];
    for at in 1..NEAR_GELU.len() {
        result = result.mul_add(square, NEAR_GELU[at]);
    }
    value * near.mul_add(result, 0.5)
}

#[inline(always)]
pub fn gelu(values: &mut [f32]) {
    for value in values {
        // The error function by formula 7.1.26 of Abramowitz and Stegun, to 1.5e-7.
        let at = value.abs() * std::f32::consts::FRAC_1_SQRT_2;
        let t = 1.0 / 0.327_591_1_f32.mul_add(at, 1.0);
        let mut tail = 1.061_405_4_f32.mul_add(t, -1.453_152);
        tail = tail.mul_add(t, 1.421_413_8);
        tail = tail.mul_add(t, -0.284_496_74);
        tail = tail.mul_add(t, 0.254_829_6);
        tail *= t * exp(-at * at);
        *value *= if *value < 0.0 { 0.5 * tail } else { 1.0 - 0.5 * tail };
    }
}

#[inline(always)]
fn gelu_tanh_of(value: f32) -> f32 {
    // v · (1 + tanh u) / 2 is v / (1 + e^-2u).
    let u = 0.797_884_6 * (value + 0.044_715 * value * value * value);
    value / (1.0 + exp(least(-2.0 * u, 80.0)))
}

#[inline(always)]
pub fn gelu_tanh(values: &mut [f32]) {
    for value in values {
        *value = gelu_tanh_of(*value);
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
    let length = row.len();
    let count = length as f32;
    let mean = sum(row) / count;
    let variance = fold!(row, 0.0, |value| (value - mean) * (value - mean), plus) / count;
    let factor = 1.0 / (variance + epsilon).sqrt();
    let (weights, bias) = (&weights[..length], &bias[..length]);
    for at in 0..length {
        row[at] = ((row[at] - mean) * factor).mul_add(weights[at], bias[at]);
    }
}

#[inline(always)]
pub fn add(values: &mut [f32], added: &[f32]) {
    let added = &added[..values.len()];
    for at in 0..values.len() {
        values[at] += added[at];
    }
}

#[inline(always)]
pub fn greater(values: &mut [f32], others: &[f32]) {
    let others = &others[..values.len()];
    for at in 0..values.len() {
        values[at] = greatest(values[at], others[at]);
    }
}

#[inline(always)]
pub fn unpack_nibbles(row: &[u8], out: &mut [f32]) {
    let (grids, bits) = row.split_at(out.len() / 32 * 4);
    for ((grid, bits), out) in grids.chunks_exact(4).zip(bits.chunks_exact(16)).zip(out.chunks_exact_mut(32)) {
        let step = crate::half::from_half(u16::from_le_bytes([grid[0], grid[1]]));
        let least = crate::half::from_half(u16::from_le_bytes([grid[2], grid[3]]));
        for at in 0..16 {
            out[at] = f32::from(bits[at] & 15).mul_add(step, least);
            out[at + 16] = f32::from(bits[at] >> 4).mul_add(step, least);
        }
    }
}
