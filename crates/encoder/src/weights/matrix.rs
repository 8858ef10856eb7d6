//! Weight matrices in the panels that the kernels read.

use std::borrow::Cow;

use logothete_core::Result;

use super::{TensorWriter, Tensors};
use crate::kernel::{Activation, BYTES, Finish, Grid, Kernel, ROWS, Sums, TileLayout, WIDE};

/// A weight matrix with its bias.
pub enum Matrix {
    /// 32-bit numbers.
    Float(FloatMatrix),
    /// Integers of eight bits, with a scale for each output.
    Bytes(ByteMatrix),
}

/// A buffer for the inputs of a product, in bytes.
#[derive(Default)]
pub struct Quantised {
    bytes: Vec<u8>,
    grids: Vec<Grid>,
}

impl Matrix {
    /// Writes `activation(inputs · weights + bias)`, row by row.
    pub fn apply(
        &self,
        kernel: Kernel,
        inputs: &[f32],
        activation: Option<Activation>,
        room: &mut Quantised,
        out: &mut [f32],
    ) {
        match self {
            Self::Float(matrix) => matrix.apply(kernel, inputs, activation, out),
            Self::Bytes(matrix) => matrix.apply(kernel, inputs, activation, room, out),
        }
    }

    /// Returns the number of outputs.
    pub fn outputs(&self) -> usize {
        match self {
            Self::Float(matrix) => matrix.bias.len(),
            Self::Bytes(matrix) => matrix.outputs,
        }
    }
}

/// Lays a matrix out in panels, from a row for each output: for each `group` of inputs, that group of each output. Panels and
/// groups are padded with zeros.
fn panels<T: Copy + Default>(values: &[T], inputs: usize, outputs: usize, group: usize) -> Vec<T> {
    let steps = inputs.div_ceil(group);
    let mut panels = vec![T::default(); outputs.div_ceil(WIDE) * steps * WIDE * group];
    for output in 0..outputs {
        let panel = &mut panels[output / WIDE * steps * WIDE * group..];
        for input in 0..inputs {
            panel[input / group * WIDE * group + output % WIDE * group + input % group] =
                values[output * inputs + input];
        }
    }
    panels
}

/// A matrix of 32-bit numbers.
pub struct FloatMatrix {
    inputs: usize,
    panels: Vec<f32>,
    bias: Vec<f32>,
}

impl FloatMatrix {
    /// Creates a matrix from a row of weights for each output.
    pub fn new(weights: &[f32], bias: &[f32]) -> Self {
        let inputs = weights.len() / bias.len().max(1);
        Self { inputs, panels: panels(weights, inputs, bias.len(), 1), bias: bias.to_vec() }
    }

    fn apply(&self, kernel: Kernel, inputs: &[f32], activation: Option<Activation>, out: &mut [f32]) {
        let outputs = self.bias.len();
        let rows = inputs.len() / self.inputs;
        let mut sums = [[0.0; WIDE]; ROWS];
        for from in (0..rows).step_by(ROWS) {
            let count = ROWS.min(rows - from);
            for (panel, weights) in self.panels.chunks_exact(self.inputs * WIDE).enumerate() {
                let inputs = &inputs[from * self.inputs..];
                kernel.multiply_floats(inputs, self.inputs, count, weights, sums.as_flattened_mut(), TileLayout::TILE);
                let column = panel * WIDE;
                let width = WIDE.min(outputs - column);
                for (row, sums) in sums.iter().enumerate().take(count) {
                    let out = &mut out[(from + row) * outputs + column..][..width];
                    out.copy_from_slice(&sums[..width]);
                    kernel.add(out, &self.bias[column..]);
                    if let Some(activation) = activation {
                        kernel.activate(activation, out);
                    }
                }
            }
        }
    }
}

/// A matrix of eight-bit integers.
pub struct ByteMatrix {
    inputs: usize,
    outputs: usize,
    panels: Cow<'static, [i8]>,
    /// For each output, the value of one unit of its weights. All three are padded to whole panels.
    scales: Cow<'static, [f32]>,
    /// For each output, the sum of its integers.
    totals: Cow<'static, [f32]>,
    bias: Cow<'static, [f32]>,
}

