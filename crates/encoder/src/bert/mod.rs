//! The forward pass of networks of the BERT family: embeddings, then layers of attention and feed-forward parts.
//!
//! Devlin et al., "BERT: Pre-training of Deep Bidirectional Transformers for Language Understanding", 2019, on Vaswani et al.,
//! "Attention Is All You Need", 2017. Texts follow one another without padding, and only attention respects their ends. Each
//! step reads one row or one text, so a vector does not depend on other texts.

mod attention;

use std::borrow::Cow;
use std::sync::{Mutex, PoisonError};

use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use crate::kernel::{Activation, Kernel};
use crate::weights::{ByteMatrix, FloatMatrix, Matrix, Quantised, TensorWriter, Tensors, WordTable};
use attention::Attention;

/// The number of rows that the feed-forward part takes at a time, so that their wide vectors stay in the cache.
const ROWS_AT_ONCE: usize = 96;

/// The number of tokens in a batch: enough to use each weight often, few enough to stay in the cache.
const TOKENS_AT_ONCE: usize = 384;

/// The sizes of a network.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// The length of the vectors.
    pub hidden: usize,
    /// The number of layers.
    pub layers: usize,
    /// The number of heads of attention.
    pub heads: usize,
    /// The length of the vectors inside the feed-forward part.
    pub wide: usize,
    /// The number of words in the vocabulary.
    pub words: usize,
    /// The number of positions.
    pub positions: usize,
    /// The number that is added to a variance.
    pub epsilon: f32,
    /// The activation in the feed-forward part.
    pub activation: Activation,
}

/// Weights and biases that follow a normalisation.
struct Norm {
    weights: Cow<'static, [f32]>,
    bias: Cow<'static, [f32]>,
}

struct Layer {
    /// Queries, keys and values, one after another.
    seen: Matrix,
    joined: Matrix,
    attention_norm: Norm,
    widen: Matrix,
    narrow: Matrix,
    norm: Norm,
}

/// A network with its weights.
pub struct Network {
    shape: Shape,
    words: WordTable,
    /// The vector of each position, with that of the first segment type added.
    positions: Cow<'static, [f32]>,
    /// What the second segment type adds besides; empty if the model has one type only.
    second: Vec<f32>,
    norm: Norm,
    layers: Vec<Layer>,
}

/// The precision of the forward pass.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Precision {
    /// Weights and inputs of eight bits, attention of sixteen.
    #[default]
    Int8,
    /// 32-bit numbers throughout: several times slower.
    Float32,
}

/// Buffers between input and output, kept from one batch to the next.
#[derive(Default)]
pub struct Room {
    seen: Vec<f32>,
    context: Vec<f32>,
    added: Vec<f32>,
    wide: Vec<f32>,
    quantised: Quantised,
    attention: Attention,
}

/// The buffers of the threads that run a network.
#[derive(Default)]
pub struct Rooms(Mutex<Vec<Room>>);

impl Rooms {
    /// Calls a function with buffers that no other thread uses.
    pub fn with<T>(&self, work: impl FnOnce(&mut Room) -> T) -> T {
        let kept = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut room = kept().pop().unwrap_or_default();
        let done = work(&mut room);
        kept().push(room);
        done
    }
}

/// The tokens of a text, of which those from `second` on belong to the second of two parts.
#[derive(Clone, Copy)]
pub struct Sequence<'a> {
    pub tokens: &'a [u32],
    pub second: usize,
}

impl<'a> Sequence<'a> {
    /// Creates the sequence of a text in one part.
    pub fn whole(tokens: &'a [u32]) -> Self {
        Self { tokens, second: tokens.len() }
    }
}

/// Splits texts into batches for all threads, by their numbers of tokens.
pub fn batches<T>(texts: &[T], tokens: impl Fn(&T) -> usize) -> Vec<&[T]> {
    let total: usize = texts.iter().map(&tokens).sum();
    let share = total.div_ceil(rayon::current_num_threads()).clamp(1, TOKENS_AT_ONCE);
    let (mut batches, mut rest) = (Vec::new(), texts);
    while !rest.is_empty() {
        let mut sum = 0;
        let fits = rest.iter().take_while(|text| {
            sum += tokens(text);
            sum <= share
        });
        let (batch, behind) = rest.split_at(fits.count().max(1));
        batches.push(batch);
        rest = behind;
    }
    batches
}

fn resize(values: &mut Vec<f32>, length: usize) {
    // Old numbers are overwritten before they are read.
    values.resize(length, 0.0);
}

impl Network {
    /// Returns the sizes.
    pub fn shape(&self) -> &Shape {
        &self.shape
    }

