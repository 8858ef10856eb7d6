//! What is left of a token besides its centre, in a few bits a dimension.

use crate::vector::codes::MIDDLE;

/// The number of times that levels move to the mean of what they stand for.
const ROUNDS: usize = 30;

/// Returns the values that codes of some bits stand for, in order: those with the least mean square distance to a sample of what they are to stand
/// for (Lloyd, 1982). They begin as the middles of parts of equal size.
pub(super) fn levels(sample: &mut [f32], bits: u32) -> Vec<f32> {
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
pub(super) fn encode(values: impl Iterator<Item = f32>, levels: &[f32], bits: u32, to: &mut Vec<u8>) {
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
pub(super) fn decode<'a>(codes: &'a [u8], levels: &'a [f32], bits: u32) -> impl Iterator<Item = f32> + 'a {
    let mask = (1_u8 << bits) - 1;
    codes.iter().flat_map(move |&byte| (0..8 / bits).map(move |at| levels[usize::from(byte >> (at * bits) & mask)]))
}

/// What each byte of a code stands for, in eight bits a number: the codes of [`write_row`](crate::vector::codes::write_row), of one scale.
pub(super) struct ByteLevels {
    /// For each byte, as many numbers as it has; the rest is not used.
    numbers: Vec<[u8; 8]>,
    per_byte: usize,
    /// The value of one unit.
    pub scale: f32,
}

impl ByteLevels {
    pub(super) fn new(levels: &[f32], bits: u32) -> Self {
        let largest = levels.iter().fold(0.0_f32, |largest, level| largest.max(level.abs()));
        let scale = largest.max(f32::MIN_POSITIVE) / 127.0;
        let unit = |level: f32| ((level / scale).round() as i32 + MIDDLE) as u8;
        let number = |byte: u8, at: u32| levels.get(usize::from(byte >> (at * bits)) & ((1 << bits) - 1));
        let numbers = (0..=u8::MAX).map(|byte| {
            let mut all = [MIDDLE as u8; 8];
            (0..8 / bits)
                .zip(&mut all)
                .for_each(|(at, unit_of)| *unit_of = number(byte, at).map_or(0, |level| unit(*level)));
            all
        });
        Self { numbers: numbers.collect(), per_byte: (8 / bits) as usize, scale }
    }

    /// Writes the numbers of a code to the front of `to`, which has room for them.
    pub(super) fn decode(&self, code: &[u8], to: &mut [u8]) {
        match self.per_byte {
            2 => self.decode_by::<2>(code, to),
            4 => self.decode_by::<4>(code, to),
            _ => self.decode_by::<8>(code, to),
        }
    }

    fn decode_by<const PER_BYTE: usize>(&self, code: &[u8], to: &mut [u8]) {
        for (byte, to) in code.iter().zip(to.as_chunks_mut::<PER_BYTE>().0) {
            to.copy_from_slice(&self.numbers[usize::from(*byte)][..PER_BYTE]);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_code_stands_for_the_nearest_levels_in_numbers_and_in_bytes(
            values in prop::collection::vec(-1.0_f32..1.0, 1..40), which in 0_usize..3,
        ) {
            let bits = [1, 2, 4][which];
            let levels = levels(&mut values.clone(), bits);
            let mut codes = Vec::new();
            encode(values.iter().copied(), &levels, bits, &mut codes);
            let decoded: Vec<f32> = decode(&codes, &levels, bits).take(values.len()).collect();
            for (value, decoded) in values.iter().zip(&decoded) {
                let nearest = levels.iter().map(|level| (level - value).abs()).fold(f32::INFINITY, f32::min);
                prop_assert!(((decoded - value).abs() - nearest).abs() < 1e-6, "{value} became {decoded}");
            }
            let (in_bytes, mut numbers) = (ByteLevels::new(&levels, bits), vec![0_u8; 64]);
            in_bytes.decode(&codes, &mut numbers);
            for (number, decoded) in numbers.iter().zip(&decoded) {
                let value = (i32::from(*number) - MIDDLE) as f32 * in_bytes.scale;
                prop_assert!((value - decoded).abs() <= in_bytes.scale * 0.51, "{decoded} became {value}");
            }
        }
    }
}
