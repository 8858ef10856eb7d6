//! Encoders.

use logothete_core::Result;
use logothete_core::vector::{Encoder, Role, Vectors};

use super::{ODD_TEXTS, Promises, long_text, named};

/// The least cosine of two vectors that should be the same. Services compute in lower precision.
const MIN_SAME: f32 = 0.999;

/// Tries an encoder on some texts: one vector for each, of the length that it says, of numbers, and the same whatever else is in the batch.
///
/// It is called about thirty times, which costs what the texts cost if it is a service.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn encoder(encoder: &dyn Encoder, texts: &[&str]) -> Result<()> {
    let mut promises = Promises::of_stage("the encoder", &encoder.name(), || encoder.fingerprint());
    promises.keep(encoder.dimensions() > 0, "its vectors have a length");
    let long = long_text();
    let odd = ODD_TEXTS.iter().copied().chain([long.as_str()]);
    let all: Vec<&str> = texts.iter().copied().chain(odd).collect();
    for role in [Role::Query, Role::Passage] {
        let none = promises.call("it takes an empty list", || encoder.encode(&[], role));
        promises.keep(none.is_none_or(|none| none.is_empty()), "an empty list has no vectors");
        let Some(together) = promises.call("it encodes any text", || encoder.encode(&all, role)) else { continue };
        promises.keep(together.len() == all.len(), "it returns a vector for each text");
        let rows = rows(&together);
        promises.keep(rows.iter().all(|row| row.len() == encoder.dimensions()), "vectors have the length that it says");
        promises.keep(rows.iter().flatten().all(|number| number.is_finite()), "vectors have no infinite numbers");
        for (text, row) in texts.iter().zip(&rows) {
            let alone = promises.call("it encodes a text alone", || encoder.encode(&[text], role));
            let is_same = alone.is_none_or(|alone| alone.iter().next().is_some_and(|alone| is_same(alone, row)));
            promises.keep(is_same, format!("a vector does not depend on the batch, {}", named(text)));
            promises.keep(row.iter().any(|number| *number != 0.0), format!("a text has a vector, {}", named(text)));
        }
    }
    for text in &all {
        promises.survive(&named(text), || encoder.count_tokens(text));
    }
    if let Some(tokens) = encoder.by_token() {
        let found = promises.call("it encodes tokens", || tokens.encode_tokens(&all, Role::Passage));
        if let Some(found) = found {
            promises.keep(found.len() == all.len(), "it returns the vectors of tokens of each text");
            let length = tokens.token_dimensions();
            let fits = found.iter().all(|vectors| vectors.iter().all(|vector| vector.len() == length));
            promises.keep(fits, "vectors of tokens have the length that it says");
        }
    }
    promises.kept()
}

fn rows(vectors: &Vectors) -> Vec<Vec<f32>> {
    vectors.iter().map(<[f32]>::to_vec).collect()
}

fn is_same(a: &[f32], b: &[f32]) -> bool {
    let product = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f32>();
    let lengths = product(a, a).sqrt() * product(b, b).sqrt();
    a.len() == b.len() && (lengths == 0.0 && a == b || product(a, b) >= MIN_SAME * lengths)
}
