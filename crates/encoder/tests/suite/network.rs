//! The network beside one written from its definition, in 64-bit numbers and with nothing laid out for speed.

use crate::made_up::{Model, Sizes};
use logothete_core::vector::{Encoder, Role};
use logothete_encoder::{FolderSettings, Pooling, Precision, SentenceEncoder};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;

type Row = Vec<f64>;

/// The weights of a model by their names.
struct Plain<'a> {
    model: &'a Model,
    sizes: Sizes,
}

impl Plain<'_> {
    fn rows(&self, name: &str) -> Vec<Row> {
        let (_, shape) = self.model.tensors.iter().find(|(other, _)| other == name).expect(name);
        let weights = Model::weights(name, shape.iter().product());
        let width = *shape.last().expect("a shape");
        weights.chunks(width).map(|row| row.iter().map(|&value| f64::from(value)).collect()).collect()
    }

    fn row(&self, name: &str) -> Row {
        self.rows(name).remove(0)
    }

    fn linear(&self, name: &str, input: &Row) -> Row {
        let (weights, bias) = (self.rows(&format!("{name}.weight")), self.row(&format!("{name}.bias")));
        weights.iter().zip(bias).map(|(row, bias)| dot(row, input) + bias).collect()
    }

    fn norm(&self, name: &str, input: &Row) -> Row {
        let mean = input.iter().sum::<f64>() / input.len() as f64;
        let variance = input.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / input.len() as f64;
        let scale = self.row(&format!("{name}.LayerNorm.weight"));
        let shift = self.row(&format!("{name}.LayerNorm.bias"));
        let each = input.iter().zip(scale).zip(shift);
        each.map(|((value, scale), shift)| (value - mean) / (variance + 1e-12).sqrt() * scale + shift).collect()
    }

    fn attention(&self, layer: &str, states: &[Row]) -> Vec<Row> {
        let seen = |part: &str| -> Vec<Row> {
            states.iter().map(|state| self.linear(&format!("{layer}.attention.self.{part}"), state)).collect()
        };
        let (queries, keys, values) = (seen("query"), seen("key"), seen("value"));
        let width = self.sizes.hidden / self.sizes.heads;
        let mut joined = vec![Vec::new(); states.len()];
        for head in 0..self.sizes.heads {
            let part = |row: &Row| row[head * width..(head + 1) * width].to_vec();
            for (query, joined) in queries.iter().zip(&mut joined) {
                let scores: Row =
                    keys.iter().map(|key| (dot(&part(query), &part(key)) / (width as f64).sqrt()).exp()).collect();
                let all: f64 = scores.iter().sum();
                let mut context = vec![0.0; width];
                for (value, score) in values.iter().zip(&scores) {
                    context.iter_mut().zip(part(value)).for_each(|(sum, value)| *sum += value * score / all);
                }
                joined.extend(context);
            }
        }
        joined
    }

    /// The vectors of tokens.
    fn run(&self, tokens: &[u32]) -> Vec<Row> {
        let words = self.rows("embeddings.word_embeddings.weight");
        let positions = self.rows("embeddings.position_embeddings.weight");
        let kind = self.row("embeddings.token_type_embeddings.weight");
        let embedded =
            tokens.iter().enumerate().map(|(at, &token)| add(&add(&words[token as usize], &positions[at]), &kind));
        let mut states: Vec<Row> = embedded.map(|row| self.norm("embeddings", &row)).collect();
        for layer in 0..self.sizes.layers {
            let layer = format!("encoder.layer.{layer}");
            let contexts = self.attention(&layer, &states);
            for (state, context) in states.iter_mut().zip(&contexts) {
                let joined = self.linear(&format!("{layer}.attention.output.dense"), context);
                *state = self.norm(&format!("{layer}.attention.output"), &add(state, &joined));
                let wide = self.linear(&format!("{layer}.intermediate.dense"), state);
                let wide = wide.into_iter().map(|value| self.activation(value)).collect();
                *state = self.norm(
                    &format!("{layer}.output"),
                    &add(state, &self.linear(&format!("{layer}.output.dense"), &wide)),
                );
            }
        }
        states
    }

    fn activation(&self, x: f64) -> f64 {
        match self.model.config["hidden_act"].as_str() {
            Some("relu") => x.max(0.0),
            Some("gelu_new") => {
                let inner = (2.0 / std::f64::consts::PI).sqrt() * (x + 0.044_715 * x.powi(3));
                x / 2.0 * (1.0 + inner.tanh())
            }
            _ => x / 2.0 * (1.0 + erf(x / 2_f64.sqrt())),
        }
    }
}

/// The error function by its series (Abramowitz and Stegun, 7.1.6), which converges everywhere.
fn erf(x: f64) -> f64 {
    let (mut term, mut sum) = (x, x);
    for n in 1..200 {
        term *= 2.0 * x * x / (2.0 * f64::from(n) + 1.0);
        sum += term;
    }
    if x.abs() > 5.0 { x.signum() } else { 2.0 / std::f64::consts::PI.sqrt() * (-x * x).exp() * sum }
}

fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

fn add(a: &[f64], b: &[f64]) -> Row {
    a.iter().zip(b).map(|(a, b)| a + b).collect()
}

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
    let expected = pooled(pooling, &plain.run(&tokens.ids));
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
