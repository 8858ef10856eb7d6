//! A cross-encoder: a network that reads a question and a passage together, and says how well the passage answers it.
//!
//! Nogueira and Cho, "Passage Re-ranking with BERT", 2019.

use std::path::Path;
use std::time::{Duration, Instant};

use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use rayon::prelude::*;

use crate::bert::{Network, Precision, Rooms, Sequence, batches, new_matrix};
use crate::folder::{Folder, Parts};
use crate::kernel::Kernel;
use crate::tokenise::Tokeniser;
use crate::weights::{Matrix, Quantised, Tensors};

/// A cross-encoder of BERT's family with a head that gives one score, from a folder.
///
/// A question and a passage go through the network together, so that nothing can be computed before the question is known: 100 passages cost as much
/// as encoding them. What does not fit is cut from the end of the passage, and a question is cut to half of what the model reads.
pub struct CrossEncoder {
    name: String,
    tokeniser: Tokeniser,
    network: Network,
    head: Head,
    /// The greatest number of tokens of a pair, with those that mark its parts.
    longest: usize,
    /// Whether two marks stand between the parts of a pair, and not one.
    has_double_mark: bool,
    fingerprint: Fingerprint,
    kernel: Kernel,
    rooms: Rooms,
}

impl std::fmt::Debug for CrossEncoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CrossEncoder").field("name", &self.name).finish_non_exhaustive()
    }
}

/// The layers behind the network: one with a hyperbolic tangent, and one with the score, or with the scores of “no” and “yes”.
struct Head {
    pooler: Matrix,
    score: Matrix,
}

/// The tokens of a pair, and where those of the second part begin.
type Pair = (Vec<u32>, usize);

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
        let head = Head::read(&tensors, shape.hidden, precision)?;
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
        let (kernel, rooms) = (Kernel::best(), Rooms::default());
        Ok(Self { name, tokeniser, network, head, longest, has_double_mark, fingerprint, kernel, rooms })
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
        let question = self.tokeniser.tokens(question, self.longest)?;
        let pairs =
            passages.par_iter().map(|passage| Ok(self.pair(&question, &self.tokeniser.tokens(passage, self.longest)?)));
        let pairs: Vec<Pair> = pairs.collect::<Result<_>>()?;
        let mut scores = Vec::with_capacity(pairs.len());
        // A batch a thread at a time, so that the first passages are read first.
        let mut took = Duration::ZERO;
        for group in batches(&pairs, |pair| pair.0.len()).chunks(rayon::current_num_threads()) {
            if is_over(took) {
                break;
            }
            let started = Instant::now();
            scores.par_extend(group.par_iter().flat_map_iter(|batch| self.scores_of(batch)).map(Some));
            took = started.elapsed();
        }
        scores.resize(pairs.len(), None);
        Ok(scores)
    }

    /// Returns the scores of a batch.
    fn scores_of(&self, batch: &[Pair]) -> Vec<f32> {
        let hidden = self.network.shape().hidden;
        let texts: Vec<Sequence<'_>> =
            batch.iter().map(|(tokens, second)| Sequence { tokens, second: *second }).collect();
        let states = self.rooms.with(|room| self.network.run(self.kernel, &texts, room));
        let mut first = 0;
        let score = |text: &Sequence<'_>| {
            let state = &states[first * hidden..(first + 1) * hidden];
            first += text.tokens.len();
            self.head.score(self.kernel, state)
        };
        texts.iter().map(score).collect()
    }

    /// Joins a question and a passage, with the tokens that mark their ends.
    fn pair(&self, question: &[u32], passage: &[u32]) -> Pair {
        let (before, after) = self.tokeniser.ends();
        let between = if self.has_double_mark { [after, after].concat() } else { after.to_vec() };
        let room = self.longest.saturating_sub(before.len() + between.len() + after.len());
        let question = &question[..question.len().min(room / 2)];
        let passage = &passage[..passage.len().min(room - question.len())];
        let second = before.len() + question.len() + between.len();
        ([before, question, &between, passage, after].concat(), second)
    }
}

impl Head {
    /// Reads the head of a model. Its two layers have one of two pairs of names.
    fn read(tensors: &Tensors, hidden: usize, precision: Precision) -> Result<Self> {
        let named = |name: &str| tensors.names().find(|found| found.ends_with(name)).map(str::to_owned);
        let names = [("pooler.dense", "classifier"), ("classifier.dense", "classifier.out_proj")];
        let found = names.iter().find_map(|(pooler, score)| {
            Some((named(&format!("{pooler}.weight"))?, named(&format!("{score}.weight"))?))
        });
        let Some((pooler, score)) = found else {
            let message = "this model has no head with a score (pooler.dense and classifier, or classifier.dense and classifier.out_proj); \
                           choose a cross-encoder";
            return Err(Error::new(ErrorKind::Unsupported, message));
        };
        let bias = |weight: &str| weight.strip_suffix("weight").map(|name| format!("{name}bias")).unwrap_or_default();
        let outputs = tensors.shape(&score).and_then(|shape| shape.first().copied()).unwrap_or_default();
        if !(1..=2).contains(&outputs) {
            let message = format!("its head gives {outputs} scores; one score, or those of no and yes, can be used");
            return Err(Error::new(ErrorKind::Unsupported, message).at(score));
        }
        let matrix = |weight: &str, outputs: usize, precision: Precision| -> Result<Matrix> {
            let weights = tensors.floats(weight, &[outputs, hidden])?;
            Ok(new_matrix(&weights, &tensors.floats(&bias(weight), &[outputs])?, precision))
        };
        // The last layer decides alone and costs nothing, so it is never rounded.
        Ok(Self { pooler: matrix(&pooler, hidden, precision)?, score: matrix(&score, outputs, Precision::Float32)? })
    }

    fn score(&self, kernel: Kernel, state: &[f32]) -> f32 {
        let mut room = Quantised::default();
        let mut pooled = vec![0.0; self.pooler.outputs()];
        self.pooler.apply(kernel, state, None, &mut room, &mut pooled);
        pooled.iter_mut().for_each(|value| *value = value.tanh());
        let mut scores = vec![0.0; self.score.outputs()];
        self.score.apply(kernel, &pooled, None, &mut room, &mut scores);
        match scores[..] {
            [no, yes] => yes - no,
            _ => scores.first().copied().unwrap_or_default(),
        }
    }
}
