//! A small network that looks at the words of a claim and of its source together, by their vectors.
//!
//! Each word of the one is compared with what it is most like in the other (decomposable attention, Parikh and others, 2016): the vectors of words are those of the
//! encoder, which read their sentence. `bench/claims/train.py` trains it, and writes `english.bin`: the fingerprint of the encoder (16 bytes), how much the same word attracts
//! (32 bits), and seven layers.

mod layer;

use std::sync::LazyLock;

use layer::{Layer, taken};

use super::meaning::Meaning;
use crate::fingerprint::Fingerprint;
use crate::text::fold;

static ENGLISH: &[u8] = include_bytes!("english.bin");
static NETWORK: LazyLock<Option<Network>> = LazyLock::new(|| Network::read(ENGLISH));

/// So many words of a claim, and of a source, are looked at.
const MAX_CLAIM: usize = 64;
const MAX_SOURCE: usize = 160;
/// A word of the source that gets less attention than this counts as none.
const MIN_ATTENTION: f32 = 5e-4;
/// How fast a word counts in full as it gets more attention.
const ATTENTION: f32 = 20.0;

/// How probable the network finds it that a source supports a claim, contradicts it, or does neither.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Reading {
    pub supported: f32,
    pub contradicted: f32,
    pub unsupported: f32,
}

/// The network.
#[derive(Clone, Debug, PartialEq)]
struct Network {
    encoder: String,
    /// How much a word is attracted by the same word.
    same: f32,
    focus: [Layer; 2],
    project: Layer,
    compare: [Layer; 2],
    judge: [Layer; 2],
}

/// What the network makes of each word of a text by itself, word after word. It is kept with the text, which several claims may be held against.
#[derive(Clone, Debug, Default)]
pub(super) struct Seen {
    focused: Vec<f32>,
    projected: Vec<f32>,
}

/// The words of a text, and what the network makes of each by itself.
#[derive(Clone, Debug, Default)]
struct Words {
    folded: Vec<String>,
    seen: Seen,
}

impl Words {
    /// Adds the words of a text, `max` in all at most. `None` means that their vectors have other dimensions than the network takes.
    fn add(&mut self, network: &Network, text: &str, meaning: &Meaning, max: usize) -> Option<()> {
        let count = meaning.words.len().min(max.saturating_sub(self.folded.len()));
        let words = meaning.words.iter().take(count);
        self.folded.extend(words.map(|(span, _)| text.get(span.range()).map(fold).unwrap_or_default()));
        let seen = meaning.seen.get_or_init(|| network.seen(meaning));
        self.seen.focused.extend_from_slice(seen.focused.get(..count * network.focus[1].outputs)?);
        self.seen.projected.extend_from_slice(seen.projected.get(..count * network.project.outputs)?);
        Some(())
    }
}

/// Returns `true` if the network was trained with the vectors of an encoder.
pub(super) fn knows(encoder: &Fingerprint) -> bool {
    NETWORK.as_ref().is_some_and(|network| network.encoder == encoder.as_str())
}

/// Reads a claim and the sentences of its source together, those nearest to the claim if they are many. `None` means that the network does not know the vectors of one of them.
///
/// Costs some hundred thousand products for each word.
pub(super) fn reading(claim: (&str, &Meaning), source: &[(&str, &Meaning)]) -> Option<Reading> {
    let network = NETWORK.as_ref()?;
    let mut order: Vec<usize> = (0..source.len()).collect();
    let nearness: Vec<f32> = source.iter().map(|(_, meaning)| claim.1.similarity(meaning)).collect();
    order.sort_by(|a, b| nearness[*b].total_cmp(&nearness[*a]).then(a.cmp(b)));
    let mut count = 0;
    let is_within = |at: &usize| {
        let before = count;
        count += source[*at].1.words.len();
        before == 0 || count <= MAX_SOURCE
    };
    let mut chosen: Vec<usize> = order.into_iter().take_while(is_within).collect();
    chosen.sort_unstable();
    let all = chosen.iter().map(|at| source[*at].1).chain([claim.1]);
    if !all.into_iter().all(|meaning| meaning.is_readable) {
        return None;
    }
    let (mut own, mut theirs) = (Words::default(), Words::default());
    own.add(network, claim.0, claim.1, MAX_CLAIM)?;
    for at in chosen {
        theirs.add(network, source[at].0, source[at].1, MAX_SOURCE)?;
    }
    if own.folded.is_empty() || theirs.folded.is_empty() { None } else { network.reading(&own, &theirs) }
}

