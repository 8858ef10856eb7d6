//! What the network of the verifier makes of the vectors of the embedded encoder.

use logothete_core::text::sentences;
use logothete_core::vector::Encoder;
use logothete_core::verify::{HeldClaim, Meaning, SUPPORT_NAMES, SourceSentence};
use logothete_encoder::{FolderSettings, SentenceEncoder};
use serde::Deserialize;

/// What the trainer's network made of a pair, in 32 bits: supported, contradicted, unsupported.
#[derive(Deserialize)]
struct Fixture {
    claim: String,
    source: String,
    chances: [f32; 3],
}

/// Returns the three chances of a claim and its source; 0.5 each if the network did not read them.
fn read(encoder: &dyn Encoder, claim: &str, source: &str) -> [f32; 3] {
    let texts: Vec<&str> = sentences(source).into_iter().map(|span| &source[span.range()]).collect();
    let meanings = Meaning::of(encoder, &texts).expect("vectors");
    let sources: Vec<SourceSentence<'_>> =
        texts.iter().zip(&meanings).map(|(text, meaning)| SourceSentence { text, meaning }).collect();
    let meaning = Meaning::of(encoder, &[claim]).expect("vectors").remove(0);
    let facts = HeldClaim::new(claim, &meaning, &sources).facts;
    ["read_supported", "read_contradicted", "read_unsupported"].map(|name| {
        let at = SUPPORT_NAMES.iter().position(|other| *other == name).expect("a fact");
        1.0 / (1.0 + (-facts[at]).exp())
    })
}

#[test]
fn readings_are_those_of_the_trained_network() {
    let fixtures: Vec<Fixture> = serde_json::from_str(include_str!("../parity/claims.json")).expect("fixtures");
    let encoder = SentenceEncoder::embedded().expect("embedded");
    assert!(fixtures.len() >= 20);
    for one in &fixtures {
        let chances = read(&encoder, &one.claim, &one.source);
        // The trainer's vectors have eight bits, and the network that is built in has eight.
        let largest = one.chances.iter().zip(chances).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(largest < 0.05, "{:?} and {chances:?} for {}", one.chances, one.claim);
    }
}

#[test]
fn what_the_network_does_not_know_is_not_read() {
    let embedded = SentenceEncoder::embedded().expect("embedded");
    let folder = super::made_up::Model::new().open(&FolderSettings::default()).expect("an encoder");
    let source = "The gate is locked at nine in the evening, except on market days.";
    assert_eq!(read(&folder, "The gate is locked at nine.", source), [0.5; 3], "vectors of another encoder");
    assert_eq!(read(&embedded, "", source), [0.5; 3], "no words");
    assert_eq!(read(&embedded, "The gate is locked.", ""), [0.5; 3], "no source");
    assert_ne!(read(&embedded, "The gate is locked at nine.", source), [0.5; 3]);
}

#[test]
fn a_claim_of_many_words_is_read_beside_many_sentences() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    let claim = "The gate is locked at nine and the key hangs behind the counter. ".repeat(30);
    let source = "The gate is locked at nine in the evening. The key hangs behind the counter. ".repeat(40);
    let chances = read(&encoder, &claim, &source);
    assert!((chances.iter().sum::<f32>() - 1.0).abs() < 0.01, "{chances:?}");
}
