//! What is left of a token besides its centre, in a few bits a dimension.

use super::principal::directions;
use crate::vector::codes::MIDDLE;
use crate::vector::means::product;

/// The number of times that levels move to the mean of what they stand for.
const ROUNDS: usize = 30;

/// Returns the values that codes of some bits stand for, in order: those with the least mean square distance to a sample of what they are to stand
/// for (Lloyd, 1982). They begin as the middles of parts of equal size.
fn levels(sample: &mut [f32], bits: u32) -> Vec<f32> {
    let count = 1_usize << bits;
    sample.sort_unstable_by(f32::total_cmp);
    let middle = |part: usize| sample.get((2 * part + 1) * sample.len() / (2 * count)).copied().unwrap_or(0.0);
    let mut levels: Vec<f32> = (0..count).map(middle).collect();
    for _ in 0..ROUNDS {
        let mut start = 0;
        let mut moved = levels.clone();
        for (at, level) in moved.iter_mut().enumerate() {
            let bound = levels.get(at + 1).map(|next| f32::midpoint(levels[at], *next));
            let end =
                bound.map_or(sample.len(), |bound| start + sample[start..].partition_point(|value| *value <= bound));
            if end > start {
                let sum: f64 = sample[start..end].iter().map(|value| f64::from(*value)).sum();
                *level = (sum / (end - start) as f64) as f32;
            }
            start = end;
        }
        levels = moved;
    }
    levels
}

/// Writes the code of each value: the number of the nearest level.
fn encode(values: impl Iterator<Item = f32>, levels: &[f32], bits: u32, to: &mut Vec<u8>) {
    let (mut byte, mut filled) = (0_u8, 0);
    for value in values {
        let above = levels.partition_point(|level| *level < value);
        let code = match (above.checked_sub(1).map(|at| levels[at]), levels.get(above)) {
            (Some(below), Some(next)) if value - below <= next - value => above - 1,
            (Some(_), None) => above - 1,
            _ => above,
        };
        byte |= (code as u8) << filled;
        filled += bits;
        if filled == 8 {
            to.push(byte);
            (byte, filled) = (0, 0);
        }
    }
    if filled > 0 {
        to.push(byte);
    }
}

/// Returns the values of a code.
fn decode<'a>(codes: &'a [u8], levels: &'a [f32], bits: u32) -> impl Iterator<Item = f32> + 'a {
    let mask = (1_u8 << bits) - 1;
    codes.iter().flat_map(move |&byte| (0..8 / bits).map(move |at| levels[usize::from(byte >> (at * bits) & mask)]))
}

/// The bits that a dimension may have, besides none.
const BITS: [u32; 3] = [4, 2, 1];
/// The share of the variance of a dimension that is lost with these bits, and with none (Max, 1960).
const LOST: [f64; 4] = [0.0095, 0.1175, 0.3634, 1.0];
/// Bits are allotted to so many dimensions at a time.
const GROUP: usize = 8;

/// How many dimensions have four, two and one bit, in this order; the others have none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Allotment(pub [usize; 3]);

impl Allotment {
    /// Gives each dimension the same number of bits.
    pub(super) fn even(dimensions: usize, bits: u32) -> Self {
        Self(BITS.map(|own| if own == bits { dimensions } else { 0 }))
    }

    /// Gives the dimensions, of which the first varies most, `bits` bits on average, so that least is lost: the allotment of Huang and Schultheiss (1963)
    /// for these numbers of bits.
    fn of(variances: &[f64], bits: u32) -> Self {
        let groups: Vec<f64> = variances.chunks(GROUP).map(|group| group.iter().sum()).collect();
        let budget = bits as usize * groups.len();
        let mut best = (f64::INFINITY, [0; 3]);
        for four in 0..=budget / 4 {
            for two in 0..=(budget - 4 * four) / 2 {
                let one = budget - 4 * four - 2 * two;
                if four + two + one > groups.len() && one > 0 {
                    continue;
                }
                let bounds = [four, four + two, four + two + one];
                let part = |at: usize| bounds.iter().position(|bound| at < *bound).unwrap_or(3);
                let lost: f64 = groups.iter().enumerate().map(|(at, variance)| variance * LOST[part(at)]).sum();
                if lost < best.0 {
                    best = (lost, [four, two, one].map(|count| count * GROUP));
                }
            }
        }
        // More than there are dimensions would be bytes for nothing.
        let [four, two, one] = best.1;
        let four = four.min(groups.len() * GROUP);
        let two = two.min(groups.len() * GROUP - four);
        Self([four, two, one])
    }

