//! The part of the embedded encoder that reads claims and their sources.

use logothete_core::vector::{ClaimReader, ClaimReading, Encoder};
use logothete_encoder::{FolderSettings, SentenceEncoder};
use proptest::prelude::*;
use serde::Deserialize;

/// What the trainer's network made of a pair, in 32 bits.
#[derive(Deserialize)]
struct Fixture {
    claim: String,
    source: String,
    reading: [f32; 3],
}

fn read(pairs: &[(&str, &str)]) -> Vec<ClaimReading> {
    SentenceEncoder::embedded().expect("embedded").read_claims(pairs).expect("readings")
}

fn shares(reading: &ClaimReading) -> [f32; 3] {
    [reading.supported, reading.contradicted, reading.unsupported]
}

#[test]
fn readings_are_those_of_the_trained_network() {
    let fixtures: Vec<Fixture> = serde_json::from_str(include_str!("../parity/claims.json")).expect("fixtures");
    let pairs: Vec<(&str, &str)> = fixtures.iter().map(|one| (one.claim.as_str(), one.source.as_str())).collect();
    let readings = read(&pairs);
    let differs = |(fixture, reading): (&Fixture, &ClaimReading)| {
        fixture.reading.iter().zip(shares(reading)).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max)
    };
    let differences: Vec<f32> = fixtures.iter().zip(&readings).map(differs).collect();
    let mean = differences.iter().sum::<f32>() / differences.len() as f32;
    assert!(fixtures.len() >= 12 && mean < 0.03, "{mean}: {differences:?}");
    // A verdict that is clear stays the same.
    let likeliest = |shares: [f32; 3]| (0..3).max_by(|a, b| shares[*a].total_cmp(&shares[*b]));
    let is_clear = |(fixture, _): &(&Fixture, &ClaimReading)| fixture.reading.iter().any(|share| *share > 0.7);
    for (fixture, reading) in fixtures.iter().zip(&readings).filter(is_clear) {
        assert_eq!(likeliest(fixture.reading), likeliest(shares(reading)), "{}", fixture.claim);
    }
}

#[test]
fn a_reading_depends_on_no_other_pair() {
    let source = "The gate is locked at nine in the evening, except on market days.";
    let pairs = [
        ("The gate is open at midnight.", source),
        ("", ""),
        ("Eels are sold here.", source),
        ("The gate is locked.", ""),
    ];
    let together = read(&pairs);
    let alone: Vec<ClaimReading> = pairs.iter().flat_map(|pair| read(&[*pair])).collect();
    assert_eq!(together, alone);
}

#[test]
fn an_encoder_from_a_folder_reads_no_claims() {
    let encoder = super::made_up::Model::new().open(&FolderSettings::default()).expect("an encoder");
    assert!(encoder.claim_reader().is_none());
    assert!(encoder.read_claims(&[("a", "b")]).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn any_pair_has_a_reading(claim in "\\PC{0,60}|[\\x00-\\x{ffff}]{0,40}", source in "\\PC{0,400}") {
        let found = read(&[(&claim, &source)]);
        let sum: f32 = shares(&found[0]).iter().sum();
        prop_assert!((sum - 1.0).abs() < 1e-4 && shares(&found[0]).iter().all(|share| (0.0..=1.0).contains(share)));
    }
}
