//! The network beside one written from its definition.

use crate::made_up::{Model, Sizes};
use crate::plain::{Plain, Row, dot};
use logothete_core::vector::{Encoder, Role};
use logothete_encoder::{FolderSettings, Pooling, Precision, SentenceEncoder};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;

fn pooled(pooling: Pooling, rows: &[Row]) -> Row {
    let columns = 0..rows[0].len();
    let of = |column: usize| rows.iter().map(move |row| row[column]);
    match pooling {
        Pooling::Mean => columns.map(|column| of(column).sum::<f64>() / rows.len() as f64).collect(),
        Pooling::First => rows[0].clone(),
        Pooling::Max => columns.map(|column| of(column).fold(f64::MIN, f64::max)).collect(),
    }
}

/// The cosine of the encoder's vector of a text to the plain one.
fn cosine(encoder: &SentenceEncoder, plain: &Plain<'_>, pooling: Pooling, text: &str) -> f64 {
    let tokens = encoder.tokens(text, Role::Passage).expect("tokens");
    let expected = pooled(pooling, &plain.run(&tokens.ids, tokens.ids.len()));
    let vectors = encoder.encode(&[text], Role::Passage).expect("a vector");
    let found: Row = vectors.iter().flatten().map(|&value| f64::from(value)).collect();
    assert!((dot(&found, &found) - 1.0).abs() < 1e-5, "it has length 1");
    dot(&found, &expected) / dot(&expected, &expected).sqrt()
}

fn settings(pooling: Pooling, precision: Precision) -> FolderSettings {
    FolderSettings { pooling: Some(pooling), precision, ..FolderSettings::default() }
}

#[rstest]
#[case::usual(Sizes { hidden: 32, heads: 2, layers: 2, wide: 48 }, "gelu", Pooling::Mean)]
#[case::one_head(Sizes { hidden: 32, heads: 1, layers: 1, wide: 32 }, "gelu", Pooling::First)]
#[case::narrow_heads(Sizes { hidden: 48, heads: 12, layers: 2, wide: 64 }, "gelu_new", Pooling::Mean)]
#[case::uneven(Sizes { hidden: 40, heads: 5, layers: 3, wide: 56 }, "relu", Pooling::Max)]
#[case::wide(Sizes { hidden: 64, heads: 4, layers: 1, wide: 256 }, "gelu", Pooling::Max)]
#[case::odd(Sizes { hidden: 33, heads: 3, layers: 2, wide: 47 }, "gelu", Pooling::Mean)]
fn the_network_computes_what_it_is_defined_as(
    #[case] sizes: Sizes,
    #[case] activation: &str,
    #[case] pooling: Pooling,
) {
    let mut model = Model::of(sizes);
    model.config["hidden_act"] = json!(activation);
    let plain = Plain { model: &model, sizes };
    let whole = model.open(&settings(pooling, Precision::Float32)).expect("a model");
    let rounded = model.open(&settings(pooling, Precision::Int8)).expect("a model");
    for text in ["", "a", "c b a", "abcabc cab", "a b c a b c a b c ccc bbb a"] {
        let exact = cosine(&whole, &plain, pooling, text);
        assert!((exact - 1.0).abs() < 1e-5, "{text:?}: {exact}");
        let near = cosine(&rounded, &plain, pooling, text);
        assert!(near > 0.99, "{text:?} in eight bits: {near}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn any_network_computes_what_it_is_defined_as(
        width in 1_usize..20,
        heads in 1_usize..5,
        layers in 1_usize..3,
        wide in 1_usize..70,
        text in "[abc ]{0,24}",
        pooling in prop::sample::select(vec![Pooling::Mean, Pooling::First, Pooling::Max]),
    ) {
        // Of fewer numbers the variance may be nothing.
        let sizes = Sizes { hidden: (width * heads).max(8).next_multiple_of(heads), heads, layers, wide };
        let model = Model::of(sizes);
        let encoder = model.open(&settings(pooling, Precision::Float32)).expect("a model");
        let cosine = cosine(&encoder, &Plain { model: &model, sizes }, pooling, &text);
        prop_assert!((cosine - 1.0).abs() < 1e-5, "{sizes:?} {pooling:?} {text:?}: {cosine}");
    }
}
