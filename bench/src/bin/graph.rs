//! How fast the graph is built and searched beside the exact search, and how much of what that finds it finds.
//!
//! `graph ROWS PATH…`: vectors as for `vectors`. Both search on two threads, interleaved: the exact search one query on both, the
//! graph a query on each.

use std::collections::HashSet;
use std::time::Instant;

use logothete_bench::median;
use logothete_bench::vectors::Enlarged;
use logothete_core::segment::whole_segment;
use logothete_core::segment::{Hit, RowSet};
use logothete_core::vector::{AnnGraph, Distance, VectorIndex, write_ann_graph, write_vectors};
use rayon::prelude::*;

const THREADS: usize = 2;
const REPEATS: usize = 5;
const QUERIES: usize = 1000;
/// How many queries the exact search answers in each repeat.
const EXACT: usize = 50;
const PLACES: usize = 10;

fn main() {
    rayon::ThreadPoolBuilder::new().num_threads(THREADS).build_global().expect("threads");
    let Enlarged { texts, vectors, queries } = Enlarged::from_arguments(QUERIES);
    let rows = vectors.len();
    println!("{THREADS} threads; {texts} texts, enlarged to {rows} vectors of {} numbers", vectors.dimensions());
    let index =
        VectorIndex::open(whole_segment(|to| write_vectors(&vectors, Distance::Cosine, to)).expect("a segment"))
            .expect("a segment");
    drop(vectors);
    let since = Instant::now();
    let graph =
        whole_segment(|to| Ok(write_ann_graph(&index, to, &|| false)?.expect("it has codes"))).expect("a graph");
    let took = since.elapsed().as_secs_f64();
    println!("built in {took:.0} s, {:.0} vectors/s; {} MB", rows as f64 / took, graph.len() / 1_000_000);
    let graph = AnnGraph::open(graph).expect("a graph");
    println!("| rows kept | recall@{PLACES} | graph, searches/s | exact, searches/s | times the exact |");
    println!("|---:|---:|---:|---:|---:|");
    for one_in in [1, 10, 100, 1000] {
        let mut live = RowSet::new(rows as u32);
        let mut state = 5_u64;
        for row in 0..rows as u32 {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            if (state >> 33).is_multiple_of(one_in) {
                live.insert(row);
            }
        }
        let (mut ours, mut exact, mut times, mut found) = (Vec::new(), Vec::new(), Vec::new(), 0);
        for repeat in 0..REPEATS {
            let since = Instant::now();
            let near: Vec<Vec<Hit>> =
                queries.par_iter().map(|query| graph.search(&index, query, &live, PLACES)).collect();
            let graph_speed = queries.len() as f64 / since.elapsed().as_secs_f64();
            let some = queries.iter().zip(&near).skip(repeat * EXACT).take(EXACT);
            let since = Instant::now();
            for (query, near) in some {
                let right = index.search(query, &live, PLACES);
                let right: HashSet<u32> = right.iter().map(|hit| hit.row).collect();
                found += near.iter().filter(|hit| right.contains(&hit.row)).count();
            }
            let exact_speed = EXACT as f64 / since.elapsed().as_secs_f64();
            ours.push(graph_speed);
            exact.push(exact_speed);
            times.push(graph_speed / exact_speed);
        }
        println!(
            "| 1 in {one_in} | {:.3} | {:.0} | {:.1} | {:.1} |",
            found as f64 / (REPEATS * EXACT * PLACES) as f64,
            median(ours),
            median(exact),
            median(times)
        );
    }
}
