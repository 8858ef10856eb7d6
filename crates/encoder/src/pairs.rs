//! Two texts read together by one network.

use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use crate::bert::{Network, Precision, Rooms, Sequence, new_matrix};
use crate::kernel::Kernel;
use crate::tokenise::Tokeniser;
use crate::weights::{ByteMatrix, FloatMatrix, Matrix, Quantised, TensorWriter, Tensors};

/// A network that reads two texts together, and a head that makes some numbers of the vector of the first token.
pub struct PairNetwork {
    network: Network,
    head: Head,
    /// The greatest number of tokens of a pair, with those that mark its parts.
    longest: usize,
    /// Whether two marks stand between the parts of a pair, and not one.
    has_double_mark: bool,
    kernel: Kernel,
    rooms: Rooms,
}

/// The layers behind the network: one with a hyperbolic tangent, and one with the numbers.
pub struct Head {
    pooler: Matrix,
    outputs: Matrix,
}

/// The tokens of a pair, and where those of the second part begin.
pub type Pair = (Vec<u32>, usize);

impl PairNetwork {
    /// Creates it from its parts.
    pub fn new(network: Network, head: Head, longest: usize, has_double_mark: bool) -> Self {
        Self { network, head, longest, has_double_mark, kernel: Kernel::best(), rooms: Rooms::default() }
    }

    /// Returns the greatest number of tokens of a pair.
    pub fn longest(&self) -> usize {
        self.longest
    }

    /// Joins the tokens of two texts with those that mark their ends. The first text is cut to half of what the network reads, and the second to the rest.
    pub fn pair(&self, tokeniser: &Tokeniser, first: &[u32], second: &[u32]) -> Pair {
        let (before, after) = tokeniser.ends();
        let between = if self.has_double_mark { [after, after].concat() } else { after.to_vec() };
        let room = self.longest.saturating_sub(before.len() + between.len() + after.len());
        let first = &first[..first.len().min(room / 2)];
        let second = &second[..second.len().min(room - first.len())];
        let at = before.len() + first.len() + between.len();
        ([before, first, &between, second, after].concat(), at)
    }

    /// Returns the pairs of some texts, in order.
    ///
    /// # Errors
    /// If the tokeniser fails.
    pub fn pairs(&self, tokeniser: &Tokeniser, texts: &[(&str, &str)]) -> Result<Vec<Pair>> {
        let tokens = |text: &str| tokeniser.tokens(text, self.longest);
        let pair = |(first, second): &(&str, &str)| Ok(self.pair(tokeniser, &tokens(first)?, &tokens(second)?));
        texts.par_iter().map(pair).collect()
    }

    /// Returns the numbers of each pair of a batch.
    pub fn outputs(&self, batch: &[Pair]) -> Vec<Vec<f32>> {
        let hidden = self.network.shape().hidden;
        let texts: Vec<Sequence<'_>> =
            batch.iter().map(|(tokens, second)| Sequence { tokens, second: *second }).collect();
        let states = self.rooms.with(|room| self.network.run(self.kernel, &texts, room));
        let mut first = 0;
        let outputs = |text: &Sequence<'_>| {
            let state = &states[first * hidden..(first + 1) * hidden];
            first += text.tokens.len();
            self.head.outputs(self.kernel, state)
        };
        texts.iter().map(outputs).collect()
    }
}

impl Head {
    /// Reads the head of a trained model. Its two layers have one of two pairs of names.
    ///
    /// # Errors
    /// If it has none, or one that gives more than two numbers.
    pub fn from_trained(tensors: &Tensors, hidden: usize, precision: Precision) -> Result<Self> {
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
        let count = tensors.shape(&score).and_then(|shape| shape.first().copied()).unwrap_or_default();
        if !(1..=2).contains(&count) {
            let message = format!("its head gives {count} scores; one score, or those of no and yes, can be used");
            return Err(Error::new(ErrorKind::Unsupported, message).at(score));
        }
        let matrix = |weight: &str, outputs: usize, precision: Precision| -> Result<Matrix> {
            let weights = tensors.floats(weight, &[outputs, hidden])?;
            Ok(new_matrix(&weights, &tensors.floats(&bias(weight), &[outputs])?, precision))
        };
        // The last layer decides alone and costs nothing, so it is never rounded.
        Ok(Self { pooler: matrix(&pooler, hidden, precision)?, outputs: matrix(&score, count, Precision::Float32)? })
    }

    /// Reads what [`pack`](Self::pack) wrote, with some numbers as its output.
    ///
    /// # Errors
    /// If a tensor is missing or of another shape; the message names it.
    pub fn from_packed(tensors: &Tensors, hidden: usize, count: usize) -> Result<Self> {
        let weights = tensors.exact::<f32>("head.weight", &[count, hidden])?;
        let bias = tensors.exact::<f32>("head.bias", &[count])?;
        Ok(Self {
            pooler: Matrix::Bytes(ByteMatrix::read(tensors, "pooler", hidden, hidden)?),
            outputs: Matrix::Float(FloatMatrix::new(&weights, &bias)),
        })
    }

    /// Adds a trained head, named `pooler` and `head`, to a file of packed tensors.
    ///
    /// # Errors
    /// If a tensor is missing or of another shape; the message names it.
    pub fn pack(tensors: &Tensors, hidden: usize, count: usize, file: &mut TensorWriter) -> Result<()> {
        let read = |name: &str, shape: &[usize]| tensors.floats(name, shape);
        ByteMatrix::new(&read("pooler.weight", &[hidden, hidden])?, &read("pooler.bias", &[hidden])?)
            .write("pooler", file);
        file.add("head.weight", &[count, hidden], &read("head.weight", &[count, hidden])?);
        file.add("head.bias", &[count], &read("head.bias", &[count])?);
        Ok(())
    }

    fn outputs(&self, kernel: Kernel, state: &[f32]) -> Vec<f32> {
        let mut room = Quantised::default();
        let mut pooled = vec![0.0; self.pooler.outputs()];
        self.pooler.apply(kernel, state, None, &mut room, &mut pooled);
        pooled.iter_mut().for_each(|value| *value = value.tanh());
        let mut outputs = vec![0.0; self.outputs.outputs()];
        self.outputs.apply(kernel, &pooled, None, &mut room, &mut outputs);
        outputs
    }
}
