//! The directions in which vectors vary most.

/// The sweeps of the rotations at the most; eight are enough for a thousand dimensions.
const MAX_SWEEPS: usize = 12;

/// Returns the principal directions of some vectors about zero, one a row, that of the largest variance first (Pearson, 1901), by Jacobi's rotations (1846).
///
/// Costs a product of each two components of each vector, and a few times `dimensions` cubed.
pub(super) fn directions(vectors: &[f32], dimensions: usize) -> Vec<f32> {
    let mut matrix = covariance(vectors, dimensions);
    let mut rows: Vec<f64> =
        (0..dimensions * dimensions).map(|at| f64::from(u8::from(at % (dimensions + 1) == 0))).collect();
    for _ in 0..MAX_SWEEPS {
        let diagonal: f64 = (0..dimensions).map(|at| matrix[at * dimensions + at].abs()).sum();
        let beside: f64 = (0..dimensions)
            .map(|row| (0..row).map(|column| matrix[row * dimensions + column].abs()).sum::<f64>())
            .sum();
        if beside <= 1e-9 * diagonal {
            break;
        }
        for first in 0..dimensions {
            for second in first + 1..dimensions {
                rotate(&mut matrix, &mut rows, dimensions, first, second);
            }
        }
    }
    let mut order: Vec<usize> = (0..dimensions).collect();
    let variance = |at: usize| matrix[at * dimensions + at];
    order.sort_by(|a, b| variance(*b).total_cmp(&variance(*a)).then(a.cmp(b)));
    order.into_iter().flat_map(|row| rows[row * dimensions..][..dimensions].iter().map(|value| *value as f32)).collect()
}

fn covariance(vectors: &[f32], dimensions: usize) -> Vec<f64> {
    let mut matrix = vec![0.0_f64; dimensions * dimensions];
    for vector in vectors.chunks_exact(dimensions) {
        for (row, value) in vector.iter().enumerate() {
            let sums = &mut matrix[row * dimensions..][..dimensions];
            sums.iter_mut().zip(vector).for_each(|(sum, other)| *sum += f64::from(*value) * f64::from(*other));
        }
    }
    matrix
}

/// Makes the number at a place of a symmetric matrix zero, and turns the directions with it.
fn rotate(matrix: &mut [f64], rows: &mut [f64], dimensions: usize, first: usize, second: usize) {
    let beside = matrix[first * dimensions + second];
    if beside == 0.0 {
        return;
    }
    let theta = (matrix[second * dimensions + second] - matrix[first * dimensions + first]) / (2.0 * beside);
    let tangent = theta.signum() / (theta.abs() + (theta * theta + 1.0).sqrt());
    let tangent = if theta == 0.0 { 1.0 } else { tangent };
    let cosine = 1.0 / (tangent * tangent + 1.0).sqrt();
    let sine = tangent * cosine;
    for at in 0..dimensions {
        let (a, b) = (matrix[at * dimensions + first], matrix[at * dimensions + second]);
        matrix[at * dimensions + first] = cosine * a - sine * b;
        matrix[at * dimensions + second] = sine * a + cosine * b;
    }
    for at in 0..dimensions {
        let (a, b) = (matrix[first * dimensions + at], matrix[second * dimensions + at]);
        matrix[first * dimensions + at] = cosine * a - sine * b;
        matrix[second * dimensions + at] = sine * a + cosine * b;
        let (a, b) = (rows[first * dimensions + at], rows[second * dimensions + at]);
        rows[first * dimensions + at] = cosine * a - sine * b;
        rows[second * dimensions + at] = sine * a + cosine * b;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::directions;

    proptest! {
        #[test]
        fn directions_are_at_right_angles_and_of_length_1(values in prop::collection::vec(-1.0_f32..1.0, 24..120)) {
            let dimensions = 6;
            let found = directions(&values, dimensions);
            let dot = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f32>();
            let spread = |direction: &[f32]| values.chunks_exact(dimensions).map(|vector| dot(vector, direction).powi(2)).sum::<f32>();
            let rows: Vec<&[f32]> = found.chunks_exact(dimensions).collect();
            for (at, row) in rows.iter().enumerate() {
                for (other, second) in rows.iter().enumerate() {
                    let expected = if at == other { 1.0 } else { 0.0 };
                    prop_assert!((dot(row, second) - expected).abs() < 1e-4);
                }
            }
            let spreads: Vec<f32> = rows.iter().map(|row| spread(row)).collect();
            prop_assert!(spreads.windows(2).all(|pair| pair[0] >= pair[1] - 1e-3), "{spreads:?}");
        }
    }
}