impl Network {
    fn read(mut bytes: &[u8]) -> Option<Self> {
        let bytes = &mut bytes;
        let encoder = String::from_utf8(taken::<16>(bytes)?.to_vec()).ok()?;
        let same = f32::from_le_bytes(taken(bytes)?);
        let mut layer = || Layer::read(bytes);
        let focus = [layer()?, layer()?];
        let project = layer()?;
        let compare = [layer()?, layer()?];
        let judge = [layer()?, layer()?];
        let network = Self { encoder, same, focus, project, compare, judge };
        (bytes.is_empty() && network.fits()).then_some(network)
    }

    /// Returns `true` if each layer takes what the one before it gives.
    fn fits(&self) -> bool {
        let (wide, compared) = (self.project.outputs, self.compare[1].outputs);
        self.focus[0].inputs == self.project.inputs
            && self.focus[1].inputs == self.focus[0].outputs
            && self.compare[0].inputs == 4 * wide + 2
            && self.compare[1].inputs == self.compare[0].outputs
            && self.judge[0].inputs == 4 * compared
            && self.judge[1].inputs == self.judge[0].outputs
            && self.judge[1].outputs == 3
            && [self.project.inputs, wide, compared, self.focus[1].outputs].iter().all(|count| *count > 0)
    }

    /// Returns what it makes of each word by itself; nothing if the vectors have other dimensions.
    fn seen(&self, meaning: &Meaning) -> Seen {
        let vectors: Vec<f32> = meaning.words.iter().flat_map(|(_, vector)| vector.iter().copied()).collect();
        if vectors.len() != meaning.words.len() * self.project.inputs {
            return Seen::default();
        }
        let focused = self.focus[1].rectified(&self.focus[0].rectified(&vectors));
        Seen { focused, projected: self.project.apply(&vectors) }
    }

    fn reading(&self, claim: &Words, source: &Words) -> Option<Reading> {
        let (rows, columns) = (claim.folded.len(), source.folded.len());
        let same: Vec<f32> = claim
            .folded
            .iter()
            .flat_map(|own| source.folded.iter().map(move |other| f32::from(u8::from(own == other))))
            .collect();
        let attraction = self.attraction(&claim.seen.focused, &source.seen.focused, &same);
        let (of_claim, of_source) =
            (Attention::by_row(&attraction, columns), Attention::by_row(&turned(&attraction, columns), rows));
        let (own, theirs) = (&claim.seen.projected, &source.seen.projected);
        let compared = self.compared(own, &of_claim, theirs, &same, |_| true);
        let mut attended: Vec<f32> = vec![0.0; columns];
        of_claim.weights.iter().enumerate().for_each(|(at, weight)| attended[at % columns] += weight);
        let total: f32 = attended.iter().sum();
        attended.iter_mut().for_each(|share| *share /= total.max(1e-6));
        let counts = |at: usize| attended[at] >= MIN_ATTENTION;
        let reverse = self.compared(theirs, &of_source, own, &turned(&same, columns), counts);
        let width = self.compare[1].outputs;
        let mut facts = vec![0.0_f32; 4 * width];
        for row in compared.chunks_exact(width) {
            for (at, value) in row.iter().enumerate() {
                facts[at] += value / rows as f32;
                facts[width + at] = facts[width + at].max(*value);
            }
        }
        for (row, share) in reverse.chunks_exact(width).zip(attended.iter().filter(|share| **share >= MIN_ATTENTION)) {
            let whole = (share * ATTENTION).tanh();
            for (at, value) in row.iter().enumerate() {
                facts[2 * width + at] += value * share;
                facts[3 * width + at] = facts[3 * width + at].max(value * whole);
            }
        }
        let sums = self.judge[1].apply(&self.judge[0].rectified(&facts));
        let chances = softmax(&sums);
        let [supported, contradicted, unsupported] = *chances.first_chunk()?;
        Some(Reading { supported, contradicted, unsupported })
    }

