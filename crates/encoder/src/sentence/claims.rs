//! The network of the embedded encoder that reads a claim and its source together.
//!
//! It has the words, the positions and the first layers of the encoder, and further layers of its own.

use std::path::Path;

use logothete_core::vector::{ClaimReader, ClaimReading};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use super::SentenceEncoder;
use crate::bert::{Network, Shape, batches};
use crate::pairs::{Head, PairNetwork};
use crate::weights::{ByteMatrix, TensorWriter, Tensors};

/// The answers of its head: supported, contradicted, unsupported.
const ANSWERS: usize = 3;
/// It was trained on pairs of up to so many tokens.
const MAX_TOKENS: usize = 160;

/// Reads the network from packed tensors, those of the encoder and its own; `None` if there are none of its own.
///
/// # Errors
/// If a tensor is missing or of another shape; the message names it.
pub(super) fn from_packed(tensors: &Tensors, shape: &Shape) -> Result<Option<PairNetwork>> {
    if !tensors.has("head.weight") {
        return Ok(None);
    }
    let head = Head::from_packed(tensors, shape.hidden, ANSWERS)?;
    let network = Network::from_packed(tensors, shape.clone())?;
    Ok(Some(PairNetwork::new(network, head, MAX_TOKENS.min(shape.positions), false)))
}

impl ClaimReader for SentenceEncoder {
    fn read_claims(&self, pairs: &[(&str, &str)]) -> Result<Vec<ClaimReading>> {
        let Some(claims) = &self.claims else {
            return Err(Error::new(ErrorKind::Unsupported, "this encoder does not read claims"));
        };
        let pairs = claims.pairs(&self.tokeniser, pairs)?;
        let batches = batches(&pairs, |pair| pair.0.len());
        Ok(batches.par_iter().flat_map_iter(|batch| claims.outputs(batch)).map(|scores| reading(&scores)).collect())
    }
}

/// Returns the probabilities of three answers by their scores.
fn reading(scores: &[f32]) -> ClaimReading {
    let highest = scores.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let powers: Vec<f32> = scores.iter().map(|score| (score - highest).exp()).collect();
    let sum: f32 = powers.iter().sum();
    let share = |at: usize| powers.get(at).map_or(0.0, |power| power / sum);
    ClaimReading { supported: share(0), contradicted: share(1), unsupported: share(2) }
}

/// Packs the layers of a network that reads claims, from a file of trained tensors, and passes each file to `write`. The file has the layers that are its
/// own, as `layer.N.seen.weight` and so on, and `second`, `pooler` and `head`.
///
/// # Errors
/// If a tensor is missing or of another shape, or as the function.
pub fn pack_claims(path: &Path, mut write: impl FnMut(&str, &[u8]) -> Result<()>) -> Result<()> {
    let bytes = std::fs::read(path)
        .map_err(|error| Error::new(ErrorKind::NotFound, "the trained tensors cannot be read").because(error))?;
    let mut tensors = Tensors::default();
    tensors.add_file(&path.display().to_string(), &bytes.into())?;
    let hidden = tensors.shape("second").and_then(|shape| shape.first().copied()).unwrap_or_default();
    let layers: Vec<usize> = (0..64).filter(|layer| tensors.has(&format!("layer.{layer}.seen.weight"))).collect();
    for layer in layers {
        let mut file = TensorWriter::default();
        for name in ["seen", "joined", "widen", "narrow"] {
            let name = format!("layer.{layer}.{name}");
            let shape = tensors.shape(&format!("{name}.weight")).unwrap_or_default().to_vec();
            let weights = tensors.floats(&format!("{name}.weight"), &shape)?;
            let bias = tensors.floats(&format!("{name}.bias"), &shape[..shape.len().min(1)])?;
            ByteMatrix::new(&weights, &bias).write(&name, &mut file);
        }
        for name in ["attention_norm.weight", "attention_norm.bias", "norm.weight", "norm.bias"] {
            let name = format!("layer.{layer}.{name}");
            file.add(&name, &[hidden], &tensors.floats(&name, &[hidden])?);
        }
        write(&format!("claims-{layer}.safetensors"), &file.finish()?)?;
    }
    let mut file = TensorWriter::default();
    file.add("second", &[hidden], &tensors.floats("second", &[hidden])?);
    Head::pack(&tensors, hidden, ANSWERS, &mut file)?;
    write("claims-head.safetensors", &file.finish()?)
}
