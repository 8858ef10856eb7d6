//! What is left of a token besides its centre, in a few bits a dimension.

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

/// The products of a vector with every byte of a code: 256 for each byte.
pub(super) fn table(vector: &[f32], levels: &[f32], bits: u32) -> Vec<f32> {
    let (per_byte, mask) = ((8 / bits) as usize, (1_usize << bits) - 1);
    let mut table = vec![0.0; vector.len().div_ceil(per_byte) * 256];
    for (part, products) in vector.chunks(per_byte).zip(table.chunks_exact_mut(256)) {
        for (number, shift) in part.iter().zip((0..8).step_by(bits as usize)) {
            for (byte, product) in products.iter_mut().enumerate() {
                *product += levels[byte >> shift & mask] * number;
            }
        }
    }
    table
}

/// Returns the product of the vector of a table with what a code stands for.
pub(super) fn product(codes: &[u8], table: &[f32]) -> f32 {
    let (mut sums, bytes) = ([0.0_f32; 4], codes.chunks(4));
    for (bytes, tables) in bytes.zip(table.chunks(4 * 256)) {
        for ((sum, byte), table) in sums.iter_mut().zip(bytes).zip(tables.chunks_exact(256)) {
            *sum += table[usize::from(*byte)];
        }
    }
    sums.iter().sum()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_product_with_codes_is_that_with_what_they_stand_for(
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
            let vector: Vec<f32> = values.iter().rev().copied().collect();
            let plain: f32 = vector.iter().zip(&decoded).map(|(a, b)| a * b).sum();
            prop_assert!((product(&codes, &table(&vector, &levels, bits)) - plain).abs() < 1e-4);
        }
    }
}