    /// Returns the bytes of a code.
    pub(super) fn bytes(self) -> usize {
        self.parts().map(|(_, count, bits)| (count * bits as usize).div_ceil(8)).sum()
    }

    /// Returns the parts: the first dimension, their number, and their bits.
    fn parts(self) -> impl Iterator<Item = (usize, usize, u32)> {
        let mut start = 0;
        self.0.into_iter().zip(BITS).map(move |(count, bits)| {
            start += count;
            (start - count, count, bits)
        })
    }
}

/// How what is left of a token becomes codes: the directions in which it is looked at, the scale of each, how many bits each has, and the levels of
/// what is divided by the scales.
#[derive(Debug)]
pub(super) struct Quantiser {
    pub dimensions: usize,
    /// The directions, one after the other; empty if they are those of the vectors.
    pub directions: Vec<f32>,
    /// The scale of each direction.
    pub scales: Vec<f32>,
    pub allotment: Allotment,
    /// The levels of four, two and one bit.
    pub levels: [Vec<f32>; 3],
}

impl Quantiser {
    /// The most dimensions that are turned: turning costs a product of each two.
    pub(super) const MAX_TURNED: usize = 256;

    /// Makes a quantiser from a sample of what is left of tokens, one after the other.
    pub(super) fn new(sample: &[f32], dimensions: usize, bits: u32) -> Self {
        let turns = dimensions <= Self::MAX_TURNED && sample.len() >= dimensions;
        let directions = if turns { directions(sample, dimensions) } else { Vec::new() };
        let mut quantiser = Self {
            dimensions,
            directions,
            scales: Vec::new(),
            allotment: Allotment::even(dimensions, bits),
            levels: [const { Vec::new() }; 3],
        };
        let mut turned: Vec<f32> = sample.chunks_exact(dimensions).flat_map(|token| quantiser.turned(token)).collect();
        let mut variances = vec![0.0_f64; dimensions];
        for token in turned.chunks_exact(dimensions) {
            token.iter().zip(&mut variances).for_each(|(number, sum)| *sum += f64::from(*number).powi(2));
        }
        let count = (turned.len() / dimensions).max(1) as f64;
        // What hardly varies has a scale all the same, so that dividing by it makes nothing large.
        let largest = variances.iter().fold(0.0_f64, |largest, sum| largest.max(*sum));
        let scale = |sum: &f64| ((sum.max(1e-6 * largest) / count).sqrt() as f32).max(f32::MIN_POSITIVE);
        quantiser.scales = variances.iter().map(scale).collect();
        if turns && dimensions.is_multiple_of(GROUP) {
            quantiser.allotment = Allotment::of(&variances, bits);
        }
        for token in turned.chunks_exact_mut(dimensions) {
            token.iter_mut().zip(&quantiser.scales).for_each(|(number, scale)| *number /= scale);
            let size = root_mean_square(token).max(f32::MIN_POSITIVE);
            token.iter_mut().for_each(|number| *number /= size);
        }
        quantiser.levels = BITS.map(|bits| levels(&mut turned, bits));
        quantiser
    }

    /// Returns a vector in the directions of the codes.
    pub(super) fn turned(&self, vector: &[f32]) -> Vec<f32> {
        match self.directions.is_empty() {
            true => vector.to_vec(),
            false => {
                self.directions.chunks_exact(self.dimensions).map(|direction| product(direction, vector)).collect()
            }
        }
    }

