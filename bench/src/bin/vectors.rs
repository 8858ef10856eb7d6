//! How fast the exact vector search is beside the memory's read bandwidth, and whether it finds what a plain search finds.
//!
//! `vectors ROWS PATH…`: the lines of the files at PATH are encoded, and their vectors enlarged to ROWS by small random
//! differences. Both on two threads, interleaved.

use std::time::Instant;

use logothete_bench::median;
use logothete_bench::vectors::{Enlarged, plain};
use logothete_core::segment::RowSet;
use logothete_core::segment::whole_segment;
use logothete_core::vector::{Distance, VectorIndex, write_vectors};
use rayon::prelude::*;

const THREADS: usize = 2;
const REPEATS: usize = 7;
/// How many queries are timed in each repeat.
const TIMED: usize = 20;
/// How many queries are compared with the plain search.
const COMPARED: usize = 100;
const PLACES: usize = 10;

fn main() {
    rayon::ThreadPoolBuilder::new().num_threads(THREADS).build_global().expect("threads");
    let Enlarged { texts, vectors, queries } = Enlarged::from_arguments(COMPARED);
    let (rows, dimensions) = (vectors.len(), vectors.dimensions());
    let index =
        VectorIndex::open(whole_segment(|to| write_vectors(&vectors, Distance::Cosine, to)).expect("a segment"))
            .expect("a segment");
    let live = RowSet::all(rows as u32);
    println!("{THREADS} threads; {texts} texts, enlarged to {rows} vectors of {dimensions} numbers");

    // What a search reads of each row: its codes, and what is known of them.
    let read = rows * (dimensions.next_multiple_of(64) + 12);
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
        let plain = plain(&vectors, query, PLACES);
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
