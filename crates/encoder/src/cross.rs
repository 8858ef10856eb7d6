//! A cross-encoder: a network that reads a question and a passage together, and says how well the passage answers it.
//!
//! Nogueira and Cho, "Passage Re-ranking with BERT", 2019.

use std::path::Path;
use std::time::{Duration, Instant};

use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use rayon::prelude::*;

use crate::bert::{Network, Precision, batches};
use crate::folder::{Folder, Parts};
use crate::pairs::{Head, Pair, PairNetwork};
use crate::tokenise::Tokeniser;

/// A cross-encoder of BERT's family with a head that gives one score, from a folder.
///
/// A question and a passage go through the network together, so that nothing can be computed before the question is known: 100 passages cost as much
/// as encoding them. What does not fit is cut from the end of the passage, and a question is cut to half of what the model reads.
pub struct CrossEncoder {
    name: String,
    tokeniser: Tokeniser,
    pairs: PairNetwork,
    fingerprint: Fingerprint,
}

impl std::fmt::Debug for CrossEncoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CrossEncoder").field("name", &self.name).finish_non_exhaustive()
    }
}

impl CrossEncoder {
    /// Creates a cross-encoder from a folder with `config.json`, `tokenizer.json` and weights as `*.safetensors`. `max_tokens` bounds the tokens of a
    /// pair; `None` means what the model reads.
    ///
    /// # Errors
    /// If a file, a key or a tensor is missing or of an unknown kind, or the model has no head with one score. The message names it.
    pub fn from_folder(path: impl AsRef<Path>, precision: Precision, max_tokens: Option<usize>) -> Result<Self> {
        let path = path.as_ref();
        let place = |error: Error| if error.place().is_none() { error.at(path.display()) } else { error };
        Self::open(path, precision, max_tokens).map_err(place)
    }

    fn open(path: &Path, precision: Precision, max_tokens: Option<usize>) -> Result<Self> {
        let Parts { config, shape, first_position, tokeniser, tensors, hashes } = Folder { path }.parts()?;
        let head = Head::from_trained(&tensors, shape.hidden, precision)?;
        let network = Network::from_trained(&tensors, shape, first_position, precision)?;
        let has_double_mark = config["model_type"].as_str() != Some("bert");
        let positions = network.shape().positions;
        let (before, after) = tokeniser.ends();
        let least = before.len() + 3 * after.len() + 2;
        let longest = max_tokens.unwrap_or(positions);
        if longest < least || longest > positions {
            let message =
                format!("pairs of up to {longest} tokens are not possible; this model reads {least} to {positions}");
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        let name =
            path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned());
        let fingerprint = Fingerprint::of(hashes.into_iter().chain([format!("cross {precision:?} {longest}")]));
        let pairs = PairNetwork::new(network, head, longest, has_double_mark);
        Ok(Self { name, tokeniser, pairs, fingerprint })
    }

    /// Returns the name of the folder.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns a fingerprint of everything that its scores depend on.
    pub fn fingerprint(&self) -> Fingerprint {
        self.fingerprint.clone()
    }

    /// Returns the score of each passage for a question; higher is better. Scores have no bounds: a model gives them a meaning of its own.
    ///
    /// Passages are read in batches, from the first on, by all threads of the current pool. Before batches, `is_over` is given how long the ones
    /// before took, and says whether time would be over after so long; what was not read by then is `None`.
    ///
    /// # Errors
    /// If the tokeniser fails. That of word pieces never fails.
    pub fn scores(
        &self,
        question: &str,
        passages: &[&str],
        is_over: impl Fn(Duration) -> bool,
    ) -> Result<Vec<Option<f32>>> {
        let tokens = |text: &str| self.tokeniser.tokens(text, self.pairs.longest());
        let question = tokens(question)?;
        let pairs =
            passages.par_iter().map(|passage| Ok(self.pairs.pair(&self.tokeniser, &question, &tokens(passage)?)));
        let pairs: Vec<Pair> = pairs.collect::<Result<_>>()?;
        let mut scores = Vec::with_capacity(pairs.len());
        // A batch a thread at a time, so that the first passages are read first.
        let mut took = Duration::ZERO;
        for group in batches(&pairs, |pair| pair.0.len()).chunks(rayon::current_num_threads()) {
            if is_over(took) {
                break;
            }
            let started = Instant::now();
            scores.par_extend(
                group.par_iter().flat_map_iter(|batch| self.pairs.outputs(batch)).map(|outputs| Some(score(&outputs))),
            );
            took = started.elapsed();
        }
        scores.resize(pairs.len(), None);
        Ok(scores)
    }
}

/// Returns the score that a head with one or two numbers gives.
fn score(outputs: &[f32]) -> f32 {
    match *outputs {
        [no, yes] => yes - no,
        _ => outputs.first().copied().unwrap_or_default(),
    }
}
