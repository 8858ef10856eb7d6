//! What each step of a search costs on a large corpus: legs, fusion, rerankers; and an answer without a model.
//!
//! `steps CHUNKS [CROSS]`: the program builds a corpus of CHUNKS chunks of about a hundred made-up words with an index of tokens, and searches it
//! by several plans. CROSS is a folder with a cross-encoder. The encoder is made up too, so that a build takes minutes: vectors by feature
//! hashing, and for each word a vector of 128 numbers that depends on it and on its neighbours. What the embedded encoder takes for a question
//! is printed last, and comes on top.

use std::time::Instant;

use logothete::vector::{Encoder, Role, TokenEncoder, TokenIndexWriter, Vectors};
use logothete::{BuildRequest, Config, Corpus, Fingerprint, Hashing, Pipeline, Result, SentenceEncoder};
use logothete_bench::median;
use logothete_bench::passages::{WORDS, passages, questions, word, write_documents};

const QUESTIONS: usize = 100;
const TOKEN_DIMENSIONS: usize = 128;

/// Each plan, as lines of `[search]`.
const PLANS: &[(&str, &str)] = &[
    ("as it comes", ""),
    ("keyword leg alone", "vector = 0.0\nrerank = { kind = \"none\" }"),
    ("vector leg alone", "keyword = 0.0\nrerank = { kind = \"none\" }"),
    ("both, without a reranker", "rerank = { kind = \"none\" }"),
    ("reranked by tokens", "rerank = { kind = \"tokens\", depth = 100 }"),
    ("with the leg of tokens", "legs = { tokens = 0.5 }"),
    ("the leg of tokens alone", "keyword = 0.0\nvector = 0.0\nlegs = { tokens = 1.0 }\nrerank = { kind = \"none\" }"),
];

/// An encoder by words alone.
struct Words(Hashing);

impl Words {
    /// Returns a vector that depends on a word alone.
    fn vector(word: &str) -> Vec<f32> {
        let mut state = word
            .bytes()
            .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
        let number = |_| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 40) as f32 / (1 << 23) as f32 - 1.0
        };
        (0..TOKEN_DIMENSIONS).map(number).collect()
    }
}

impl Encoder for Words {
    fn name(&self) -> String {
        "words".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["words"])
    }

    fn dimensions(&self) -> usize {
        self.0.dimensions()
    }

    fn by_token(&self) -> Option<&dyn TokenEncoder> {
        Some(self)
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        self.0.encode(texts, role)
    }
}

impl TokenEncoder for Words {
    fn token_dimensions(&self) -> usize {
        TOKEN_DIMENSIONS
    }

    fn encode_tokens(&self, texts: &[&str], _: Role) -> Result<Vec<Vectors>> {
        let tokens = |text: &&str| {
            let words: Vec<Vec<f32>> = text.split_whitespace().map(Self::vector).collect();
            let mut vectors = Vectors::new(TOKEN_DIMENSIONS);
            for (at, word) in words.iter().enumerate() {
                let (before, after) = (at.checked_sub(1).and_then(|at| words.get(at)), words.get(at + 1));
                let near =
                    |place: usize| before.map_or(0.0, |word| word[place]) + after.map_or(0.0, |word| word[place]);
                let vector: Vec<f32> = word.iter().enumerate().map(|(place, own)| own + 0.4 * near(place)).collect();
                vectors.push(&vector)?;
            }
            Ok(vectors)
        };
        texts.iter().map(tokens).collect()
    }
}

/// Returns the times of searching for each question, in milliseconds, in their order.
async fn times(corpus: &Corpus, questions: &[String]) -> Vec<f64> {
    for question in &questions[..5] {
        corpus.search(question.as_str()).await.expect("a search");
    }
    let mut times = Vec::new();
    for question in questions {
        let since = Instant::now();
        corpus.search(question.as_str()).await.expect("a search");
        times.push(since.elapsed().as_secs_f64() * 1e3);
    }
    times.sort_by(f64::total_cmp);
    times
}

