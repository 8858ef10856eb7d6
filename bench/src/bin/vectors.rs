//! How fast the exact vector search is beside the memory's read bandwidth, and whether it finds what a plain search finds.
//!
//! `vectors ROWS PATH…`: the lines of the files at PATH are encoded, and their vectors enlarged to ROWS by small random
//! differences. Both on two threads, interleaved.

use std::time::Instant;

use logothete_bench::{files, median};
use logothete_core::search::RowSet;
use logothete_core::vector::{Distance, Encoder, Role, VectorIndex, Vectors, write_vectors};
use logothete_encoder::SentenceEncoder;
use rayon::prelude::*;

const THREADS: usize = 2;
const REPEATS: usize = 7;
/// How many queries are timed in each repeat.
const TIMED: usize = 20;
/// How many queries are compared with the plain search.
const COMPARED: usize = 100;
const PLACES: usize = 10;
/// How long the random difference is, beside a vector of length 1.
const DIFFERENCE: f32 = 0.25;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (Some(rows), paths) = (arguments.first().and_then(|rows| rows.parse::<usize>().ok()), &arguments[1..]) else {
        eprintln!("give a number of rows, and files or folders with texts");
        std::process::exit(2);
    };
    rayon::ThreadPoolBuilder::new().num_threads(THREADS).build_global().expect("threads");
    let lines = lines(paths);
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let texts: Vec<&str> = lines.iter().map(String::as_str).collect();
    let real = encoder.encode(&texts, Role::Passage).expect("vectors");
    let enlarged = enlarged(&real, rows);
    let queries: Vec<Vec<f32>> = queries(&enlarged, COMPARED);
    let index = VectorIndex::open(write_vectors(&enlarged, Distance::Cosine)).expect("a segment");
    let live = RowSet::all(rows as u32);
    println!("{THREADS} threads; {} texts, enlarged to {rows} vectors of {} numbers", real.len(), real.dimensions());

    // What a search reads of each row: its codes, and what is known of them.
    let read = rows * (real.dimensions().next_multiple_of(64) + 12);
    let buffer = vec![1_u64; read / 8];
    let (mut bandwidths, mut speeds, mut shares) = (Vec::new(), Vec::new(), Vec::new());
    for repeat in 0..REPEATS {
        let bandwidth = bandwidth(&buffer);
        let since = Instant::now();
        for query in 0..TIMED {
            let hits = index.search(&queries[(repeat * TIMED + query) % queries.len()], &live, PLACES);
            assert_eq!(hits.len(), PLACES);
        }
        let each = since.elapsed().as_secs_f64() / TIMED as f64;
        let speed = read as f64 / each;
        bandwidths.push(bandwidth);
        speeds.push(1.0 / each);
        shares.push(speed / bandwidth * 100.0);
    }
    let (mut same, mut slow) = (0, Vec::new());
    for query in &queries {
        let since = Instant::now();
        let plain = plain(&enlarged, query);
        slow.push(since.elapsed().as_secs_f64());
        let hits = index.search(query, &live, PLACES);
        same += hits.iter().zip(&plain).filter(|(hit, row)| hit.row == **row).count();
    }
    println!("| read bandwidth, GB/s | searches/s | of the bandwidth | plain 32-bit searches/s | places that agree |");
    println!("|---:|---:|---:|---:|---:|");
    println!(
        "| {:.1} | {:.1} | {:.0} % | {:.1} | {:.2} % |",
        median(bandwidths) / 1e9,
        median(speeds),
        median(shares),
        1.0 / median(slow),
        same as f64 * 100.0 / (queries.len() * PLACES) as f64
    );
}

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

/// As many vectors as wanted: each real one in turn, moved by a little.
fn enlarged(real: &Vectors, rows: usize) -> Vectors {
    let real: Vec<&[f32]> = real.iter().collect();
    let mut enlarged = Vectors::new(real[0].len());
    let mut state = 1;
    for row in 0..rows {
        enlarged.push(&moved(real[row % real.len()], &mut state)).expect("finite");
    }
    enlarged
}

fn queries(vectors: &Vectors, count: usize) -> Vec<Vec<f32>> {
    let step = vectors.len() / count;
    let mut state = 2;
    vectors.iter().step_by(step.max(1)).take(count).map(|vector| moved(vector, &mut state)).collect()
}

/// Bytes a second that both threads together can add up from memory.
fn bandwidth(buffer: &[u64]) -> f64 {
    const TIMES: usize = 5;
    let since = Instant::now();
    for _ in 0..TIMES {
        let sum: u64 = buffer.par_chunks(1 << 16).map(|part| part.iter().fold(0, |sum: u64, &word| sum ^ word)).sum();
        std::hint::black_box(sum);
    }
    (buffer.len() * 8 * TIMES) as f64 / since.elapsed().as_secs_f64()
}

/// The best rows by the cosine in 32 bits, every row in full.
fn plain(vectors: &Vectors, query: &[f32]) -> Vec<u32> {
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
    scores.select_nth_unstable_by(PLACES, |a, b| b.0.total_cmp(&a.0));
    scores.truncate(PLACES);
    scores.sort_by(|a, b| b.0.total_cmp(&a.0));
    scores.into_iter().map(|(_, row)| row).collect()
}
