//! Layers of the network, which are kept in eight bits.

#![allow(unsafe_code)]

/// A layer: a weight for each input of each output, and what is added to an output.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Layer {
    pub inputs: usize,
    pub outputs: usize,
    /// The weights, those of one input beside each other.
    weights: Vec<f32>,
    bias: Vec<f32>,
}

impl Layer {
    /// Reads a layer from the front of some bytes: the numbers of its outputs and inputs (32 bits each), for each output a scale and what is added (32 bits each),
    /// then the weights, those of one output beside each other (8 bits each, in units of its scale). `None` means that bytes are missing.
    pub fn read(bytes: &mut &[u8]) -> Option<Self> {
        let outputs = u32::from_le_bytes(taken(bytes)?) as usize;
        let inputs = u32::from_le_bytes(taken(bytes)?) as usize;
        let (mut scales, mut bias) = (Vec::new(), Vec::new());
        for _ in 0..outputs {
            scales.push(f32::from_le_bytes(taken(bytes)?));
            bias.push(f32::from_le_bytes(taken(bytes)?));
        }
        let (own, rest) = bytes.split_at_checked(outputs.checked_mul(inputs)?)?;
        *bytes = rest;
        let weight = |at: usize| f32::from(own[at % outputs * inputs + at / outputs] as i8) * scales[at % outputs];
        let weights = (0..own.len()).map(weight).collect();
        Some(Self { inputs, outputs, weights, bias })
    }

    /// Returns the outputs for rows of inputs, row by row: the same numbers on any processor.
    ///
    /// Costs a product for each weight and row.
    pub fn apply(&self, rows: &[f32]) -> Vec<f32> {
        #[cfg(target_arch = "x86_64")]
        if is_x86_feature_detected!("avx2") {
            // SAFETY: the processor knows AVX2.
            return unsafe { self.applied_avx2(rows) };
        }
        self.applied(rows)
    }

    /// The same as [`applied`](Self::applied), eight numbers at a time.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    fn applied_avx2(&self, rows: &[f32]) -> Vec<f32> {
        self.applied(rows)
    }

    #[inline(always)]
    fn applied(&self, rows: &[f32]) -> Vec<f32> {
        let mut all = Vec::with_capacity(rows.len() / self.inputs.max(1) * self.outputs);
        for row in rows.chunks_exact(self.inputs.max(1)) {
            let start = all.len();
            all.extend_from_slice(&self.bias);
            let sums = &mut all[start..];
            for (value, weights) in row.iter().zip(self.weights.chunks_exact(self.outputs)) {
                if *value != 0.0 {
                    sums.iter_mut().zip(weights).for_each(|(sum, weight)| *sum += value * weight);
                }
            }
        }
        all
    }

    /// Returns the outputs for rows of inputs, those below 0 as 0.
    pub fn rectified(&self, rows: &[f32]) -> Vec<f32> {
        let mut all = self.apply(rows);
        all.iter_mut().for_each(|value| *value = value.max(0.0));
        all
    }
}

/// Takes bytes from the front.
pub(super) fn taken<const N: usize>(bytes: &mut &[u8]) -> Option<[u8; N]> {
    let (own, rest) = bytes.split_first_chunk::<N>()?;
    *bytes = rest;
    Some(*own)
}
