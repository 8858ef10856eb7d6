//! The embedded encoder beside a second implementation of the model as it was trained: see `bench/reference`.

use logothete_core::vector::{Encoder, Role};
use logothete_encoder::SentenceEncoder;
use serde::Deserialize;

#[derive(Deserialize)]
struct Case {
    text: String,
    tokens: Vec<u32>,
    vector: Vec<f32>,
}

fn cases() -> Vec<Case> {
    serde_json::from_str(include_str!("../parity/texts.json")).expect("the fixtures are JSON")
}

fn cosine(a: &[f32], b: &[f32]) -> f32 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

#[test]
fn tokens_are_the_same() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    for case in cases() {
        let tokens = encoder.tokens(&case.text, Role::Passage).expect("tokens");
        assert_eq!(tokens.ids, case.tokens, "{:?}", case.text);
    }
}

#[test]
fn vectors_are_nearly_the_same() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    let cases = cases();
    let texts: Vec<&str> = cases.iter().map(|case| case.text.as_str()).collect();
    let vectors = encoder.encode(&texts, Role::Passage).expect("vectors");
    let cosines: Vec<f32> = vectors.iter().zip(&cases).map(|(vector, case)| cosine(vector, &case.vector)).collect();
    for (cosine, case) in cosines.iter().zip(&cases) {
        println!("{cosine:.5} {:.60?}", case.text);
        assert!(*cosine > 0.97, "{cosine} for {:?}", case.text);
    }
    let mean = cosines.iter().sum::<f32>() / cosines.len() as f32;
    println!("mean {mean}");
    assert!(mean > 0.99, "{mean}");
}
