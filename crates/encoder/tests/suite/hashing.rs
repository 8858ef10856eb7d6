//! The hashing encoder through its trait.

use logothete_core::vector::{Encoder, Role};
use logothete_encoder::Hashing;
use proptest::prelude::*;
use rstest::rstest;

fn vector(text: &str) -> Vec<f32> {
    let vectors = Hashing::default().encode(&[text], Role::Passage).expect("hashing never fails");
    vectors.iter().next().expect("one text, one vector").to_vec()
}

fn cosine(a: &str, b: &str) -> f32 {
    let (a, b) = (vector(a), vector(b));
    let dot = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f32>();
    dot(&a, &b) / (dot(&a, &a) * dot(&b, &b)).sqrt().max(1e-9)
}

#[rstest]
#[case("mooring lines", "moored to a line", "harbour dues")]
#[case("dredging the chanel", "dredging the channel", "drinking water")]
#[case("Fog signal", "FOG SIGNALS", "frog pond")]
fn the_nearer_text_is_nearer(#[case] text: &str, #[case] near: &str, #[case] far: &str) {
    assert!(cosine(text, near) > cosine(text, far) + 0.1, "{} {}", cosine(text, near), cosine(text, far));
}

#[rstest]
#[case("")]
#[case("the and of")]
#[case("\u{0}\u{1}\u{2}")]
fn nothing_to_encode_is_all_zeros(#[case] text: &str) {
    assert!(vector(text).iter().all(|value| *value == 0.0));
}

#[test]
fn a_megabyte_of_one_word_is_finite() {
    assert!(vector(&"tide".repeat(250_000)).iter().all(|value| value.is_finite()));
}

#[rstest]
#[case(15, false)]
#[case(16, true)]
#[case(65_536, true)]
#[case(65_537, false)]
fn dimensions_have_bounds(#[case] dimensions: usize, #[case] fine: bool) {
    assert_eq!(Hashing::new(dimensions).is_ok(), fine);
}

proptest! {
    #[test]
    fn a_vector_does_not_depend_on_its_neighbours(texts in prop::collection::vec(".{0,40}", 1..6)) {
        let all: Vec<&str> = texts.iter().map(String::as_str).collect();
        let together = Hashing::default().encode(&all, Role::Passage).expect("hashing never fails");
        prop_assert_eq!(together.len(), texts.len());
        for (text, found) in texts.iter().zip(together.iter()) {
            prop_assert_eq!(vector(text), found.to_vec());
        }
    }
}