    /// Returns the last layer's vectors of the tokens of some texts, text after text.
    pub fn run(&self, kernel: Kernel, texts: &[Sequence<'_>], room: &mut Room) -> Vec<f32> {
        let Shape { hidden, wide, epsilon, activation, heads, .. } = self.shape;
        let rows: usize = texts.iter().map(|text| text.tokens.len()).sum();
        let mut states = vec![0.0; rows * hidden];
        let mut row = states.chunks_exact_mut(hidden);
        for text in texts {
            let positions = self.positions.chunks_exact(hidden);
            for (at, ((&token, position), row)) in text.tokens.iter().zip(positions).zip(&mut row).enumerate() {
                self.words.write_row(kernel, token, row);
                if at >= text.second {
                    row.iter_mut().zip(&self.second).for_each(|(value, added)| *value += added);
                }
                self.norm.add_and_apply(kernel, row, position, epsilon);
            }
        }
        resize(&mut room.seen, rows * hidden * 3);
        resize(&mut room.context, rows * hidden);
        resize(&mut room.added, rows * hidden);
        for layer in &self.layers {
            layer.seen.apply(kernel, &states, None, &mut room.quantised, &mut room.seen);
            let mut from = 0;
            for text in texts.iter().filter(|text| !text.tokens.is_empty()) {
                let to = from + text.tokens.len();
                let seen = &room.seen[from * hidden * 3..to * hidden * 3];
                let context = &mut room.context[from * hidden..to * hidden];
                match layer.seen {
                    Matrix::Bytes(_) => room.attention.shorts(kernel, seen, hidden, heads, context),
                    Matrix::Float(_) => room.attention.floats(kernel, seen, hidden, heads, context),
                }
                from = to;
            }
            layer.joined.apply(kernel, &room.context, None, &mut room.quantised, &mut room.added);
            layer.attention_norm.add_and_apply_all(kernel, &mut states, &room.added, epsilon);
            for states in states.chunks_mut(ROWS_AT_ONCE * hidden) {
                resize(&mut room.wide, states.len() / hidden * wide);
                layer.widen.apply(kernel, states, Some(activation), &mut room.quantised, &mut room.wide);
                let added = &mut room.added[..states.len()];
                layer.narrow.apply(kernel, &room.wide, None, &mut room.quantised, added);
                layer.norm.add_and_apply_all(kernel, states, added, epsilon);
            }
        }
        states
    }

    /// Reads the weights of a model as it was trained.
    ///
    /// # Errors
    /// If a tensor is missing or of another shape; the message names it.
    pub fn from_trained(tensors: &Tensors, shape: Shape, first_position: usize, precision: Precision) -> Result<Self> {
        let Shape { hidden, wide, words, positions, .. } = shape;
        // Some files have a prefix before the names of the network.
        let first = "embeddings.word_embeddings.weight";
        let prefix = tensors.names().find_map(|name| name.strip_suffix(first)).unwrap_or_default().to_owned();
        let read = |name: String, shape: &[usize]| tensors.floats(&format!("{prefix}{name}"), shape);
        let norm = |name: &str| -> Result<Norm> {
            let part = |part: &str| read(format!("{name}.LayerNorm.{part}"), &[hidden]);
            Ok(Norm { weights: part("weight")?.into(), bias: part("bias")?.into() })
        };
        let matrix = |names: &[String], inputs: usize, outputs: usize| -> Result<Matrix> {
            let (mut weights, mut bias) = (Vec::new(), Vec::new());
            for name in names {
                weights.extend(read(format!("{name}.weight"), &[outputs, inputs])?);
                bias.extend(read(format!("{name}.bias"), &[outputs])?);
            }
            Ok(new_matrix(&weights, &bias, precision))
        };
        let kinds_name = format!("{prefix}embeddings.token_type_embeddings.weight");
        let kinds = match tensors.shape(&kinds_name).map(<[usize]>::to_vec) {
            Some(shape) if shape.len() == 2 && shape[0] > 0 && shape[1] == hidden => {
                tensors.floats(&kinds_name, &shape)?
            }
            _ => tensors.floats(&kinds_name, &[2, hidden])?,
        };
        let table = read("embeddings.position_embeddings.weight".to_owned(), &[positions + first_position, hidden])?;
        let mut table = table[first_position * hidden..].to_vec();
        for row in table.chunks_exact_mut(hidden) {
            row.iter_mut().zip(&kinds).for_each(|(value, kind)| *value += kind);
        }
        let second = kinds.get(hidden..2 * hidden).unwrap_or_default();
        let second = second.iter().zip(&kinds).map(|(second, first)| second - first).collect();
        let layers = (0..shape.layers).map(|layer| {
            let at = |name: &str| format!("encoder.layer.{layer}.{name}");
            let seen = ["query", "key", "value"].map(|part| at(&format!("attention.self.{part}")));
            Ok(Layer {
                seen: matrix(&seen, hidden, hidden)?,
                joined: matrix(&[at("attention.output.dense")], hidden, hidden)?,
                attention_norm: norm(&at("attention.output"))?,
                widen: matrix(&[at("intermediate.dense")], hidden, wide)?,
                narrow: matrix(&[at("output.dense")], wide, hidden)?,
                norm: norm(&at("output"))?,
            })
        });
        Ok(Self {
            words: WordTable::Float(read(first.to_owned(), &[words, hidden])?),
            positions: table.into(),
            second,
            norm: norm("embeddings")?,
            layers: layers.collect::<Result<_>>()?,
            shape,
        })
    }

    /// Reads the files that [`write`](Self::write) wrote.
    ///
    /// # Errors
    /// If a tensor is missing or of another shape; the message names it.
    pub fn from_packed(tensors: &Tensors, shape: Shape) -> Result<Self> {
        let Shape { hidden, wide, words, positions, .. } = shape;
        let norm = |name: &str| -> Result<Norm> {
            let part = |part: &str| tensors.exact(&format!("{name}.{part}"), &[hidden]);
            Ok(Norm { weights: part("weight")?, bias: part("bias")? })
        };
        let layers = (0..shape.layers).map(|layer| {
            let matrix = |name: &str, inputs: usize, outputs: usize| {
                ByteMatrix::read(tensors, &format!("layer.{layer}.{name}"), inputs, outputs).map(Matrix::Bytes)
            };
            Ok(Layer {
                seen: matrix("seen", hidden, hidden * 3)?,
                joined: matrix("joined", hidden, hidden)?,
                attention_norm: norm(&format!("layer.{layer}.attention_norm"))?,
                widen: matrix("widen", hidden, wide)?,
                narrow: matrix("narrow", wide, hidden)?,
                norm: norm(&format!("layer.{layer}.norm"))?,
            })
        });
        Ok(Self {
            words: WordTable::read(tensors, words, hidden)?,
            positions: tensors.exact("positions", &[positions, hidden])?,
            second: Vec::new(),
            norm: norm("norm")?,
            layers: layers.collect::<Result<_>>()?,
            shape,
        })
    }

    /// Writes the weights as files: the words in parts of `words` each, the positions, and each layer. `write` is called with
    /// each file and its name. Positions after `max_tokens` are left out.
    ///
    /// # Errors
    /// Returns the errors of the function, and an error if the weights are not those of a trained model, read with eight bits.
    pub fn write(
        &self,
        words: usize,
        max_tokens: usize,
        mut write: impl FnMut(&str, &[u8]) -> Result<()>,
    ) -> Result<()> {
        let hidden = self.shape.hidden;
        let unfit = |what: &str| Error::new(ErrorKind::Unsupported, format!("{what}; it cannot be packed"));
        let WordTable::Float(table) = &self.words else { return Err(unfit("the word table is packed already")) };
        if !hidden.is_multiple_of(32) {
            return Err(unfit("vectors are packed in groups of 32 numbers, and these are not a multiple long"));
        }
        WordTable::write_parts(table, hidden, words, |part, file| {
            write(&format!("words-{part}.safetensors"), &file.finish()?)
        })?;
        let mut file = TensorWriter::default();
        let kept = max_tokens.min(self.shape.positions);
        file.add("positions", &[kept, hidden], &self.positions[..kept * hidden]);
        self.norm.write("norm", &mut file);
        write("positions.safetensors", &file.finish()?)?;
        for (at, layer) in self.layers.iter().enumerate() {
            let mut file = TensorWriter::default();
            let parts =
                [("seen", &layer.seen), ("joined", &layer.joined), ("widen", &layer.widen), ("narrow", &layer.narrow)];
            for (name, matrix) in parts {
                let Matrix::Bytes(matrix) = matrix else { return Err(unfit("the layers are not of eight bits")) };
                matrix.write(&format!("layer.{at}.{name}"), &mut file);
            }
            layer.attention_norm.write(&format!("layer.{at}.attention_norm"), &mut file);
            layer.norm.write(&format!("layer.{at}.norm"), &mut file);
            write(&format!("layer-{at}.safetensors"), &file.finish()?)?;
        }
        Ok(())
    }
}

/// Creates a matrix in a precision, from a row of weights for each output.
pub fn new_matrix(weights: &[f32], bias: &[f32], precision: Precision) -> Matrix {
    match precision {
        Precision::Int8 => Matrix::Bytes(ByteMatrix::new(weights, bias)),
        Precision::Float32 => Matrix::Float(FloatMatrix::new(weights, bias)),
    }
}

impl Norm {
    fn add_and_apply(&self, kernel: Kernel, row: &mut [f32], added: &[f32], epsilon: f32) {
        kernel.add_and_normalise(row, added, &self.weights, &self.bias, epsilon);
    }

    fn add_and_apply_all(&self, kernel: Kernel, rows: &mut [f32], added: &[f32], epsilon: f32) {
        let hidden = self.bias.len();
        for (row, added) in rows.chunks_exact_mut(hidden).zip(added.chunks_exact(hidden)) {
            self.add_and_apply(kernel, row, added, epsilon);
        }
    }

    fn write(&self, name: &str, file: &mut TensorWriter) {
        file.add(&format!("{name}.weight"), &[self.weights.len()], &self.weights);
        file.add(&format!("{name}.bias"), &[self.bias.len()], &self.bias);
    }
}
