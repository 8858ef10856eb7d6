//! Two pipelines on the demo's questions: what differs, how sure that is, and which questions changed. Run from the root of the
//! repository: `cargo run --release -p logothete --example compare_pipelines`

use logothete::eval::{compare, read_questions};
use logothete::{Error, ErrorKind, Pipeline, Result};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let file = "demo/questions.jsonl";
    let text =
        std::fs::read_to_string(file).map_err(|error| Error::new(ErrorKind::NotFound, error.to_string()).at(file))?;
    let mut questions = read_questions(&text)?;
    questions.retain(|question| question.split.as_deref() == Some("dev"));

    let both = Pipeline::default();
    let words = Pipeline::default().configured(|config| config.search.vector = 0.0);
    let corpus = both.open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let before = corpus.evaluate("both legs", questions.clone()).await?;
    let after = words.open("harbour.corpus").await?.evaluate("words alone", questions).await?;

    for comparison in compare(&before, &[after]) {
        println!("{} against {}", comparison.name, comparison.baseline);
        for measure in ["hit@3", "ndcg@10", "first_cited"] {
            let difference = &comparison.differences[measure];
            println!(
                "  {measure}: {:.3} to {:.3}, p {:.3}",
                difference.baseline, difference.value, difference.probability
            );
        }
        for changed in comparison.changed.iter().take(3) {
            let [before, after] =
                changed.ranks.map(|rank| rank.map_or("not found".to_owned(), |rank| format!("rank {rank}")));
            println!("  {}: {before} to {after}: {}", changed.id, changed.question);
        }
    }
    Ok(())
}