    /// Returns how much each word of the claim is attracted by each of the source.
    fn attraction(&self, claim: &[f32], source: &[f32], same: &[f32]) -> Vec<f32> {
        let width = self.focus[1].outputs;
        let scale = (width as f32).sqrt();
        let pairs =
            claim.chunks_exact(width).flat_map(|own| source.chunks_exact(width).map(move |other| product(own, other)));
        pairs.zip(same).map(|(product, same)| product / scale + same * self.same).collect()
    }

    /// Compares the words of one text that count with what they are most like in the other.
    fn compared(
        &self,
        own: &[f32],
        attention: &Attention,
        other: &[f32],
        same: &[f32],
        counts: impl Fn(usize) -> bool,
    ) -> Vec<f32> {
        let width = self.project.outputs;
        let columns = attention.columns;
        let mut inputs = Vec::new();
        let rows = own.chunks_exact(width).zip(attention.weights.chunks_exact(columns)).zip(same.chunks_exact(columns));
        for (_, ((own, weights), same)) in rows.enumerate().filter(|(at, _)| counts(*at)) {
            let mut like = vec![0.0; width];
            for (weight, other) in weights.iter().zip(other.chunks_exact(width)) {
                like.iter_mut().zip(other).for_each(|(sum, value)| *sum += weight * value);
            }
            inputs.extend_from_slice(own);
            inputs.extend_from_slice(&like);
            inputs.extend(own.iter().zip(&like).map(|(own, like)| own * like));
            inputs.extend(own.iter().zip(&like).map(|(own, like)| (own - like).abs()));
            inputs.push(same.iter().copied().fold(0.0, f32::max));
            inputs.push(product(weights, same));
        }
        self.compare[1].rectified(&self.compare[0].rectified(&inputs))
    }
}

/// How the attention of each word of one text is shared among the words of the other.
struct Attention {
    weights: Vec<f32>,
    columns: usize,
}

impl Attention {
    fn by_row(attraction: &[f32], columns: usize) -> Self {
        Self { weights: attraction.chunks_exact(columns).flat_map(softmax).collect(), columns }
    }
}

/// Returns a table with its rows as columns.
fn turned(table: &[f32], columns: usize) -> Vec<f32> {
    let rows = table.len() / columns.max(1);
    (0..table.len()).map(|at| table[at % rows * columns + at / rows]).collect()
}

fn softmax(sums: &[f32]) -> Vec<f32> {
    let most = sums.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let powers: Vec<f32> = sums.iter().map(|sum| (sum - most).exp()).collect();
    let total: f32 = powers.iter().sum();
    powers.into_iter().map(|power| power / total).collect()
}

fn product(a: &[f32], b: &[f32]) -> f32 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_that_is_cut_or_has_other_layers_is_none() {
        assert!(Network::read(ENGLISH).is_some());
        assert!((0..ENGLISH.len()).step_by(1_009).all(|end| Network::read(&ENGLISH[..end]).is_none()));
        let longer = [ENGLISH, &[0]].concat();
        assert!(Network::read(&longer).is_none());
        // The outputs of the first layer, and a number of them that no file has.
        for outputs in [1_u32, 127, u32::MAX] {
            let mut other = ENGLISH.to_vec();
            other[20..24].copy_from_slice(&outputs.to_le_bytes());
            assert!(Network::read(&other).is_none());
        }
    }

    #[test]
    fn attention_is_shared_among_all_words() {
        let shares = softmax(&[1.0, 1.0, 3.0, -200.0]);
        assert!((shares.iter().sum::<f32>() - 1.0).abs() < 1e-6);
        assert!(shares[2] > shares[0] && (shares[0] - shares[1]).abs() < 1e-9);
        assert_eq!(turned(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0], 3), [1.0, 4.0, 2.0, 5.0, 3.0, 6.0]);
    }
}
