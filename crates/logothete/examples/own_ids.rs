//! Chunks under ids of your own, in memory: put, found by a filter, replaced, removed.

use logothete::search::Filter;
use logothete::{OwnChunk, Pipeline, SearchRequest};

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    let corpus = Pipeline::default().in_memory().await?;
    let rules = [
        ("rule-1", 2023, "Lines are doubled when the wind is above force seven."),
        ("rule-2", 2025, "Fenders are hung out before a tug comes alongside."),
        ("rule-3", 2025, "Nobody stands inside the bight of a line."),
    ];
    let chunk = |(id, year, text): (&str, i32, &str)| OwnChunk::new(id, text).metadata("year", year);
    corpus.upsert(rules.map(chunk)).await?;

    let recent = Filter::field("year").at_least(2025);
    let found = corpus.search(SearchRequest::new("what to do with lines").filter(recent)).await?;
    for passage in &found.passages {
        println!("{:.2}  {}  {}", passage.score, passage.chunk, passage.text);
    }

    // The same id again replaces it.
    corpus.upsert([chunk(("rule-3", 2026, "Nobody stands near a line under strain."))]).await?;
    println!("{}", corpus.ask("Who stands near a line under strain?").await?);
    corpus.remove_chunk("rule-3").await?;
    println!("{} chunks are left", corpus.info().await?.chunks);
    Ok(())
}
