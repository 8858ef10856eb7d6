//! How fast the embedded encoder is beside a general runtime for neural networks, on two threads, interleaved; and how near
//! to the most that the processor's multiplications would allow.
//!
//! `encoder FOLDER [PEER…]`: FOLDER holds documents, and optionally `questions*.jsonl`; PEER is the command that starts the
//! peer, such as `python bench/reference/runtime.py MODEL.onnx 2`.

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::Instant;

use logothete::{Pipeline, chunk};
use logothete_bench::{files, median};
use logothete_core::vector::{Encoder, Role};
use logothete_encoder::SentenceEncoder;
use logothete_encoder::internals::Kernel;

const THREADS: usize = 2;
/// How often each is measured.
const REPEATS: usize = 7;
/// How many texts of one length.
const FIXED: usize = 400;
/// How long they are, in tokens.
const LENGTH: usize = 128;
/// Products of a token in the layers' matrices: six layers, four of 384 by 384 and two of 384 by 1536.
const PRODUCTS: u64 = 6 * (4 * 384 * 384 + 2 * 384 * 1536);

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, peer @ ..] = arguments.as_slice() else {
        eprintln!("give a folder of documents, and the command of a peer if there is one");
        std::process::exit(2);
    };
    rayon::ThreadPoolBuilder::new().num_threads(THREADS).build_global().expect("threads");
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let mix = mix(folder);
    let fixed = fixed(&encoder, &mix);
    let sets = [("128 tokens each", fixed), ("chunks and questions", mix)];
    let tokens: Vec<Vec<Vec<u32>>> = sets.iter().map(|(_, texts)| tokens(&encoder, texts)).collect();
    let mut peer = Peer::start(peer, &tokens);
    println!("{} threads, {}, peer {}", THREADS, encoder.kernel().name(), peer.as_ref().map_or("none", |p| &p.version));

    let mut runs: Vec<Vec<Run>> = sets.iter().map(|_| Vec::new()).collect();
    for _ in 0..REPEATS {
        for (index, (_, texts)) in sets.iter().enumerate() {
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            // The machine's speed changes from moment to moment, so that the peak is taken on both sides.
            let before = peak(encoder.kernel());
            let since = Instant::now();
            assert_eq!(encoder.encode(&texts, Role::Passage).expect("vectors").len(), texts.len());
            let ours = since.elapsed().as_secs_f64();
            let peak = f64::midpoint(before, peak(encoder.kernel()));
            runs[index].push(Run { ours, theirs: peer.as_mut().map(|peer| peer.run(index)), peak });
        }
    }
    println!("| texts | number | tokens | texts/s | tokens/s | peak | of the peak | peer, texts/s | times the peer |");
    println!("|---|---:|---:|---:|---:|---:|---:|---:|---:|");
    for (((name, texts), tokens), runs) in sets.iter().zip(&tokens).zip(runs) {
        let count = tokens.iter().map(Vec::len).sum::<usize>() as f64;
        let middle = |of: &dyn Fn(&Run) -> f64| median(runs.iter().map(of).collect());
        let time = middle(&|run| run.ours);
        let theirs = runs[0].theirs.map(|_| {
            let theirs = |run: &Run| run.theirs.unwrap_or(f64::NAN);
            let times = middle(&|run| theirs(run) / run.ours);
            format!("{:.0} | {times:.1}", texts.len() as f64 / middle(&theirs))
        });
        println!(
            "| {name} | {} | {count} | {:.0} | {:.0} | {:.0} | {:.0} % | {} |",
            texts.len(),
            texts.len() as f64 / time,
            count / time,
            middle(&|run| run.peak / 1e9),
            middle(&|run| count * PRODUCTS as f64 / run.ours / run.peak * 100.0),
            theirs.as_deref().unwrap_or("– | –"),
        );
    }
    println!("peak: thousand millions of 8-bit multiply-adds a second in registers, on both threads together");
}

/// What was measured one after the other.
struct Run {
    ours: f64,
    theirs: Option<f64>,
    peak: f64,
}

/// The chunks of a folder's documents as they are indexed, and its questions.
fn mix(folder: &str) -> Vec<String> {
    let pipeline = Pipeline::default();
    let chunker = pipeline.chunker().expect("the default chunker");
    let mut texts = Vec::new();
    for name in files(folder.as_ref()) {
        let Ok(bytes) = std::fs::read(&name) else { continue };
        let file = name.to_string_lossy().into_owned();
        if file.ends_with(".jsonl") {
            let lines = String::from_utf8_lossy(&bytes).into_owned();
            let questions = lines.lines().filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok());
            texts.extend(questions.filter_map(|line| line["question"].as_str().map(str::to_owned)));
        } else if let Ok(document) = pipeline.parse(&file, bytes)
            && let Ok(chunks) = chunk::chunks(&document, &file, &*chunker)
        {
            texts.extend(chunks.iter().map(chunk::Chunk::indexed_text));
        }
    }
    texts
}

/// Texts of one length, from the words of others.
fn fixed(encoder: &SentenceEncoder, texts: &[String]) -> Vec<String> {
    let mut words = texts.iter().flat_map(|text| text.split_whitespace()).cycle();
    let mut made = Vec::new();
    while made.len() < FIXED {
        let (mut text, mut length) = (String::new(), 2);
        while let Some(word) = (length < LENGTH).then(|| words.next()).flatten() {
            let more = encoder.count_tokens(word);
            if length + more <= LENGTH {
                text.push_str(word);
                text.push(' ');
                length += more;
            }
        }
        made.push(text);
    }
    made
}

fn tokens(encoder: &SentenceEncoder, texts: &[String]) -> Vec<Vec<u32>> {
    texts.iter().map(|text| encoder.tokens(text, Role::Passage).expect("tokens").ids).collect()
}

/// Multiply-adds of bytes a second, on all threads together.
fn peak(kernel: Kernel) -> f64 {
    // A quarter of a second: long enough for the processor to settle at the speed that it can keep up.
    const ROUNDS: usize = 35_000_000;
    let since = Instant::now();
    let counts = rayon::broadcast(|thread| {
        let (count, spun) = kernel.spin(ROUNDS, std::hint::black_box(thread.index() as i32 + 3));
        std::hint::black_box(spun);
        count
    });
    counts.iter().sum::<u64>() as f64 / since.elapsed().as_secs_f64()
}

/// Another program that encodes the same.
struct Peer {
    version: String,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    child: Child,
}

impl Peer {
    fn start(command: &[String], sets: &[Vec<Vec<u32>>]) -> Option<Self> {
        let (program, arguments) = command.split_first()?;
        let mut child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("the peer starts");
        let mut input = child.stdin.take().expect("its input");
        let mut output = BufReader::new(child.stdout.take().expect("its output"));
        writeln!(input, "{}", serde_json::to_string(sets).expect("JSON")).expect("the peer reads");
        let mut version = String::new();
        output.read_line(&mut version).expect("the peer answers");
        Some(Self { version: version.trim().to_owned(), input, output, child })
    }

    fn run(&mut self, set: usize) -> f64 {
        writeln!(self.input, "{set}").expect("the peer reads");
        let mut line = String::new();
        self.output.read_line(&mut line).expect("the peer answers");
        line.trim().parse().expect("seconds")
    }
}

impl Drop for Peer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
