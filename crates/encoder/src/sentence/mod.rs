//! The encoder itself: tokeniser, network and pooling together.

mod embedded;
mod folder;
mod pack;
mod pooling;

use logothete_core::vector::{Encoder, Role, TokenEncoder, Vectors};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use rayon::prelude::*;

pub use folder::FolderSettings;
pub use pack::pack;
pub use pooling::Pooling;

use crate::bert::{Network, Rooms, Sequence, batches};
use crate::kernel::Kernel;
use crate::tokenise::Tokeniser;
use crate::weights::{Matrix, Quantised};

/// Bump it when the same weights would give other vectors.
const VERSION: &str = "1";

/// A sentence encoder of BERT's family, in our own code.
///
/// Vectors have length one. A text of more tokens than the model was trained for is cut there: see
/// [`count_tokens`](Encoder::count_tokens) and [`max_tokens`](Encoder::max_tokens), or [`tokens`](Self::tokens) for what was left
/// out. The vector of a text is the same whatever else is encoded beside it, on every processor.
///
/// ```
/// use logothete_core::vector::{Encoder, Role};
/// use logothete_encoder::SentenceEncoder;
///
/// let encoder = SentenceEncoder::embedded()?;
/// let vectors = encoder.encode(&["The lock gate is shut.", "Nobody can pass the sluice."], Role::Passage)?;
/// assert_eq!((vectors.len(), vectors.dimensions()), (2, 384));
/// # Ok::<(), logothete_core::Error>(())
/// ```
pub struct SentenceEncoder {
    name: String,
    tokeniser: Tokeniser,
    network: Network,
    pooling: Pooling,
    projections: Vec<Projection>,
    /// The prefixes of a query and of a passage.
    prefixes: [String; 2],
    /// The greatest number of tokens of a text, with those that mark its ends.
    longest: usize,
    languages: Vec<String>,
    /// As many of the first numbers of a token's vector are kept.
    token_dimensions: usize,
    fingerprint: Fingerprint,
    kernel: Kernel,
    rooms: Rooms,
}

impl std::fmt::Debug for SentenceEncoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SentenceEncoder").finish_non_exhaustive()
    }
}

/// A layer after the network.
struct Projection {
    matrix: Matrix,
    tanh: bool,
}

/// The tokens of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextTokens {
    /// Their numbers in the vocabulary, with those that mark the ends of the text.
    pub ids: Vec<u32>,
    /// The number of tokens that were truncated.
    pub left_out: usize,
}

impl SentenceEncoder {
    /// Returns the tokens that the model sees of a text.
    ///
    /// # Errors
    /// If the tokeniser fails. That of word pieces never fails.
    pub fn tokens(&self, text: &str, role: Role) -> Result<TextTokens> {
        let all = self.tokeniser.tokens(&self.prefixed(text, role), usize::MAX)?;
        let ids = self.between_ends(&all);
        Ok(TextTokens { left_out: all.len().saturating_sub(self.longest_between()), ids })
    }

    /// Returns the encoder with another kernel. Its vectors do not change.
    #[cfg(feature = "internals")]
    #[must_use]
    pub fn with_kernel(mut self, kernel: Kernel) -> Self {
        self.kernel = kernel;
        self
    }

    /// Returns the kernel in use.
    #[cfg(feature = "internals")]
    pub fn kernel(&self) -> Kernel {
        self.kernel
    }

    fn prefixed(&self, text: &str, role: Role) -> String {
        let [query, passage] = &self.prefixes;
        let prefix = if role == Role::Query { query } else { passage };
        [prefix.as_str(), text].concat()
    }

    /// Returns the number of tokens between those that mark the ends.
    fn longest_between(&self) -> usize {
        let (before, after) = self.tokeniser.ends();
        self.longest.saturating_sub(before.len() + after.len())
    }

    fn between_ends(&self, tokens: &[u32]) -> Vec<u32> {
        let (before, after) = self.tokeniser.ends();
        let kept = &tokens[..tokens.len().min(self.longest_between())];
        [before, kept, after].concat()
    }

    /// Runs the network over some texts in batches, and calls a function with the rows of each batch, in parallel.
    fn run<T: Send>(
        &self,
        texts: &[&str],
        role: Role,
        finish: impl Fn(&[f32], &[Vec<u32>]) -> Vec<T> + Sync,
    ) -> Result<Vec<T>> {
        let ids = |text: &&str| -> Result<Vec<u32>> {
            // A word has at least one token, so later words are not needed.
            let tokens = self.tokeniser.tokens(&self.prefixed(text, role), self.longest_between())?;
            Ok(self.between_ends(&tokens))
        };
        if let [text] = texts {
            return Ok(self.run_batch(&[ids(text)?], &finish));
        }
        let ids: Vec<Vec<u32>> = texts.par_iter().map(ids).collect::<Result<_>>()?;
        let batches = batches(&ids, Vec::len);
        Ok(batches.par_iter().flat_map_iter(|batch| self.run_batch(batch, &finish)).collect())
    }

