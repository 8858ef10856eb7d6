//! Many vectors from few texts.

use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_encoder::SentenceEncoder;
use rayon::prelude::*;

use crate::files;

/// How long the random difference is, beside a vector of length 1.
const DIFFERENCE: f32 = 0.25;

/// The lines of files that are long enough to say something.
fn lines(paths: &[String]) -> Vec<String> {
    let mut lines = Vec::new();
    for path in paths.iter().flat_map(|path| files(path.as_ref())) {
        let text = std::fs::read(&path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default();
        if !text.contains('\0') {
            lines.extend(text.lines().filter(|line| line.split_whitespace().count() >= 5).map(str::to_owned));
        }
    }
    lines.sort();
    lines.dedup();
    lines
}

/// A number of -1 to 1 that looks random.
fn random(state: &mut u64) -> f32 {
    *state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    (*state >> 40) as f32 / (1 << 23) as f32 - 1.0
}

fn moved(vector: &[f32], state: &mut u64) -> Vec<f32> {
    // The mean square of a number that is evenly spread from -1 to 1 is a third.
    let step = DIFFERENCE / (vector.len() as f32 / 3.0).sqrt();
    vector.iter().map(|value| value + step * random(state)).collect()
}

/// Vectors, and queries that are near to some of them.
#[derive(Debug)]
pub struct Enlarged {
    /// How many texts there were.
    pub texts: usize,
    /// The vectors.
    pub vectors: Vectors,
    /// The queries.
    pub queries: Vec<Vec<f32>>,
}

impl Enlarged {
    /// From a program's arguments, a number of rows and files with texts: the lines of the files are encoded, and each vector
    /// repeated in turn, moved by a little, until there are as many rows as wanted.
    pub fn from_arguments(queries: usize) -> Self {
        let arguments: Vec<String> = std::env::args().skip(1).collect();
        let (Some(rows), [_, paths @ ..]) =
            (arguments.first().and_then(|rows| rows.parse().ok()), arguments.as_slice())
        else {
            eprintln!("give a number of rows, and files or folders with texts");
            std::process::exit(2);
        };
        let lines = lines(paths);
        let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
        let texts: Vec<&str> = lines.iter().map(String::as_str).collect();
        let real = encoder.encode(&texts, Role::Passage).expect("vectors");
        let real: Vec<&[f32]> = real.iter().collect();
        let (mut vectors, mut state) = (Vectors::new(real[0].len()), 1);
        for row in 0..rows {
            vectors.push(&moved(real[row % real.len()], &mut state)).expect("finite");
        }
        let (step, mut state) = ((rows / queries).max(1), 2);
        let queries = vectors.iter().step_by(step).take(queries).map(|vector| moved(vector, &mut state)).collect();
        Self { texts: texts.len(), vectors, queries }
    }
}

/// The best rows by the cosine in 32 bits, every row in full.
pub fn plain(vectors: &Vectors, query: &[f32], places: usize) -> Vec<u32> {
    let rows: Vec<&[f32]> = vectors.iter().collect();
    let cosine = |row: &[f32]| {
        let (mut product, mut square) = ([0.0_f32; 16], [0.0_f32; 16]);
        for (row, query) in row.chunks_exact(16).zip(query.chunks_exact(16)) {
            for lane in 0..16 {
                product[lane] += row[lane] * query[lane];
                square[lane] += row[lane] * row[lane];
            }
        }
        product.iter().sum::<f32>() / square.iter().sum::<f32>().sqrt()
    };
    let mut scores: Vec<(f32, u32)> =
        rows.par_iter().enumerate().map(|(row, vector)| (cosine(vector), row as u32)).collect();
    scores.select_nth_unstable_by(places, |a, b| b.0.total_cmp(&a.0));
    scores.truncate(places);
    scores.sort_by(|a, b| b.0.total_cmp(&a.0));
    scores.into_iter().map(|(_, row)| row).collect()
}