    /// Returns a vector as it was before it was [turned](Self::turned).
    pub(super) fn turned_back(&self, vector: &[f32]) -> Vec<f32> {
        if self.directions.is_empty() {
            return vector.to_vec();
        }
        let mut back = vec![0.0; self.dimensions];
        for (direction, number) in self.directions.chunks_exact(self.dimensions).zip(vector) {
            back.iter_mut().zip(direction).for_each(|(sum, part)| *sum += part * number);
        }
        back
    }

    /// Appends the code of what is left of a token, turned, and returns the scale of the token.
    pub(super) fn encode(&self, rest: &[f32], to: &mut Vec<u8>) -> f32 {
        let scaled: Vec<f32> = rest.iter().zip(&self.scales).map(|(number, scale)| number / scale).collect();
        let size = root_mean_square(&scaled);
        let start = to.len();
        let by = if size > 0.0 { 1.0 / size } else { 0.0 };
        for ((first, count, bits), levels) in self.allotment.parts().zip(&self.levels) {
            let part = scaled.iter().skip(first).take(count).map(|number| number * by);
            encode(part, levels, bits, to);
        }
        // The scale with the least square distance to these codes, in which a dimension counts by its size.
        let (mut with, mut of) = (0.0_f64, 0.0_f64);
        for (number, level) in rest.iter().zip(self.decode(&to[start..], 1.0)) {
            with += f64::from(*number) * f64::from(level);
            of += f64::from(level) * f64::from(level);
        }
        if size > 0.0 && of > 0.0 { (with / of).max(0.0) as f32 } else { 0.0 }
    }

    /// Returns the values of a code of a token with some scale, turned.
    pub(super) fn decode(&self, code: &[u8], scale: f32) -> Vec<f32> {
        let mut values = Vec::with_capacity(self.dimensions);
        let mut rest = code;
        for ((_, count, bits), levels) in self.allotment.parts().zip(&self.levels) {
            let (part, after) = rest.split_at((count * bits as usize).div_ceil(8).min(rest.len()));
            values.extend(decode(part, levels, bits).take(count));
            rest = after;
        }
        values.resize(self.dimensions, 0.0);
        values.iter_mut().zip(&self.scales).for_each(|(value, of_dimension)| *value *= of_dimension * scale);
        values
    }
}

fn root_mean_square(numbers: &[f32]) -> f32 {
    let sum: f64 = numbers.iter().map(|number| f64::from(*number).powi(2)).sum();
    (sum / numbers.len().max(1) as f64).sqrt() as f32
}

/// What the bytes of a code stand for, in eight bits a number: the codes of [`write_row`](crate::vector::codes::write_row), of one scale.
pub(super) struct ByteLevels {
    allotment: Allotment,
    /// For each byte of four, two and one bit, as many numbers as it has; the rest is not used.
    numbers: [Vec<[u8; 8]>; 3],
    /// The value of one unit.
    pub scale: f32,
}

impl ByteLevels {
    pub(super) fn new(quantiser: &Quantiser) -> Self {
        let used = || quantiser.allotment.0.iter().zip(&quantiser.levels).filter(|(count, _)| **count > 0);
        let largest = used().flat_map(|(_, levels)| levels).fold(0.0_f32, |largest, level| largest.max(level.abs()));
        let scale = largest.max(f32::MIN_POSITIVE) / 127.0;
        // A level that no dimension uses may be of any size in a damaged file.
        let unit = |level: f32| ((level / scale).round() as i32).saturating_add(MIDDLE).clamp(0, 255) as u8;
        let table = |(bits, levels): (u32, &Vec<f32>)| -> Vec<[u8; 8]> {
            let number = |byte: u8, at: u32| levels.get(usize::from(byte >> (at * bits)) & ((1 << bits) - 1));
            let numbers = (0..=u8::MAX).map(|byte| {
                let mut all = [MIDDLE as u8; 8];
                (0..8 / bits)
                    .zip(&mut all)
                    .for_each(|(at, unit_of)| *unit_of = number(byte, at).map_or(0, |level| unit(*level)));
                all
            });
            numbers.collect()
        };
        let [four, two, one] = &quantiser.levels;
        let numbers = [table((4, four)), table((2, two)), table((1, one))];
        Self { allotment: quantiser.allotment, numbers, scale }
    }

