//! The retrieval scores of each way of cutting, on the demo's dev questions. See `docs/guide/chunking.md`.
//!
//! `strategies [SETTING…]`: a setting is `STRATEGY`, `STRATEGY:LIMIT` or `STRATEGY:LIMIT:OVERLAP`, in words; with none, all
//! strategies with their defaults. Run from the root of the repository.

use logothete::chunk::Review;
use logothete::measure::{SetQuestion, read_questions};
use logothete::{ChunkConfig, Pipeline, Result, Strategy};

/// Every strategy, and the default one with another limit.
const ALL: [&str; 11] = [
    "structure",
    "structure:80",
    "structure:300",
    "sentences",
    "separators",
    "window",
    "pages",
    "marked",
    "rows",
    "whole",
    "topics",
];
/// What marks a line: the headings of the byelaws. Other documents have no such lines.
const MARKER: &str = "Article *";

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let settings = if arguments.is_empty() { ALL.map(str::to_owned).to_vec() } else { arguments };
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    let questions = read("demo/questions.jsonl")?;
    println!("| setting | chunks | median words | cut a sentence | recall@5 | nDCG@10 | cited | said | refused |");
    println!("|---|---:|---:|---:|---:|---:|---:|---:|---:|");
    for written in settings {
        let row = runtime.block_on(measure(&written, questions.clone()))?;
        println!("| {written} | {row} |");
    }
    Ok(())
}

/// The questions to tune on.
fn read(file: &str) -> Result<Vec<SetQuestion>> {
    let text = std::fs::read_to_string(file).expect("run this from the root of the repository");
    let mut questions = read_questions(&text)?;
    questions.retain(|question| question.split.as_deref() == Some("dev"));
    Ok(questions)
}

/// Builds the demo with a setting, and asks.
async fn measure(written: &str, questions: Vec<SetQuestion>) -> Result<String> {
    let mut parts = written.split(':');
    let strategy = Strategy::named(parts.next().unwrap_or_default())?;
    let mut config = ChunkConfig { strategy, marker: MARKER.to_owned(), ..ChunkConfig::default() };
    config.limit = parts.next().and_then(|part| part.parse().ok());
    config.overlap = parts.next().and_then(|part| part.parse().ok());
    let pipeline = Pipeline::default().with_chunk_config(config);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let mut corpus = pipeline.open(folder.path()).await?;
    corpus.build("demo/documents").await?;
    let run = corpus.evaluate(written, questions).await?;
    let mut review = Review::default();
    let chunker = pipeline.chunker()?;
    for file in logothete::FolderSource::new("demo/documents")?.walk().flatten() {
        let Ok(document) = pipeline.parse(&file.path, std::fs::read(&file.place).unwrap_or_default()) else { continue };
        pipeline.review(&mut review, &logothete::chunk::chunks(&document, &file.path, &*chunker)?);
    }
    let value = |name: &str| run.metrics.get(name).copied().unwrap_or(f64::NAN);
    Ok(format!(
        "{} | {} | {:.0} % | {:.3} | {:.3} | {:.2} | {:.2} | {:.2}",
        review.chunks,
        review.spread().median,
        review.cut_share() * 100.0,
        value("recall@5"),
        value("ndcg@10"),
        value("cited"),
        value("said"),
        value("refused"),
    ))
}
