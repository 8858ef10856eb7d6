//! The table of word vectors.

use std::borrow::Cow;

use logothete_core::Result;

use super::{TensorWriter, Tensors};
use crate::half::{from_half, to_half};
use crate::kernel::Kernel;

/// The number of values that share a step and a lowest value.
const GROUP: usize = 32;
/// The number of bytes of a group: a step and a lowest value as 16-bit floats, and half a byte for each value.
const GROUP_BYTES: usize = 4 + GROUP / 2;

/// A vector for each word of the vocabulary.
pub enum WordTable {
    /// 32-bit numbers.
    Float(Vec<f32>),
    /// Four bits for each number, in groups. The table has several parts of whole words, each in a file of its own.
    Nibbles {
        /// The parts.
        parts: Vec<Cow<'static, [u8]>>,
        /// The number of words in each part but the last.
        words: usize,
    },
}

impl WordTable {
    /// Writes the vector of a word. A word that the table does not have gets zeros.
    pub fn write_row(&self, kernel: Kernel, word: u32, out: &mut [f32]) {
        let word = word as usize;
        match self {
            Self::Float(values) => match values.get(word * out.len()..(word + 1) * out.len()) {
                Some(row) => out.copy_from_slice(row),
                None => out.fill(0.0),
            },
            Self::Nibbles { parts, words } => {
                let size = out.len() / GROUP * GROUP_BYTES;
                let within = word % words * size;
                match parts.get(word / words).and_then(|part| part.get(within..within + size)) {
                    Some(row) => kernel.unpack_nibbles(row, out),
                    None => out.fill(0.0),
                }
            }
        }
    }

    /// Reads the parts `words.0`, `words.1`, ….
    ///
    /// # Errors
    /// If there is none, or the shapes do not fit.
    pub fn read(tensors: &Tensors, count: usize, dimensions: usize) -> Result<Self> {
        let bytes = dimensions / GROUP * GROUP_BYTES;
        let words = tensors.shape("words.0").and_then(|shape| shape.first().copied()).unwrap_or(count).max(1);
        let parts = (0..count.div_ceil(words)).map(|part| {
            let held = words.min(count - part * words);
            tensors.exact(&format!("words.{part}"), &[held, bytes])
        });
        Ok(Self::Nibbles { parts: parts.collect::<Result<_>>()?, words })
    }

    /// Rounds a table to four bits, and gives its parts to a function that writes each into a file.
    ///
    /// # Errors
    /// Returns the errors of the function.
    pub fn write_parts(
        table: &[f32],
        dimensions: usize,
        words: usize,
        mut write: impl FnMut(usize, TensorWriter) -> Result<()>,
    ) -> Result<()> {
        for (part, rows) in table.chunks(words * dimensions).enumerate() {
            let held = rows.len() / dimensions;
            let bytes: Vec<u8> = rows.chunks_exact(dimensions).flat_map(round_row).collect();
            let mut file = TensorWriter::default();
            file.add(&format!("words.{part}"), &[held, bytes.len() / held.max(1)], &bytes);
            write(part, file)?;
        }
        Ok(())
    }
}

/// Rounds a row: first the steps and lowest values of all groups, then the bits of all groups, with the first half of a group
/// in the low bits of its bytes.
fn round_row(row: &[f32]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(row.len() / GROUP * GROUP_BYTES);
    let mut bits = Vec::with_capacity(row.len() / 2);
    for group in row.chunks_exact(GROUP) {
        let (step, least) = best_grid(group);
        bytes.extend(step.to_le_bytes());
        bytes.extend(least.to_le_bytes());
        let rounded = |value: f32| nearest(value, from_half(step), from_half(least)) as u8;
        let (low, high) = group.split_at(GROUP / 2);
        bits.extend(low.iter().zip(high).map(|(&low, &high)| rounded(low) | rounded(high) << 4));
    }
    bytes.extend(bits);
    bytes
}

fn nearest(value: f32, step: f32, least: f32) -> f32 {
    if step > 0.0 { ((value - least) / step).round_ties_even().clamp(0.0, 15.0) } else { 0.0 }
}

/// Returns the range with the least error, of several around the middle of a group, as 16-bit floats.
fn best_grid(group: &[f32]) -> (u16, u16) {
    let low = group.iter().copied().fold(f32::INFINITY, f32::min);
    let high = group.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let (middle, half) = ((low + high) / 2.0, (high - low) / 2.0);
    let tries = (0..=16).map(|at| {
        let half = half * (1.0 - at as f32 * 0.025);
        let (step, least) = (to_half(half * 2.0 / 15.0), to_half(middle - half));
        let (exact_step, exact_least) = (from_half(step), from_half(least));
        let error = |&value: &f32| {
            f64::from(nearest(value, exact_step, exact_least) * exact_step + exact_least - value).powi(2)
        };
        (group.iter().map(error).sum::<f64>(), (step, least))
    });
    tries.min_by(|a, b| a.0.total_cmp(&b.0)).map_or((0, 0), |(_, grid)| grid)
}
