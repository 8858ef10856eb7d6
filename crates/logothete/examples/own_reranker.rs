//! A reranker of your own: it gets the best candidates and returns a score for each. This one likes passages with numbers, as a question
//! that asks “how many” does; put a call of your model in its place.
//! Run from the root of the repository: `cargo run --release -p logothete --example own_reranker`

use logothete::search::{Passage, Reranker};
use logothete::{Pipeline, Result, contract};

struct Numbers;

impl Reranker for Numbers {
    fn name(&self) -> &'static str {
        "numbers"
    }

    fn rerank(&self, _question: &str, passages: &[Passage]) -> Result<Vec<f32>> {
        let numbers = |text: &str| text.split_whitespace().filter(|word| word.parse::<f32>().is_ok()).count();
        Ok(passages.iter().map(|passage| passage.score + 0.05 * numbers(&passage.text).min(5) as f32).collect())
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // Thirty candidates are judged, and three are kept. A reranker that needs longer than a second is not waited for.
    let pipeline = Pipeline::default().with_reranker(Numbers).configured(|config| {
        (config.search.rerank.depth, config.search.rerank.seconds) = (30, 1.0);
        config.search.passages = 3;
    });
    let corpus = pipeline.open("reranked.corpus").await?;
    corpus.build("demo/documents").await?;
    let found = corpus.search("How many gross tons is the tug?").await?;
    for passage in &found.passages {
        let before = passage.fused.map_or(0, |fused| fused.rank);
        println!("{}. was {before}: {} ({:.2})", passage.rank, passage.location, passage.score);
    }
    // What a test of your own project would do.
    contract::reranker(&Numbers, "How many gross tons is the tug?", &found.passages)?;
    found.notes.iter().for_each(|note| println!("{note}"));
    Ok(())
}
