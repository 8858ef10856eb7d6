//! What is measured of a candidate: its words and its vector, and those of its section.

use crate::keyword::{PreparedQuery, Standing};

/// The candidates that are nearest to one say how near it is to everything.
const NEAREST: usize = 10;

/// What is measured of a candidate.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Facts {
    /// The fused score.
    pub fused: f32,
    /// The score of the chunk by BM25.
    pub keyword: f32,
    /// The cosine of the question and the chunk.
    pub vector: f32,
    /// The score of the whole section by BM25.
    pub section_keyword: f32,
    /// The cosine of the question and the mean vector of the section.
    pub section_vector: f32,
    /// The highest cosine of the question and a chunk of the section.
    pub section_best: f32,
    /// The share of the question's words that the chunk has, weighted by how rare they are.
    pub coverage: f32,
    /// The same of the section.
    pub section_coverage: f32,
    /// Where the chunk has the words.
    pub standing: Standing,
    /// The highest score of a chunk of the section by BM25.
    pub section_keyword_best: f32,
    /// The cosine of the question and the first chunk of the section.
    pub section_first: f32,
    /// The mean cosine to the candidates that are nearest to it.
    pub density: f32,
    /// The number of the chunk in its section, from 0.
    pub place: u32,
    /// The number of chunks in its section.
    pub section_chunks: u32,
    /// The number of words of the chunk.
    pub words: u32,
    /// The share of its text in lines of a few words that end no sentence, as in lists and indexes.
    pub entries: f32,
    /// What tells its section from those of the other candidates.
    pub section: u32,
}

/// The question that candidates are measured for.
#[derive(Debug)]
pub struct Question<'a> {
    query: &'a PreparedQuery,
    weights: Vec<f32>,
    vector: Vec<f32>,
}

/// What is known of a chunk.
#[derive(Clone, Copy, Debug)]
pub struct Measured<'a> {
    /// How often it has each word of the question.
    pub frequencies: &'a [u32],
    /// Its number of words.
    pub words: u32,
    /// Its vector, of length 1; empty if there is none.
    pub vector: &'a [f32],
}

impl<'a> Question<'a> {
    /// Creates it from the words of a question and its vector.
    pub fn new(query: &'a PreparedQuery, vector: &[f32]) -> Self {
        Self { query, weights: query.weights(), vector: normalised(vector.to_vec()) }
    }

    /// Measures a chunk and the chunks of its section, of which a section has `mean` on average. What needs the other candidates
    /// stays 0.
    ///
    /// Costs a product of the question's vector with each vector of the section.
    pub fn measure(&self, chunk: Measured<'_>, section: &[Measured<'_>], mean: f32) -> Facts {
        let mean_length = self.query.mean_length();
        let mut together = vec![0_u32; self.weights.len()];
        let (mut words, mut middle) = (0_u32, vec![0.0; self.vector.len()]);
        let vector = dot(&self.vector, chunk.vector);
        let (mut best, mut keyword_best, mut first) = (vector, 0.0_f32, None);
        for other in section {
            together.iter_mut().zip(other.frequencies).for_each(|(sum, count)| *sum = sum.saturating_add(*count));
            words = words.saturating_add(other.words);
            middle.iter_mut().zip(other.vector).for_each(|(sum, value)| *sum += value);
            let cosine = dot(&self.vector, other.vector);
            best = best.max(cosine);
            first = first.or(Some(cosine));
            keyword_best = keyword_best.max(self.query.score(other.frequencies, other.words, mean_length));
        }
        Facts {
            keyword: self.query.score(chunk.frequencies, chunk.words, mean_length),
            vector,
            section_keyword: self.query.score(&together, words, mean_length * mean),
            section_vector: dot(&self.vector, &normalised(middle)),
            section_best: best,
            section_keyword_best: keyword_best,
            section_first: first.unwrap_or(vector),
            coverage: self.covered(chunk.frequencies),
            section_coverage: self.covered(&together),
            words: chunk.words,
            ..Facts::default()
        }
    }

    /// Returns the share of its words, by weight, that a text has.
    fn covered(&self, frequencies: &[u32]) -> f32 {
        let total: f32 = self.weights.iter().sum();
        let had = self.weights.iter().zip(frequencies).filter(|(_, count)| **count > 0);
        if total > 0.0 { had.map(|(weight, _)| weight).sum::<f32>() / total } else { 0.0 }
    }
}

/// Returns the mean cosine of each vector to the ten of the others that are nearest to it. The vectors must be of length 1.
///
/// Costs a product of each two vectors.
pub fn densities(vectors: &[&[f32]]) -> Vec<f32> {
    let mut cosines = vec![Vec::with_capacity(vectors.len()); vectors.len()];
    for (at, vector) in vectors.iter().enumerate() {
        for (other, second) in vectors.iter().enumerate().skip(at + 1) {
            let cosine = dot(vector, second);
            cosines[at].push(cosine);
            cosines[other].push(cosine);
        }
    }
    let nearest = cosines.into_iter().map(|mut cosines: Vec<f32>| {
        cosines.sort_unstable_by(|a, b| b.total_cmp(a));
        cosines.truncate(NEAREST);
        cosines.iter().sum::<f32>() / cosines.len().max(1) as f32
    });
    nearest.collect()
}

/// Returns a vector of length 1; one of zeros, or with an infinite number, as it is.
pub fn normalised(mut vector: Vec<f32>) -> Vec<f32> {
    let length = dot(&vector, &vector).sqrt();
    if length > 0.0 && length.is_finite() {
        vector.iter_mut().for_each(|value| *value /= length);
    }
    vector
}

fn dot(a: &[f32], b: &[f32]) -> f32 {
    // Eight sums are added side by side.
    let (blocks, rest) = (a.as_chunks::<8>(), b.as_chunks::<8>());
    let mut sums = [0.0_f32; 8];
    for (a, b) in blocks.0.iter().zip(rest.0) {
        for (sum, (a, b)) in sums.iter_mut().zip(a.iter().zip(b)) {
            *sum += a * b;
        }
    }
    let tail: f32 =
        if blocks.0.len() == rest.0.len() { blocks.1.iter().zip(rest.1).map(|(a, b)| a * b).sum() } else { 0.0 };
    sums.iter().sum::<f32>() + tail
}