async fn measure(chunks: usize, cross: Option<&str>) {
    let folder = tempfile::tempdir().expect("a folder");
    write_documents(&folder.path().join("docs"), chunks);
    let path = folder.path().join("corpus");
    let open = async |settings: &str| {
        let config = Config::parse(settings).expect("settings");
        let pipeline = Pipeline::from_config(&config).expect("a pipeline");
        pipeline.with_encoder(Words(Hashing::new(384).expect("settings"))).open(&path).await.expect("a corpus")
    };
    let since = Instant::now();
    let corpus = open("[index]\ntokens = 2\n").await;
    let report = corpus.build(BuildRequest::new([folder.path().join("docs")])).await.expect("a build");
    assert!(report.failed.is_empty(), "{:?}", report.failed.first());
    let held = corpus.info().await.expect("facts");
    println!(
        "{} chunks in {} segments built in {:.0} s",
        held.chunks,
        held.segments.len(),
        since.elapsed().as_secs_f64()
    );
    drop(corpus);

    let questions = questions(QUESTIONS, chunks);
    let plans = PLANS.iter().map(|(name, lines)| (*name, (*lines).to_owned(), String::new()));
    let with_cross = cross.map(|folder| {
        let model = format!("[reranker]\nfolder = \"{folder}\"\n");
        ("with the cross-encoder", "rerank = { kind = \"cross\", depth = 40, seconds = 0.25 }".to_owned(), model)
    });
    println!("| plan | median, ms | 95 % below, ms |\n|---|---:|---:|");
    for (name, lines, rest) in plans.chain(with_cross) {
        let settings = format!("[index]\ntokens = 2\n\n[search]\n{lines}\n\n{rest}");
        let corpus = open(&settings).await;
        let times = times(&corpus, &questions).await;
        println!("| {name} | {:.1} | {:.1} |", median(times.clone()), times[times.len() * 95 / 100]);
    }

    let since = Instant::now();
    let corpus = open("[index]\ntokens = 2\n").await;
    corpus.ask(questions[0].as_str()).await.expect("an answer");
    let first = since.elapsed().as_secs_f64() * 1e3;
    let mut answers = Vec::new();
    for question in &questions {
        let since = Instant::now();
        corpus.ask(question.as_str()).await.expect("an answer");
        answers.push(since.elapsed().as_secs_f64() * 1e3);
    }
    answers.sort_by(f64::total_cmp);
    println!(
        "| an answer without a model | {:.1} | {:.1} |",
        median(answers.clone()),
        answers[answers.len() * 95 / 100]
    );
    println!("the first answer of a corpus, opened for it: {first:.1} ms");

    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let encode = |question: &String| {
        let since = Instant::now();
        encoder.encode(&[question.as_str()], Role::Query).expect("a vector");
        since.elapsed().as_secs_f64() * 1e3
    };
    println!("a hundred passages scored by their tokens: {:.1} ms", late_interaction(&questions, chunks));
    println!("a question by the embedded encoder: {:.1} ms", median(questions.iter().map(encode).collect()));
}

/// Returns the milliseconds in which a hundred passages are scored by their tokens, kept in two bits a number.
fn late_interaction(questions: &[String], chunks: usize) -> f64 {
    const SCORED: u32 = 100;
    let words: Vec<String> = (0..WORDS).map(word).collect();
    let encoder = Words(Hashing::new(384).expect("settings"));
    let mut index = TokenIndexWriter::new(TOKEN_DIMENSIONS, 2).expect("settings");
    for text in passages(chunks.min(10 * SCORED as usize), &words, 0) {
        let tokens = encoder.encode_tokens(&[&text], Role::Passage).expect("vectors");
        index.push(&tokens[0]).expect("a row");
    }
    let index = index.index().expect("an index");
    let rows: Vec<u32> = (0..SCORED).map(|at| at * (index.rows() / SCORED).max(1)).collect();
    let score = |question: &String| {
        let query = encoder.encode_tokens(&[question.as_str()], Role::Query).expect("vectors").remove(0);
        let since = Instant::now();
        let scores = index.scores(&query, None, &rows);
        assert_eq!(scores.len(), rows.len());
        since.elapsed().as_secs_f64() * 1e3
    };
    median(questions.iter().map(score).collect())
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let chunks = arguments.first().and_then(|text| text.parse().ok());
    let Some(chunks) = chunks else {
        eprintln!("give a number of chunks, and perhaps the folder of a cross-encoder");
        return;
    };
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    runtime.block_on(measure(chunks, arguments.get(1).map(String::as_str)));
}
