//! Evaluates two settings on one question set.

use logothete::config::Strategy;
use logothete::eval::read_questions;
use logothete::{MemorySource, Pipeline, Result};

const QUESTIONS: &str = r#"
{"id": "q1", "question": "How deep is Berth 7?", "relevant": [{"document": "berths.md", "section": "Berth 7"}], "answer": "8.4 metres"}
{"id": "q2", "question": "When does the bridge open?", "relevant": [{"document": "bridge.md"}], "answer": "on the hour"}
{"id": "q3", "question": "Who painted the lighthouse?", "refuse": true}
"#;

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let source = MemorySource::new("harbour")
        .with(
            "berths.md",
            "# Berths\n\n## Berth 7\n\nBerth 7 is 8.4 metres deep.\n\n## Berth 8\n\nBerth 8 is 9.1 metres deep.\n",
        )
        .with("bridge.md", "# Bridge\n\nThe swing bridge opens on the hour from May to September.\n");
    for strategy in [Strategy::Structure, Strategy::Whole] {
        let pipeline = Pipeline::default().configured(|config| config.chunk.strategy = strategy);
        let corpus = pipeline.in_memory().await?;
        let report = corpus.build(source.clone()).await?;
        let run = corpus.evaluate(strategy.name(), read_questions(QUESTIONS)?).await?;
        println!("{}: {report}", run.name);
        for (measure, value) in &run.metrics {
            println!("  {measure}: {value:.3}");
        }
    }
    Ok(())
}