    /// Writes the numbers of a code to the front of `to`, which has room for them, and zeros behind them.
    pub(super) fn decode(&self, code: &[u8], to: &mut [u8]) {
        let (mut code, mut to) = (code, to);
        for ((_, count, bits), numbers) in self.allotment.parts().zip(&self.numbers) {
            let (part, after) = code.split_at((count * bits as usize).div_ceil(8).min(code.len()));
            let length = (part.len() * 8 / bits as usize).min(to.len());
            let (own, rest) = std::mem::take(&mut to).split_at_mut(length);
            match bits {
                4 => decode_by::<2>(numbers, part, own),
                2 => decode_by::<4>(numbers, part, own),
                _ => decode_by::<8>(numbers, part, own),
            }
            (code, to) = (after, rest);
        }
        to.fill(MIDDLE as u8);
    }
}

fn decode_by<const PER_BYTE: usize>(numbers: &[[u8; 8]], code: &[u8], to: &mut [u8]) {
    for (byte, to) in code.iter().zip(to.as_chunks_mut::<PER_BYTE>().0) {
        to.copy_from_slice(&numbers[usize::from(*byte)][..PER_BYTE]);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn levels_that_are_not_used_may_be_of_any_size() {
        let levels = [vec![f32::MAX; 16], vec![-0.5, -0.1, 0.1, 0.5], vec![-0.3, 0.3]];
        let (directions, scales) = (Vec::new(), vec![1.0; 8]);
        let quantiser = Quantiser { dimensions: 8, directions, scales, allotment: Allotment([0, 8, 0]), levels };
        let mut numbers = [0; 8];
        ByteLevels::new(&quantiser).decode(&[0b1110_0100, 0], &mut numbers);
        assert_eq!(numbers[..4].to_vec(), [1, 103, 153, 255], "from the lowest bits on");
    }

    proptest! {
        #[test]
        fn a_code_stands_for_the_nearest_levels_in_numbers_and_in_bytes(
            values in prop::collection::vec(-1.0_f32..1.0, 64..400), bits in prop::sample::select(vec![1_u32, 2, 4]),
        ) {
            let dimensions = 16;
            let values = &values[..values.len() / dimensions * dimensions];
            let quantiser = Quantiser::new(values, dimensions, bits);
            prop_assert!(quantiser.allotment.bytes() <= dimensions * bits as usize / 8);
            let in_bytes = ByteLevels::new(&quantiser);
            for token in values.chunks_exact(dimensions) {
                let turned = quantiser.turned(token);
                let back = quantiser.turned_back(&turned);
                prop_assert!(back.iter().zip(token).all(|(a, b)| (a - b).abs() < 1e-4), "turning loses nothing");
                let mut code = Vec::new();
                let scale = quantiser.encode(&turned, &mut code);
                let decoded = quantiser.decode(&code, scale);
                let distance = |of: &[f32]| turned.iter().zip(of).map(|(a, b)| (a - b).powi(2)).sum::<f32>();
                prop_assert!(distance(&decoded) <= distance(&[0.0; 16]) + 1e-5, "no code is worse than nothing");
                let mut numbers = vec![7_u8; 64];
                in_bytes.decode(&code, &mut numbers);
                for (at, decoded) in decoded.iter().enumerate() {
                    let unit = in_bytes.scale * quantiser.scales[at] * scale;
                    let value = (i32::from(numbers[at]) - MIDDLE) as f32 * unit;
                    prop_assert!((value - decoded).abs() <= unit * 0.51 + 1e-6, "{decoded} became {value}");
                }
            }
        }
    }
}