    fn run_batch<T>(&self, batch: &[Vec<u32>], finish: &impl Fn(&[f32], &[Vec<u32>]) -> Vec<T>) -> Vec<T> {
        let texts: Vec<Sequence<'_>> = batch.iter().map(|tokens| Sequence::whole(tokens)).collect();
        let states = self.rooms.with(|room| self.network.run(self.kernel, &texts, room));
        finish(&states, batch)
    }

    /// Applies the layers after the network.
    fn project(&self, vector: Vec<f32>) -> Vec<f32> {
        let mut room = Quantised::default();
        self.projections.iter().fold(vector, |vector, projection| {
            let mut out = vec![0.0; projection.matrix.outputs()];
            projection.matrix.apply(self.kernel, &vector, None, &mut room, &mut out);
            if projection.tanh {
                out.iter_mut().for_each(|value| *value = value.tanh());
            }
            out
        })
    }
}

/// Returns how many numbers of a token's vector are kept of `all`.
fn kept_of_token(wanted: Option<usize>, all: usize) -> Result<usize> {
    let kept = wanted.unwrap_or(all);
    if (1..=all).contains(&kept) {
        return Ok(kept);
    }
    let message = format!("token_dimensions is {kept}; the vector of a token has {all} numbers, so set 1 to {all}");
    Err(Error::new(ErrorKind::Configuration, message))
}

/// Scales a vector to length one. A vector of zeros does not change.
fn normalise(mut vector: Vec<f32>) -> Vec<f32> {
    let length = vector.iter().map(|value| value * value).sum::<f32>().sqrt();
    if length > 0.0 {
        vector.iter_mut().for_each(|value| *value /= length);
    }
    vector
}

fn gather(dimensions: usize, vectors: impl IntoIterator<Item = Vec<f32>>) -> Result<Vectors> {
    let mut gathered = Vectors::new(dimensions);
    for vector in vectors {
        gathered.push(&vector)?;
    }
    Ok(gathered)
}

impl Encoder for SentenceEncoder {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn fingerprint(&self) -> Fingerprint {
        self.fingerprint.clone()
    }

    fn dimensions(&self) -> usize {
        self.projections.last().map_or(self.network.shape().hidden, |last| last.matrix.outputs())
    }

    fn max_tokens(&self) -> Option<usize> {
        let prefix = self.count_tokens(&self.prefixes[1]);
        Some(self.longest_between().saturating_sub(prefix))
    }

    fn count_tokens(&self, text: &str) -> usize {
        self.tokeniser.tokens(text, usize::MAX).map_or(0, |tokens| tokens.len())
    }

    fn languages(&self) -> Option<Vec<String>> {
        (!self.languages.is_empty()).then(|| self.languages.clone())
    }

    fn by_token(&self) -> Option<&dyn TokenEncoder> {
        Some(self)
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        let hidden = self.network.shape().hidden;
        let vectors = self.run(texts, role, |states, batch| {
            let mut rest = states;
            let each = batch.iter().map(|text| {
                let (rows, behind) = rest.split_at(text.len() * hidden);
                rest = behind;
                normalise(self.project(self.pooling.apply(self.kernel, rows, hidden)))
            });
            each.collect()
        })?;
        gather(self.dimensions(), vectors)
    }
}

impl TokenEncoder for SentenceEncoder {
    fn token_dimensions(&self) -> usize {
        self.token_dimensions
    }

    fn encode_tokens(&self, texts: &[&str], role: Role) -> Result<Vec<Vectors>> {
        let hidden = self.network.shape().hidden;
        let (before, after) = self.tokeniser.ends();
        let per_text = self.run(texts, role, |states, batch| {
            let mut rest = states;
            let each = batch.iter().map(|text| {
                let (rows, behind) = rest.split_at(text.len() * hidden);
                rest = behind;
                let inner = &rows[before.len() * hidden..rows.len() - after.len() * hidden];
                let vectors = inner.chunks_exact(hidden).map(|row| {
                    let mut vector = self.project(row.to_vec());
                    vector.truncate(self.token_dimensions);
                    normalise(vector)
                });
                gather(self.token_dimensions, vectors)
            });
            each.collect()
        })?;
        per_text.into_iter().collect()
    }
}