impl ByteMatrix {
    /// Creates a matrix from a row of weights for each output. Each row gets the one of several scales with the least error.
    pub fn new(weights: &[f32], bias: &[f32]) -> Self {
        let (outputs, inputs) = (bias.len(), weights.len() / bias.len().max(1));
        let mut integers = Vec::with_capacity(weights.len());
        let mut scales = Vec::with_capacity(outputs);
        for row in weights.chunks_exact(inputs.max(1)) {
            let (scale, rounded) = round_row(row);
            scales.push(scale);
            integers.extend(rounded);
        }
        let total = |row: &[i8]| row.iter().map(|&weight| i32::from(weight)).sum::<i32>() as f32;
        let filled = |mut values: Vec<f32>| {
            values.resize(outputs.next_multiple_of(WIDE), 0.0);
            Cow::Owned(values)
        };
        Self {
            inputs,
            outputs,
            panels: panels(&integers, inputs, outputs, BYTES).into(),
            scales: filled(scales),
            totals: filled(integers.chunks_exact(inputs.max(1)).map(total).collect()),
            bias: filled(bias.to_vec()),
        }
    }

    /// Reads what [`write`](Self::write) wrote.
    ///
    /// # Errors
    /// If a tensor is missing, or of another shape.
    pub fn read(tensors: &Tensors, name: &str, inputs: usize, outputs: usize) -> Result<Self> {
        let shape = [outputs.div_ceil(WIDE), inputs.div_ceil(BYTES), WIDE, BYTES];
        let numbers = |part: &str| tensors.exact(&format!("{name}.{part}"), &[outputs.next_multiple_of(WIDE)]);
        Ok(Self {
            inputs,
            outputs,
            panels: tensors.exact(&format!("{name}.weight"), &shape)?,
            scales: numbers("scale")?,
            totals: numbers("total")?,
            bias: numbers("bias")?,
        })
    }

    /// Writes it as tensors of a file.
    pub fn write(&self, name: &str, file: &mut TensorWriter) {
        let shape = [self.outputs.div_ceil(WIDE), self.inputs.div_ceil(BYTES), WIDE, BYTES];
        file.add(&format!("{name}.weight"), &shape, &self.panels);
        for (part, values) in [("scale", &self.scales), ("total", &self.totals), ("bias", &self.bias)] {
            file.add(&format!("{name}.{part}"), &[values.len()], values);
        }
    }

    fn apply(
        &self,
        kernel: Kernel,
        inputs: &[f32],
        activation: Option<Activation>,
        room: &mut Quantised,
        out: &mut [f32],
    ) {
        let stride = self.inputs.next_multiple_of(BYTES);
        let rows = inputs.len() / self.inputs;
        let Quantised { bytes, grids } = room;
        // Numbers between two rows are multiplied by weights of zero.
        bytes.resize(bytes.len().max(rows * stride), 0);
        grids.clear();
        let each = inputs.chunks_exact(self.inputs).zip(bytes.chunks_exact_mut(stride));
        grids.extend(each.map(|(row, bytes)| kernel.to_bytes(row, &mut bytes[..self.inputs])));
        let (scales, totals, bias) = (self.scales.as_chunks().0, self.totals.as_chunks().0, self.bias.as_chunks().0);
        let mut sums = Sums::default();
        // A group of rows stays in the first cache while all weights are read, one after another.
        for from in (0..rows).step_by(ROWS) {
            let to = rows.min(from + ROWS);
            let (bytes, out) = (&bytes[from * stride..], &mut out[from * self.outputs..to * self.outputs]);
            for (panel, weights) in self.panels.chunks_exact(stride * WIDE).enumerate() {
                kernel.multiply_bytes(bytes, stride, to - from, weights, sums.flat(), TileLayout::TILE);
                let finish = Finish { scales: &scales[panel], totals: &totals[panel], bias: &bias[panel] };
                let place = TileLayout { stride: self.outputs, column: panel * WIDE };
                kernel.finish(&sums, &grids[from..to], finish, activation, out, place);
            }
        }
    }
}

/// Rounds a row to integers of -127 to 127. It also tries scales that cut off the farthest weights.
fn round_row(row: &[f32]) -> (f32, Vec<i8>) {
    let farthest = row.iter().fold(0.0_f32, |most, weight| most.max(weight.abs()));
    if farthest == 0.0 {
        return (0.0, vec![0; row.len()]);
    }
    let rounded = |scale: f32| row.iter().map(move |weight| (weight / scale).round_ties_even().clamp(-127.0, 127.0));
    let error = |scale: f32| -> f64 {
        row.iter().zip(rounded(scale)).map(|(weight, integer)| f64::from(weight - integer * scale).powi(2)).sum()
    };
    let tries = (0..=12).map(|step| farthest / 127.0 * (1.0 - step as f32 * 0.025));
    let best = tries.map(|scale| (error(scale), scale)).min_by(|a, b| a.0.total_cmp(&b.0));
    let scale = best.map_or(farthest / 127.0, |(_, scale)| scale);
    (scale, rounded(scale).map(|integer| integer as i8).collect())
}
