//! How near the embedded encoder's vectors are to those of the model in 32-bit numbers, over a thousand texts; how near these
//! are to a second implementation; and what the first vector of a new process takes.
//!
//! `accuracy MODEL PATH…`: MODEL is the folder of the model that was embedded; the lines of the files at PATHs are the texts.
//! `accuracy first` only encodes a query, for measuring a new process from outside.

use std::path::Path;
use std::time::Instant;

use logothete_bench::median;
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_encoder::{FolderSettings, Precision, SentenceEncoder};

/// How many texts.
const TEXTS: usize = 1000;
const PARITY: &str = include_str!("../../../crates/encoder/tests/parity/texts.json");

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if arguments == ["first"] {
        first();
        return;
    }
    let [model, paths @ ..] = arguments.as_slice() else {
        eprintln!("give the folder of the model, and files or folders of texts");
        std::process::exit(2);
    };
    let mut lines = Vec::new();
    paths.iter().for_each(|path| add_lines(path.as_ref(), &mut lines));
    lines.sort();
    lines.dedup();
    // Evenly over all lines, which are in the order of the alphabet now.
    let step = (lines.len() as f64 / TEXTS as f64).max(1.0);
    let texts: Vec<&str> =
        (0..TEXTS).map_while(|at| lines.get((at as f64 * step) as usize)).map(String::as_str).collect();

    let embedded = SentenceEncoder::embedded().expect("the embedded encoder");
    let settings = FolderSettings { precision: Precision::Float32, ..FolderSettings::default() };
    let whole = SentenceEncoder::from_folder(model, &settings).expect("the model");
    let encode = |encoder: &SentenceEncoder, texts: &[&str]| encoder.encode(texts, Role::Passage).expect("vectors");
    let tokens: usize = texts.iter().map(|text| embedded.count_tokens(text)).sum();
    println!("{} texts, {:.1} tokens in the mean", texts.len(), tokens as f64 / texts.len() as f64);
    report("embedded to 32 bits", &texts, &encode(&embedded, &texts), &encode(&whole, &texts));

    let parity: Vec<serde_json::Value> = serde_json::from_str(PARITY).expect("JSON");
    let texts: Vec<&str> = parity.iter().filter_map(|case| case["text"].as_str()).collect();
    let mut second = Vectors::new(whole.dimensions());
    for case in &parity {
        let numbers = case["vector"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_f64);
        second.push(&numbers.map(|number| number as f32).collect::<Vec<_>>()).expect("a vector");
    }
    report("32 bits to the second implementation", &texts, &encode(&whole, &texts), &second);

    let query = ["What draught may enter the North Channel at low water?"];
    let times = (0..200).map(|_| {
        let since = Instant::now();
        encode(&embedded, &query);
        since.elapsed().as_secs_f64() * 1000.0
    });
    println!("a query: {:.2} ms, the median of 200", median(times.collect()));
    let program = std::env::current_exe().expect("this program");
    let times = (0..20).map(|_| {
        let since = Instant::now();
        let done = std::process::Command::new(&program).arg("first").output().expect("it runs");
        assert!(done.status.success());
        since.elapsed().as_secs_f64() * 1000.0
    });
    println!("a new process to its end, with one query encoded: {:.1} ms, the median of 20", median(times.collect()));
}

fn first() {
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    println!("{:?}", encoder.encode(&["Where is the lock?"], Role::Query).expect("a vector").iter().next());
}

fn report(name: &str, texts: &[&str], ours: &Vectors, theirs: &Vectors) {
    let dot = |(a, b): (&[f32], &[f32])| a.iter().zip(b).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum::<f64>();
    let cosines: Vec<f64> =
        ours.iter().zip(theirs.iter()).map(|(a, b)| dot((a, b)) / (dot((a, a)) * dot((b, b))).sqrt()).collect();
    let (worst, least) = cosines.iter().enumerate().min_by(|a, b| a.1.total_cmp(b.1)).expect("a text");
    let mean = cosines.iter().sum::<f64>() / cosines.len() as f64;
    let text: String = texts[worst].chars().take(60).collect();
    println!("{name}: cosine {mean:.6} in the mean, {least:.6} at worst ({text:?})");
}

fn add_lines(path: &Path, lines: &mut Vec<String>) {
    if path.is_dir() {
        let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
        entries.for_each(|entry| add_lines(&entry.path(), lines));
    } else if let Ok(text) = std::fs::read_to_string(path) {
        lines.extend(text.lines().map(str::trim).filter(|line| line.len() > 3).map(str::to_owned));
    }
}
