//! Every way of doing the arithmetic gives the same numbers as the plainest one.

use logothete_core::vector::{Encoder, Role};
use logothete_encoder::SentenceEncoder;
use logothete_encoder::internals::{Kernel, ROWS, Sums, TileLayout, WIDE};
use proptest::prelude::*;

/// Rows of a length that is a multiple of four, and a panel for them.
fn bytes() -> impl Strategy<Value = (usize, usize, Vec<u8>, Vec<i8>)> {
    (1..=ROWS, 1_usize..40).prop_flat_map(|(count, steps)| {
        // The ends of the ranges come often: that is where instructions saturate.
        let input = prop_oneof![4 => any::<u8>(), 1 => Just(0_u8), 2 => Just(255)];
        let weight = prop_oneof![4 => -127_i8..=127, 1 => Just(-127_i8), 1 => Just(127), 1 => Just(-128)];
        let inputs = proptest::collection::vec(input, count * steps * 4);
        let weights = proptest::collection::vec(weight, steps * 4 * WIDE);
        (Just(count), Just(steps * 4), inputs, weights)
    })
}

fn shorts() -> impl Strategy<Value = (usize, usize, Vec<i16>, Vec<i16>)> {
    (1..=ROWS, 1_usize..40).prop_flat_map(|(count, steps)| {
        let number = prop_oneof![4 => any::<i16>(), 1 => Just(i16::MIN), 1 => Just(i16::MAX)];
        let inputs = proptest::collection::vec(number.clone(), count * steps * 2);
        let weights = proptest::collection::vec(number, steps * 2 * WIDE);
        (Just(count), Just(steps * 2), inputs, weights)
    })
}

proptest! {
    #[test]
    fn products_of_bytes((count, stride, rows, panel) in bytes()) {
        let mut expected = Sums::default();
        for (row, sums) in expected.0.iter_mut().enumerate().take(count) {
            for (output, sum) in sums.iter_mut().enumerate() {
                *sum = (0..stride)
                    .map(|k| i32::from(rows[row * stride + k]) * i32::from(panel[k / 4 * WIDE * 4 + output * 4 + k % 4]))
                    .sum();
            }
        }
        for kernel in Kernel::all() {
            let mut sums = Sums::default();
            kernel.multiply_bytes(&rows, stride, count, &panel, sums.flat(), TileLayout::TILE);
            prop_assert_eq!(&sums.0, &expected.0, "{}", kernel.name());
        }
    }

    #[test]
    fn products_of_shorts((count, stride, rows, panel) in shorts()) {
        let mut expected = Sums::default();
        for (row, sums) in expected.0.iter_mut().enumerate().take(count) {
            for (output, sum) in sums.iter_mut().enumerate() {
                *sum = (0..stride)
                    .map(|k| i32::from(rows[row * stride + k]) * i32::from(panel[k / 2 * WIDE * 2 + output * 2 + k % 2]))
                    .fold(0, i32::wrapping_add);
            }
        }
        for kernel in Kernel::all() {
            let mut sums = Sums::default();
            kernel.multiply_shorts(&rows, stride, count, &panel, sums.flat(), TileLayout::TILE);
            prop_assert_eq!(&sums.0, &expected.0, "{}", kernel.name());
        }
    }

    #[test]
    fn numbers_between_products(
        values in proptest::collection::vec(-30.0_f32..30.0, 1..100),
        sums in proptest::collection::vec(-2_000_000_000_i32..2_000_000_000, 1..100),
        factor in 1e-12_f32..1e-8,
    ) {
        let through = |kernel: Kernel| {
            let mut bytes = vec![0; values.len()];
            let grid = kernel.to_bytes(&values, &mut bytes);
            let (mut softmax, mut gelu, mut tanh) = (values.clone(), values.clone(), values.clone());
            kernel.softmax(&mut softmax);
            kernel.gelu(&mut gelu);
            kernel.gelu_tanh(&mut tanh);
            let mut normal = values.clone();
            kernel.add_and_normalise(&mut normal, &values, &values, &values, 1e-12);
            let room = sums.len().next_multiple_of(WIDE);
            let (mut exponentials, mut shares) = (vec![0.0; room], vec![0; room]);
            let mut padded = sums.clone();
            padded.resize(room, i32::MAX);
            let total = kernel.shares(&mut padded, sums.len(), factor, &mut exponentials, &mut shares);
            shares.truncate(sums.len());
            (bytes, grid.step, grid.least, softmax, gelu, tanh, normal, shares, total)
        };
        let plain = through(Kernel::portable());
        for kernel in Kernel::all() {
            prop_assert_eq!(through(kernel), plain.clone(), "{}", kernel.name());
        }
        // And the numbers are right.
        for (index, &value) in values.iter().enumerate() {
            let back = f32::from(plain.0[index]) * plain.1 + plain.2;
            prop_assert!((back - value).abs() <= plain.1 * 0.501 + 1e-5, "{value} came back as {back}");
            let exact = f64::from(value) * 0.5 * (1.0 + erf(f64::from(value) / 2.0_f64.sqrt()));
            prop_assert!((f64::from(plain.4[index]) - exact).abs() < 1e-5, "gelu {value}: {} {exact}", plain.4[index]);
        }
        prop_assert!((plain.3.iter().sum::<f32>() - 1.0).abs() < 1e-5);
        prop_assert_eq!(plain.7.iter().map(|&share| i32::from(share)).sum::<i32>(), plain.8, "none goes to what is behind");
        prop_assert!((plain.8 - 32767).unsigned_abs() as usize <= sums.len(), "the shares add up: {}", plain.8);
    }
}

/// The error function by its series, and by its continued fraction far out.
fn erf(x: f64) -> f64 {
    if x.abs() > 5.0 {
        return x.signum();
    }
    let (mut term, mut sum) = (x, x);
    for n in 1..200 {
        term *= -x * x / f64::from(n);
        sum += term / f64::from(2 * n + 1);
    }
    sum * 2.0 / std::f64::consts::PI.sqrt()
}

const TEXTS: [&str; 5] =
    ["The lock gate is shut.", "", "Dues are payable within 30 days.", "Fog", "Where may a vessel of 85 metres berth?"];

#[test]
fn vectors_are_the_same_on_every_way() {
    let vectors = |kernel: Kernel| {
        let encoder = SentenceEncoder::embedded().expect("embedded").with_kernel(kernel);
        encoder.encode(&TEXTS, Role::Passage).expect("vectors")
    };
    let plain = vectors(Kernel::portable());
    for kernel in Kernel::all() {
        assert_eq!(vectors(kernel), plain, "{}", kernel.name());
    }
}

#[test]
fn a_vector_does_not_depend_on_what_is_encoded_beside_it() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    let many: Vec<String> =
        (0..40).map(|number| format!("{} {}", TEXTS[number % 5], "berth ".repeat(number * 3))).collect();
    let many: Vec<&str> = many.iter().map(String::as_str).collect();
    let together = encoder.encode(&many, Role::Passage).expect("vectors");
    for (text, vector) in many.iter().zip(together.iter()) {
        let alone = encoder.encode(&[text], Role::Passage).expect("a vector");
        assert_eq!(alone.iter().next(), Some(vector), "{text:?}");
    }
}
