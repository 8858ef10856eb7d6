//! The retrieval scores of each way of cutting, on the demo's dev questions.

use std::path::Path;

use logothete::chunk::{Review, chunks};
use logothete::config::{Ocr, Strategy};
use logothete::eval::{SetQuestion, read_questions};
use logothete::{Config, FolderSource, Pipeline, Result};

/// What marks a line: the headings of the byelaws. Other documents have no such lines.
const MARKER: &str = "Article *";

/// The head of the table.
pub const HEAD: &str =
    "| setting | chunks | median words | cut a sentence | recall@5 | nDCG@10 | cited | said | refused |
|---|---:|---:|---:|---:|---:|---:|---:|---:|";

/// The questions to tune on, from the demo's folder.
///
/// # Errors
/// If they cannot be read.
pub fn dev_questions(demo: &Path) -> Result<Vec<SetQuestion>> {
    let text = std::fs::read_to_string(demo.join("questions.jsonl")).unwrap_or_default();
    let mut questions = read_questions(&text)?;
    questions.retain(|question| question.split.as_deref() == Some("dev"));
    Ok(questions)
}

/// Builds the demo with a setting, `STRATEGY`, `STRATEGY:LIMIT` or `STRATEGY:LIMIT:OVERLAP` in words, and asks; returns a
/// row of the table. Pages that are pictures are not recognised: the outcome is the same on every machine.
///
/// # Errors
/// If the setting makes no sense.
pub async fn row(written: &str, demo: &Path, questions: Vec<SetQuestion>) -> Result<String> {
    let mut parts = written.split(':');
    let mut config = Config::default();
    config.parse.ocr = Ocr::Off;
    config.chunk.strategy = Strategy::named(parts.next().unwrap_or_default())?;
    config.chunk.marker = MARKER.to_owned();
    config.chunk.limit = parts.next().and_then(|part| part.parse().ok());
    config.chunk.overlap = parts.next().and_then(|part| part.parse().ok());
    let pipeline = Pipeline::from_config(&config)?;
    let folder = tempfile::tempdir().expect("a temporary folder");
    let documents = demo.join("documents");
    let corpus = pipeline.open(folder.path()).await?;
    corpus.build(&documents).await?;
    let run = corpus.evaluate(written, questions).await?;
    let mut review = Review::default();
    let (encoder, chunker) = (pipeline.encoder()?, pipeline.chunker()?);
    for item in FolderSource::new(&documents)?.walk().flatten() {
        let bytes = std::fs::read(&item.place).unwrap_or_default();
        let Ok(document) = pipeline.parse(&item.path, bytes) else { continue };
        let chunks = chunks(&document, &item.path, &*chunker)?;
        Pipeline::review(&mut review, &document, &chunks, &*chunker, &*encoder);
    }
    let value = |name: &str| run.metrics.get(name).copied().unwrap_or(f64::NAN);
    Ok(format!(
        "| {written} | {} | {} | {:.0} % | {:.3} | {:.3} | {:.2} | {:.2} | {:.2} |",
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Some rows of the guide's table are made again.
    #[test]
    fn the_guide_shows_what_is_measured() {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
        let guide = std::fs::read_to_string(root.join("docs/guide/chunking.md")).expect("the guide");
        assert!(guide.contains(HEAD));
        let demo = root.join("demo");
        let questions = dev_questions(&demo).expect("questions");
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        for setting in ["structure", "window", "whole"] {
            let row = runtime.block_on(row(setting, &demo, questions.clone())).expect("a row");
            assert!(guide.contains(&row), "{row}");
        }
    }
}
