//! The network written from its definition, in 64-bit numbers and with nothing laid out for speed.

use crate::made_up::{Model, Sizes};

pub type Row = Vec<f64>;

/// The weights of a model by their names.
pub struct Plain<'a> {
    pub model: &'a Model,
    pub sizes: Sizes,
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

    pub fn linear(&self, name: &str, input: &Row) -> Row {
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

    /// The vectors of tokens, of which those from `second` on belong to the second of two parts.
    pub fn run(&self, tokens: &[u32], second: usize) -> Vec<Row> {
        let words = self.rows("embeddings.word_embeddings.weight");
        let positions = self.rows("embeddings.position_embeddings.weight");
        let kinds = self.rows("embeddings.token_type_embeddings.weight");
        let embedded = tokens
            .iter()
            .enumerate()
            .map(|(at, &token)| add(&add(&words[token as usize], &positions[at]), &kinds[usize::from(at >= second)]));
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

pub fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

pub fn add(a: &[f64], b: &[f64]) -> Row {
    a.iter().zip(b).map(|(a, b)| a + b).collect()
}
