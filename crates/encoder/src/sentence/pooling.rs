//! From a vector for each token to one for the text.

use serde::{Deserialize, Serialize};

use crate::kernel::Kernel;

/// How the vectors of a text's tokens become one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Pooling {
    /// Their mean.
    Mean,
    /// The first of them, the one that marks the beginning.
    First,
    /// The greatest of each number.
    Max,
}

impl Pooling {
    /// Pools rows of `hidden` numbers. Without rows, zeros.
    pub fn apply(self, kernel: Kernel, rows: &[f32], hidden: usize) -> Vec<f32> {
        let mut each = rows.chunks_exact(hidden);
        let Some(mut pooled) = each.next().map(<[f32]>::to_vec) else {
            return vec![0.0; hidden];
        };
        match self {
            Self::First => {}
            Self::Max => each.for_each(|row| kernel.greater(&mut pooled, row)),
            Self::Mean => {
                each.for_each(|row| kernel.add(&mut pooled, row));
                let count = (rows.len() / hidden) as f32;
                pooled.iter_mut().for_each(|value| *value /= count);
            }
        }
        pooled
    }
}
