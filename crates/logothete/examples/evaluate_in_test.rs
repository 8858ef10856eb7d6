//! Retrieval that a test of your own project guards: it fails when the documents, the settings or a new version make it worse. Copy the test; here `main`
//! runs it too. Run from the root of the repository: `cargo run --release -p logothete --example evaluate_in_test`

use logothete::eval::{Run, read_questions};
use logothete::{Error, ErrorKind, Pipeline, Result};

/// What must not be fallen below. Values of today, less what chance may take.
const FLOORS: [(&str, f64); 2] = [("hit@3", 0.85), ("right", 0.70)];

/// Asks the questions of the project.
async fn measured() -> Result<Run> {
    let corpus = Pipeline::default().in_memory().await?;
    corpus.build("demo/documents").await?;
    let file = "demo/questions-dev.jsonl";
    let text =
        std::fs::read_to_string(file).map_err(|error| Error::new(ErrorKind::NotFound, error.to_string()).at(file))?;
    corpus.evaluate("the test", read_questions(&text)?).await
}

/// Panics, as an assertion does, and names the questions that failed.
fn assert_floors(run: &Run) {
    for (measure, floor) in FLOORS {
        let value = run.metrics.get(measure).copied().unwrap_or_default();
        let wrong: Vec<&str> = run
            .per_question
            .iter()
            .filter(|one| one.metrics.get(measure) == Some(&0.0))
            .map(|one| one.id.as_str())
            .collect();
        assert!(value >= floor, "{measure} is {value:.3}, and must be {floor}; wrong: {}", wrong.join(", "));
        println!("{measure} {value:.3} of at least {floor}, {} questions wrong", wrong.len());
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    assert_floors(&measured().await?);
    Ok(())
}

#[cfg(test)]
mod tests {
    #[tokio::test]
    async fn answers_are_as_good_as_they_were() {
        super::assert_floors(&super::measured().await.expect("a run"));
    }
}
